package cadence

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones must not depend on the host
)

// PhraseError points at the word that was not understood.
type PhraseError struct {
	Phrase string
	Word   string // empty: the phrase ended too early
	Column int    // of the word, from 1
	Want   string
}

func (e *PhraseError) Error() string {
	if e.Word == "" {
		return fmt.Sprintf("cadence %q ends too early: expected %s", e.Phrase, e.Want)
	}
	return fmt.Sprintf("cadence %q: at %q (character %d) expected %s", e.Phrase, e.Word, e.Column, e.Want)
}

type token struct {
	text string
	col  int
}

type parser struct {
	phrase string
	toks   []token
	pos    int
}

func tokenize(s string) (toks []token) {
	for i := 0; i < len(s); {
		switch c := s[i]; {
		case c == ' ' || c == '\t':
			i++
		case c == ',':
			toks = append(toks, token{",", i + 1})
			i++
		default:
			j := i
			for j < len(s) && s[j] != ' ' && s[j] != '\t' && s[j] != ',' {
				j++
			}
			toks = append(toks, token{s[i:j], i + 1})
			i = j
		}
	}
	return toks
}

func (p *parser) peek() string {
	if p.pos < len(p.toks) {
		return strings.ToLower(p.toks[p.pos].text)
	}
	return ""
}

func (p *parser) next() string {
	w := p.peek()
	p.pos++
	return w
}

func (p *parser) accept(word string) bool {
	if p.peek() == word {
		p.pos++
		return true
	}
	return false
}

// fail reports the word before the current position.
func (p *parser) fail(want string) error {
	e := &PhraseError{Phrase: p.phrase, Want: want}
	if i := p.pos - 1; i < len(p.toks) {
		e.Word, e.Column = p.toks[i].text, p.toks[i].col
	}
	return e
}

func (p *parser) expect(word string) error {
	if p.next() != word {
		return p.fail(strconv.Quote(word))
	}
	return nil
}

// Parse reads a phrase; zone is used when the phrase names none.
func Parse(phrase string, zone *time.Location) (*Cadence, error) {
	if isRule(phrase) {
		return parseRule(phrase, zone)
	}
	p := &parser{phrase: phrase, toks: tokenize(phrase)}
	c := &Cadence{zone: zone}
	var err error
	switch p.next() {
	case "every":
		err = p.every(c)
	case "hourly":
		c.form = hourly
		err = p.hourly(c)
	case "daily":
		c.form = daily
		if err = p.expect("at"); err == nil {
			c.times, err = p.times()
		}
	case "weekly":
		c.form = weekly
		if err = p.expect("on"); err == nil {
			if c.days, err = p.weekdays(); err == nil {
				if err = p.expect("at"); err == nil {
					c.times, err = p.times()
				}
			}
		}
	case "monthly":
		c.form = monthly
		err = p.monthly(c)
	case "yearly":
		c.form = yearly
		if err = p.expect("on"); err == nil {
			if err = p.dayOfYear(&c.monthDay, &c.month); err == nil {
				if err = p.expect("at"); err == nil {
					c.times, err = p.times()
				}
			}
		}
	case "on":
		err = p.onChange(c)
	case "at":
		c.form = atStart
		if err = p.expect("service"); err == nil {
			err = p.expect("start")
		}
		if err == nil && p.pos < len(p.toks) {
			p.pos++
			err = p.fail("the end")
		}
		return c, err
	default:
		err = p.fail("every, hourly, daily, weekly, monthly, yearly, on change, at service start, or a line that begins " +
			"with RRULE:")
	}
	if err != nil {
		return nil, err
	}
	if err := p.tail(c); err != nil {
		return nil, err
	}
	if _, ok := c.Next(time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)); !ok {
		return nil, fmt.Errorf("cadence %q never comes due: no instant is in its window and on its days", phrase)
	}
	return c, nil
}

func (p *parser) every(c *Cadence) error {
	c.form = every
	n := 1
	word := p.next()
	if v, err := strconv.Atoi(word); err == nil {
		n, word = v, p.next()
	}
	unit, limit := time.Minute, 24*60
	switch word {
	case "minute", "minutes":
	case "hour", "hours":
		unit, limit = time.Hour, 24
	default:
		return p.fail("a number and minutes or hours")
	}
	if n < 1 || n > limit {
		return fmt.Errorf("cadence %q: %d %s is out of range, 1 to %d are possible", p.phrase, n, word, limit)
	}
	c.interval = time.Duration(n) * unit
	return nil
}

// onChange reads "change", and in any order "rest 2 minutes" and "at most every 10
// minutes". Documents from before the word was rest say settle.
func (p *parser) onChange(c *Cadence) error {
	c.form, c.rest, c.interval = onChange, time.Minute, 10*time.Minute
	if err := p.expect("change"); err != nil {
		return err
	}
	for p.accept(",") {
		var into *time.Duration
		switch p.next() {
		case "rest", "settle":
			into = &c.rest
		case "at":
			if err := p.expect("most"); err != nil {
				return err
			}
			if err := p.expect("every"); err != nil {
				return err
			}
			into = &c.interval
		default:
			return p.fail("rest or at most every")
		}
		d, err := p.duration()
		if err != nil {
			return err
		}
		*into = d
	}
	return nil
}

// duration reads a number of minutes or hours, up to a day.
func (p *parser) duration() (time.Duration, error) {
	n, err := strconv.Atoi(p.next())
	if err != nil || n < 1 || n > 24*60 {
		return 0, p.fail("a number of minutes or hours")
	}
	switch strings.TrimSuffix(p.next(), "s") {
	case "minute":
		return time.Duration(n) * time.Minute, nil
	case "hour":
		if n <= 24 {
			return time.Duration(n) * time.Hour, nil
		}
	}
	return 0, p.fail("minutes or hours, up to a day")
}

func (p *parser) hourly(c *Cadence) error {
	if err := p.expect("at"); err != nil {
		return err
	}
	w := p.next()
	n, err := strconv.Atoi(strings.TrimPrefix(w, ":"))
	if err != nil || !strings.HasPrefix(w, ":") || len(w) != 3 || n < 0 || n > 59 {
		return p.fail("minutes past the hour such as :20")
	}
	c.minute = n
	return nil
}

func (p *parser) monthly(c *Cadence) error {
	if err := p.expect("on"); err != nil {
		return err
	}
	if err := p.dayOfMonth(&c.monthDay); err != nil {
		return err
	}
	if err := p.expect("at"); err != nil {
		return err
	}
	var err error
	c.times, err = p.times()
	return err
}

func (p *parser) timeOfDay() (TimeOfDay, error) {
	w := p.next()
	h, m, ok := strings.Cut(w, ":")
	hh, err1 := strconv.Atoi(h)
	mm, err2 := strconv.Atoi(m)
	if !ok || err1 != nil || err2 != nil || len(h) != 2 || len(m) != 2 || hh < 0 || hh > 23 || mm < 0 || mm > 59 {
		return 0, p.fail("a time such as 23:30")
	}
	return TimeOfDay(hh*60 + mm), nil
}

func (p *parser) times() ([]TimeOfDay, error) {
	var ts []TimeOfDay
	for {
		t, err := p.timeOfDay()
		if err != nil {
			return nil, err
		}
		ts = append(ts, t)
		if !p.accept(",") {
			slices.Sort(ts)
			return slices.Compact(ts), nil
		}
	}
}

func weekday(w string) (time.Weekday, bool) {
	for i, short := range dayNames {
		if w == short || w == strings.ToLower(time.Weekday(i).String()) {
			return time.Weekday(i), true
		}
	}
	return 0, false
}

func (p *parser) weekdays() (weekdays, error) {
	var set weekdays
	for {
		from, to, ranged := strings.Cut(p.next(), "-")
		a, ok := weekday(from)
		b := a
		if ranged && ok {
			b, ok = weekday(to)
		}
		if !ok {
			return 0, p.fail("a weekday such as mon, or a stretch such as mon-fri")
		}
		for d := a; ; d = (d + 1) % 7 {
			set |= 1 << d
			if d == b {
				break
			}
		}
		if !p.accept(",") {
			return set, nil
		}
	}
}

func (p *parser) tail(c *Cadence) error {
	for p.pos < len(p.toks) {
		var err error
		switch w := p.next(); {
		case w == "between" && c.window == nil && (c.form == every || c.form == hourly || c.form == onChange):
			w := &window{}
			if w.from, err = p.timeOfDay(); err == nil {
				if err = p.expect("and"); err == nil {
					w.to, err = p.timeOfDay()
				}
			}
			c.window = w
		case w == "on" && c.days == 0 && c.form != monthly && c.form != yearly && c.form != weekly:
			c.days, err = p.weekdays()
		case w == "in" && !c.ownZone:
			name := ""
			if p.pos < len(p.toks) {
				name = p.toks[p.pos].text
			}
			p.pos++
			c.zone, err = LoadZone(name)
			c.ownZone = true
			if err != nil {
				return p.fail("a time zone such as Europe/Lisbon")
			}
		default:
			return p.fail("the end, or between, on or in")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// LoadZone finds an IANA time zone by name. Local and the empty name are refused:
// a policy must mean the same on every host.
func LoadZone(name string) (*time.Location, error) {
	if name == "" || name == "Local" {
		return nil, fmt.Errorf("time zone %q: give a name such as Europe/Lisbon or UTC", name)
	}
	return time.LoadLocation(name)
}
