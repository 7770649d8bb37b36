package rules

import (
	"context"
)

// MarksAreCompared says that the catalogue was compared with the marks in the store, or why not.
func (s *Service) MarksAreCompared(err error) {
	s.marksError = err
	close(s.marksCompared)
}

// WhenMarksAgree waits until the catalogue was compared with the marks in the store.
func (s *Service) WhenMarksAgree(ctx context.Context) error {
	select {
	case <-s.marksCompared:
		return s.marksError
	case <-ctx.Done():
		return ctx.Err()
	}
}
