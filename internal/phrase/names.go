package phrase

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"candidharbor/internal/moment"
	"candidharbor/internal/visible"
)

// splitRunes writes each character of a name as UTF-8. Bytes that are none, control characters
// (also those that turn the direction of text), the mark of moments in sentences and the percent
// sign itself are written as %XX, so that every name has one plain form that shows all of it.
func splitRunes(b []byte) []string {
	var out []string
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		if (r == utf8.RuneError && n == 1) || visible.Commands(r) || r == '%' || string(r) == moment.Mark {
			for _, c := range b[:n] {
				out = append(out, fmt.Sprintf("%%%02X", c))
			}
			b = b[n:]
			continue
		}
		out = append(out, string(b[:n]))
		b = b[n:]
	}
	return out
}

// RawPath turns the plain form of a path back into its bytes. A percent sign that no
// two hexadecimal digits follow stands for itself.
func RawPath(s string) string {
	if !strings.Contains(s, "%") {
		return s
	}
	var out strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '%' && i+2 < len(s) {
			if v, err := strconv.ParseUint(s[i+1:i+3], 16, 8); err == nil {
				out.WriteByte(byte(v))
				i += 2
				continue
			}
		}
		out.WriteByte(s[i])
	}
	return out.String()
}

// Many writes a count with its noun.
func Many(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Counted is a count and of what.
type Counted struct {
	N    int64
	What string
}

// CountWords lists the counts that are not 0.
func CountWords(counts []Counted) string {
	var parts []string
	for _, c := range counts {
		if c.N > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", c.N, c.What))
		}
	}
	if len(parts) == 0 {
		return "nothing to do"
	}
	return strings.Join(parts, ", ")
}

// Printable writes bytes of a path as UTF-8; what is not is written as %XX.
func Printable(b []byte) string {
	var out strings.Builder
	for _, r := range splitRunes(b) {
		out.WriteString(r)
	}
	return out.String()
}

// Names lists names, the first of many by name.
func Names(names []string, most int) string {
	if len(names) == 1 {
		return names[0]
	}
	if len(names) <= most+1 {
		return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}
