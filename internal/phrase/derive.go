package phrase

import (
	"strings"

	"candidharbor/core/object"
)

// PartWords says which part of a volume a snapshot is; empty: all of it.
func PartWords(d *object.Derived) string {
	if d == nil {
		return ""
	}
	words := "only " + strings.Join(d.In, ", ")
	if len(d.In) == 0 {
		words = "all"
	}
	if len(d.Out) > 0 {
		words += " but " + strings.Join(d.Out, ", ")
	}
	return words
}
