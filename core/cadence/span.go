package cadence

import "time"

// Span is a part of every week: a window in the day, some weekdays, or both.
type Span struct {
	window *window
	days   weekdays
}

// ParseSpan reads words such as "between 07:00 and 19:00 on mon-fri", "on sat,sun", or none
// for the whole week.
func ParseSpan(words string) (Span, error) {
	p := &parser{phrase: words, toks: tokenize(words)}
	c := &Cadence{form: every, zone: time.UTC}
	for _, tok := range p.toks {
		if tok.text == "in" {
			return Span{}, &PhraseError{Phrase: words, Column: tok.col, Word: tok.text,
				Want: "between or on: the zone is that of the whole calendar"}
		}
	}
	if err := p.tail(c); err != nil {
		return Span{}, err
	}
	return Span{c.window, c.days}, nil
}

// Holds reports whether a wall clock time lies in the span. The end of a window is outside.
func (s Span) Holds(t time.Time) bool {
	if !s.days.holds(t.Weekday()) {
		return false
	}
	if s.window == nil {
		return true
	}
	at := wallOf(t)
	if s.window.from <= s.window.to {
		return at >= s.window.from && at < s.window.to
	}
	return at >= s.window.from || at < s.window.to
}

// Whole reports whether the span is the whole week.
func (s Span) Whole() bool { return s.window == nil && s.days == 0 }

// String writes the words that ParseSpan reads.
func (s Span) String() string {
	out := ""
	if s.window != nil {
		out = "between " + s.window.from.String() + " and " + s.window.to.String()
	}
	if s.days != 0 {
		if out != "" {
			out += " "
		}
		out += "on " + s.days.String()
	}
	return out
}
