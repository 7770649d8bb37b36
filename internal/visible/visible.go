// Package visible shows text of others. Names, notes and what other sites say may hold what a
// terminal takes for commands, or what turns the direction of text.
package visible

import (
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Commands reports whether a reader may act on a character instead of showing it: controls (C0,
// C1), bidirectional controls (Unicode 15, Bidi_Control), and separators of lines.
func Commands(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029'
}

// Text is a text whose every character shows: what commands, or is no UTF-8, as \x.. or <U+....>.
func Text(s string) string {
	plain := func(r rune) bool { return r == utf8.RuneError || r != '\n' && r != '\t' && Commands(r) }
	if strings.IndexFunc(s, plain) < 0 {
		return s
	}
	var out strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && n == 1:
			out.WriteString(escaped(rune(s[0])))
		case r == '\n' || r == '\t' || !Commands(r):
			out.WriteString(s[:n])
		default:
			out.WriteString(escaped(r))
		}
		s = s[n:]
	}
	return out.String()
}

// Line is Text in one line.
func Line(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' {
			return ' '
		}
		return r
	}, Text(strings.ReplaceAll(s, "\r", " ")))
}

// Writer writes Text, however what it is given is cut.
type Writer struct {
	W    io.Writer
	part []byte // of a character that is not whole yet
}

// Write is io.Writer.
func (s *Writer) Write(b []byte) (int, error) {
	text := append(s.part, b...)
	whole := len(text)
	for i := 1; i <= min(utf8.UTFMax, len(text)); i++ {
		if utf8.RuneStart(text[len(text)-i]) {
			if !utf8.FullRune(text[len(text)-i:]) {
				whole -= i
			}
			break
		}
	}
	out := Text(string(text[:whole]))
	s.part = append([]byte(nil), text[whole:]...)
	if _, err := io.WriteString(s.W, out); err != nil {
		return 0, err
	}
	return len(b), nil
}

// Word is a word for a shell that stands for just this text, for commands that are to be copied:
// names of files are chosen by others.
func Word(s string) string {
	other := func(r rune) bool {
		return !unicode.In(r, unicode.L, unicode.M, unicode.N) && !strings.ContainsRune("/._-+,:@%", r)
	}
	if s != "" && s[0] != '-' && strings.IndexFunc(s, other) < 0 {
		return s
	}
	if strings.HasPrefix(s, "-") { // which would be an option
		s = "./" + s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// JSON writes the characters that command, which in JSON stand within strings alone, as \u....
// there; what is read from it is the same.
func JSON(raw []byte) []byte {
	out := make([]byte, 0, len(raw))
	for len(raw) > 0 {
		r, n := utf8.DecodeRune(raw)
		if r >= 0x7f && Commands(r) {
			out = append(out, '\\', 'u', digits[r>>12&15], digits[r>>8&15], digits[r>>4&15], digits[r&15])
		} else {
			out = append(out, raw[:n]...)
		}
		raw = raw[n:]
	}
	return out
}

const digits = "0123456789abcdef"

func escaped(r rune) string {
	if r < 0x100 {
		return `\x` + string(digits[r>>4]) + string(digits[r&15])
	}
	return "<U+" + strings.ToUpper(string([]byte{digits[r>>12&15], digits[r>>8&15], digits[r>>4&15], digits[r&15]})) + ">"
}
