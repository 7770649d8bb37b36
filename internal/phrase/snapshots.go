package phrase

import (
	"strings"
)

// Printable writes bytes of a path as UTF-8; what is not is written as %XX.
func Printable(b []byte) string {
	var out strings.Builder
	for _, r := range splitRunes(b) {
		out.WriteString(r)
	}
	return out.String()
}
