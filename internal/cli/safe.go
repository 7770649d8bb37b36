package cli

import (
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// safe writes text for people. Names, notes and what other sites say may hold what a terminal
// takes for commands, or what turns the direction of text: it shows as \x.. or <U+....>.
type safe struct {
	w    io.Writer
	part []byte // of a character that is not whole yet
}

// Write is io.Writer.
func (s *safe) Write(b []byte) (int, error) {
	text := append(s.part, b...)
	var out strings.Builder
	for len(text) > 0 {
		if !utf8.FullRune(text) {
			break
		}
		r, n := utf8.DecodeRune(text)
		switch {
		case r == utf8.RuneError && n == 1:
			out.WriteString(escaped(rune(text[0])))
		case r == '\n' || r == '\t' || !commands(r):
			out.Write(text[:n])
		default:
			out.WriteString(escaped(r))
		}
		text = text[n:]
	}
	s.part = append([]byte(nil), text...)
	if _, err := io.WriteString(s.w, out.String()); err != nil {
		return 0, err
	}
	return len(b), nil
}

// commands reports whether a terminal may act on a character instead of showing it.
func commands(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029'
}

func escaped(r rune) string {
	const digits = "0123456789abcdef"
	if r < 0x100 {
		return `\x` + string(digits[r>>4]) + string(digits[r&15])
	}
	return "<U+" + strings.ToUpper(string([]byte{digits[r>>12&15], digits[r>>8&15], digits[r>>4&15], digits[r&15]})) + ">"
}

// oneLine is text that stays within its cell of a table, or its line.
func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || r == '\r' {
			return ' '
		}
		return r
	}, text)
}
