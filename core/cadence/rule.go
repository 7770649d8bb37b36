package cadence

import (
	"fmt"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// rule is a recurrence rule (RFC 5545 §3.3.10) read on the wall clock of the zone: its
// times are computed as if in UTC and then turned into instants, so that clock changes
// are treated as for phrases. It has no beginning of its own; intervals count from the
// anchor.
type rule struct {
	text string
	opt  rrule.ROption
}

// anchor is a Monday and the first of a month and a year, before any policy.
var anchor = time.Date(2018, 1, 1, 0, 0, 0, 0, time.UTC)

func isRule(phrase string) bool {
	return len(phrase) >= 6 && strings.EqualFold(strings.TrimSpace(phrase)[:min(6, len(strings.TrimSpace(phrase)))],
		"RRULE:")
}

func parseRule(phrase string, zone *time.Location) (*Cadence, error) {
	text := strings.ToUpper(strings.ReplaceAll(strings.TrimSpace(phrase), " ", ""))
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("recurrence rule %q: %s", phrase, fmt.Sprintf(format, args...))
	}
	opt, err := rrule.StrToROption(strings.TrimPrefix(text, "RRULE:"))
	if err != nil {
		return nil, wrong("%s (RFC 5545, section 3.3.10)", err)
	}
	switch {
	case opt.Count > 0:
		return nil, wrong("COUNT counts from a beginning, which a policy does not have: leave it out, or use UNTIL")
	case opt.Freq == rrule.SECONDLY || len(opt.Bysecond) > 0:
		return nil, wrong("seconds are too fine: a snapshot is due at most every minute")
	case opt.Freq == rrule.MINUTELY:
		return nil, wrong("write every N minutes instead, which leaves no hole when clocks change")
	case opt.Interval < 0 || opt.Interval > 10_000:
		return nil, wrong("INTERVAL must be 1 to 10000")
	}
	opt.Bysecond = []int{0}
	c := &Cadence{form: recurrence, zone: zone, rule: &rule{text: text, opt: *opt}}
	if _, err := c.rule.from(anchor); err != nil {
		return nil, wrong("%s", err)
	}
	if _, ok := c.Next(time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)); !ok && opt.Until.IsZero() {
		return nil, wrong("it never comes due")
	}
	return c, nil
}

func (r *rule) String() string { return r.text }

// from returns the rule with a beginning shortly before a wall time, a whole number of
// intervals after the anchor: looking for the next time then takes few steps.
func (r *rule) from(wall time.Time) (*rrule.RRule, error) {
	opt := r.opt
	n := max(1, opt.Interval)
	begin := anchor
	if days := int(wall.Sub(anchor).Hours() / 24); days > 800 {
		switch opt.Freq {
		case rrule.YEARLY:
			begin = anchor.AddDate((wall.Year()-anchor.Year()-1)/n*n, 0, 0)
		case rrule.MONTHLY:
			months := (wall.Year()-anchor.Year())*12 + int(wall.Month()) - 13
			begin = anchor.AddDate(0, months/n*n, 0)
		case rrule.WEEKLY:
			begin = anchor.AddDate(0, 0, (days/7-1)/n*n*7)
		case rrule.DAILY:
			begin = anchor.AddDate(0, 0, (days-1)/n*n)
		case rrule.HOURLY:
			begin = anchor.Add(time.Duration((days-1)*24/n*n) * time.Hour)
		}
	}
	opt.Dtstart = begin
	return rrule.NewRRule(opt)
}

// next finds the first instant after t. Walls that a clock change leaves out or repeats
// can map to one instant or lie out of order by an hour or two; looking three hours to
// both sides meets them all.
func (r *rule) next(t time.Time, zone *time.Location) (time.Time, bool) {
	local := t.In(zone)
	wall := time.Date(local.Year(), local.Month(), local.Day(), local.Hour(), local.Minute(), 0, 0, time.UTC)
	rr, err := r.from(wall)
	if err != nil {
		return time.Time{}, false
	}
	next := rr.Iterator()
	var best time.Time
	for range 100_000 {
		w, ok := next()
		if !ok || (!best.IsZero() && w.After(wallClock(best, zone).Add(3*time.Hour))) {
			break
		}
		if w.Before(wall.Add(-3 * time.Hour)) {
			continue
		}
		at := instant(w.Year(), w.Month(), w.Day(), TimeOfDay(w.Hour()*60+w.Minute()), zone)
		if at.After(t) && (best.IsZero() || at.Before(best)) {
			best = at
		}
	}
	return best, !best.IsZero()
}

func wallClock(t time.Time, zone *time.Location) time.Time {
	l := t.In(zone)
	return time.Date(l.Year(), l.Month(), l.Day(), l.Hour(), l.Minute(), 0, 0, time.UTC)
}
