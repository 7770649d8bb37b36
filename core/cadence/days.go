package cadence

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Days is a rule that picks calendar days, for milestones: "weekly on sunday", "monthly on
// last day", "monthly on first monday", "yearly on 25 december", "yearly on last day of
// june", "yearly on first monday of march", "daily".
type Days struct {
	weekly   weekdays
	monthly  bool
	monthDay monthDay
	month    time.Month // 0: every month
}

// Holds reports whether the rule picks the day.
func (d *Days) Holds(y int, m time.Month, day int) bool {
	if !d.monthly {
		return d.weekly.holds(time.Date(y, m, day, 0, 0, 0, 0, time.UTC).Weekday())
	}
	return (d.month == 0 || d.month == m) && d.monthDay.holds(y, m, day)
}

// String returns the plain form; parsing it gives the same rule.
func (d *Days) String() string {
	switch {
	case !d.monthly && d.weekly == 0:
		return "daily"
	case !d.monthly:
		return "weekly on " + d.weekly.longString()
	case d.month == 0:
		return "monthly on " + d.monthDay.String()
	case d.monthDay.day > 0:
		return fmt.Sprintf("yearly on %d %s", d.monthDay.day, strings.ToLower(d.month.String()))
	}
	return fmt.Sprintf("yearly on %s of %s", d.monthDay, strings.ToLower(d.month.String()))
}

func (d weekdays) longString() string {
	var parts []string
	for _, w := range []time.Weekday{1, 2, 3, 4, 5, 6, 0} {
		if d&(1<<w) != 0 {
			parts = append(parts, strings.ToLower(w.String()))
		}
	}
	return strings.Join(parts, ", ")
}

// ParseDays reads a rule for days.
func ParseDays(phrase string) (*Days, error) {
	p := &parser{phrase: phrase, toks: tokenize(phrase)}
	d := &Days{}
	var err error
	switch p.next() {
	case "daily":
	case "weekly":
		if err = p.expect("on"); err == nil {
			d.weekly, err = p.weekdays()
		}
	case "monthly":
		d.monthly = true
		if err = p.expect("on"); err == nil {
			err = p.dayOfMonth(&d.monthDay)
		}
	case "yearly":
		d.monthly = true
		if err = p.expect("on"); err == nil {
			err = p.dayOfYear(&d.monthDay, &d.month)
		}
	default:
		err = p.fail("daily, weekly, monthly or yearly")
	}
	if err == nil && p.pos < len(p.toks) {
		p.pos++
		err = p.fail("the end")
	}
	if err != nil {
		return nil, err
	}
	if d.month != 0 && d.monthDay.day > daysIn(d.month) {
		return nil, fmt.Errorf("rule %q never comes: %s has no day %d", phrase, d.month, d.monthDay.day)
	}
	return d, nil
}

func daysIn(m time.Month) int {
	return time.Date(2024, m+1, 0, 0, 0, 0, 0, time.UTC).Day() // a leap year
}

// dayOfMonth reads "day N", "last day", or first to fourth or last and a weekday.
func (p *parser) dayOfMonth(m *monthDay) error {
	w := p.next()
	if w == "day" {
		n, err := strconv.Atoi(p.next())
		if err != nil || n < 1 || n > 31 {
			return p.fail("a day of the month, 1 to 31")
		}
		m.day = n
		return nil
	}
	nth := 0
	for k, name := range nthNames {
		if w == name {
			nth = k
		}
	}
	if nth == 0 {
		return p.fail("day N, last day, or first to fourth or last and a weekday")
	}
	d := p.next()
	switch wd, ok := weekday(d); {
	case d == "day" && nth == -1:
		m.day = -1
	case ok:
		*m = monthDay{nth: nth, weekday: wd}
	default:
		return p.fail("a weekday")
	}
	return nil
}

// dayOfYear reads "25 december" or a day of the month, "of" and a month.
func (p *parser) dayOfYear(m *monthDay, mo *time.Month) error {
	if n, err := strconv.Atoi(p.peek()); err == nil {
		p.pos++
		if n < 1 || n > 31 {
			return p.fail("a day of the month, 1 to 31")
		}
		m.day = n
	} else {
		if err := p.dayOfMonth(m); err != nil {
			return err
		}
		if err := p.expect("of"); err != nil {
			return err
		}
	}
	var err error
	*mo, err = p.monthName()
	return err
}

func (p *parser) monthName() (time.Month, error) {
	w := p.next()
	for i := time.January; i <= time.December; i++ {
		if name := strings.ToLower(i.String()); w == name || w == name[:3] {
			return i, nil
		}
	}
	return 0, p.fail("a month such as june")
}
