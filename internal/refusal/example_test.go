package refusal_test

import (
	"errors"
	"fmt"

	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
)

func ExampleClassOf() {
	err := refusal.Conflictf("volume %s is in a group: take it out first", "letters")
	fmt.Println(err, refusal.ClassOf(err) == refusal.Conflict)

	// The class of an error that is wrapped is kept, and errors of packages below have theirs.
	fmt.Println(refusal.ClassOf(fmt.Errorf("it could not begin: %w", err)) == refusal.Conflict)
	fmt.Println(refusal.ClassOf(fmt.Errorf("volume %q: %w", "letters", catalog.ErrNone)) == refusal.Missing)
	fmt.Println(refusal.ClassOf(errors.New("input/output error")) == refusal.Internal)
	// Output:
	// volume letters is in a group: take it out first true
	// true
	// true
	// true
}
