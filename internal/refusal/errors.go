// Package refusal has the errors that go to the caller, each with a class that gives its HTTP status and exit code.
package refusal

import (
	"errors"
	"fmt"

	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"
)

// Class gives an error its HTTP status and exit code.
type Class int

// The classes of errors.
const (
	Internal  Class = iota
	Misuse          // the request cannot be carried out as it is
	Missing         // what it names does not exist
	Conflict        // it does not fit the present state
	Full            // no room
	Elsewhere       // another site failed or refused
	Refused         // who asks is not who was said, or may not
	Busy            // tried too often
)

// Error is an error with a class.
type Error struct {
	Class Class
	Err   error
}

func (e *Error) Error() string { return e.Err.Error() }

func (e *Error) Unwrap() error { return e.Err }

// Wrap gives an error a class.
func Wrap(class Class, err error) error { return &Error{class, err} }

// Badf is the error of what cannot be carried out as it is.
func Badf(format string, args ...any) error { return &Error{Misuse, fmt.Errorf(format, args...)} }

// Conflictf is the error of what does not fit the present state.
func Conflictf(format string, args ...any) error {
	return &Error{Conflict, fmt.Errorf(format, args...)}
}

// Missingf is the error of what names something that does not exist.
func Missingf(format string, args ...any) error { return &Error{Missing, fmt.Errorf(format, args...)} }

// ClassOf tells an error's class.
func ClassOf(err error) Class {
	var e *Error
	var full *store.FullError
	switch {
	case errors.As(err, &e):
		return e.Class
	case errors.Is(err, catalog.ErrNone), errors.Is(err, store.ErrNoObject), errors.Is(err, tree.ErrNoPath):
		return Missing
	case errors.Is(err, catalog.ErrCursor):
		return Misuse
	case errors.Is(err, beneath.ErrLink):
		return Conflict
	case errors.As(err, &full):
		return Full
	}
	return Internal
}
