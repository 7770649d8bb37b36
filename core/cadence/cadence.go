package cadence

import (
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"
)

type form uint8

const (
	every form = iota
	hourly
	daily
	weekly
	monthly
	yearly
	recurrence // an RFC 5545 rule
	onChange
	atStart
)

// TimeOfDay is minutes since midnight on the wall.
type TimeOfDay int

func (t TimeOfDay) String() string { return fmt.Sprintf("%02d:%02d", t/60, t%60) }

// Cadence is one schedule. The zero value is not useful; make one with Parse.
type Cadence struct {
	form     form
	interval time.Duration // every
	minute   int           // hourly
	times    []TimeOfDay   // daily, weekly, monthly; ascending
	days     weekdays      // 0 means any day
	window   *window
	monthDay monthDay
	month    time.Month // yearly
	rule     *rule
	rest     time.Duration // on change: how long nothing must have changed
	zone     *time.Location
	ownZone  bool
}

type window struct{ from, to TimeOfDay } // both included; may pass midnight

func (w *window) holds(t TimeOfDay) bool {
	if w == nil {
		return true
	}
	if w.from <= w.to {
		return t >= w.from && t <= w.to
	}
	return t >= w.from || t <= w.to
}

type weekdays uint8

func (d weekdays) holds(w time.Weekday) bool { return d == 0 || d&(1<<w) != 0 }

// monthDay is a day of the month: a fixed one, the last, or the nth weekday.
type monthDay struct {
	day     int // 1..31, or -1 for the last; 0 for nth weekday
	nth     int // 1..4, or -1 for the last
	weekday time.Weekday
}

func (m monthDay) holds(y int, mo time.Month, d int) bool {
	last := time.Date(y, mo+1, 0, 0, 0, 0, 0, time.UTC).Day()
	switch {
	case m.day > 0:
		return d == m.day
	case m.day < 0:
		return d == last
	}
	if time.Date(y, mo, d, 0, 0, 0, 0, time.UTC).Weekday() != m.weekday {
		return false
	}
	if m.nth < 0 {
		return d+7 > last
	}
	return (d-1)/7+1 == m.nth
}

// Zone returns the zone the cadence is read in.
func (c *Cadence) Zone() *time.Location { return c.zone }

// horizonDays bounds the search for the next instant. Of phrases 29 February is the
// rarest: it comes at least every eight years.
const horizonDays = 366 * 8

// AtStart reports whether the cadence asks for a snapshot whenever the service starts. It
// has no due times of its own.
func (c *Cadence) AtStart() bool { return c.form == atStart }

// OnChange reports whether the cadence asks for a snapshot when something changed: not
// before nothing changed for rest, and at most once in each least. Its due times are
// those at which one looks where no journal reports changes.
func (c *Cadence) OnChange() (rest, least time.Duration, ok bool) {
	return c.rest, c.interval, c.form == onChange
}

// Open returns the first instant, not before t, that lies in the cadence's days and window;
// ok is false when none comes.
func (c *Cadence) Open(t time.Time) (time.Time, bool) {
	t = t.In(c.zone)
	for begin := t; t.Sub(begin) < horizonDays*24*time.Hour; {
		y, m, d := t.Date()
		if !c.matchesDay(time.Date(y, m, d, 12, 0, 0, 0, time.UTC)) {
			t = instant(y, m, d+1, 0, c.zone)
			continue
		}
		if c.window.holds(wallOf(t)) {
			return t, true
		}
		t = t.Truncate(time.Minute).Add(time.Minute)
	}
	return time.Time{}, false
}

// Next returns the first due instant after t; ok is false when none comes.
func (c *Cadence) Next(t time.Time) (next time.Time, ok bool) {
	switch c.form {
	case atStart:
		return time.Time{}, false
	case recurrence:
		return c.rule.next(t, c.zone)
	}
	t = t.In(c.zone)
	y, m, d := t.Date()
	// A wall time that is left out may fire on the following date; a day earlier
	// costs little and misses nothing.
	for i := -1; i < horizonDays; i++ {
		day := time.Date(y, m, d+i, 12, 0, 0, 0, time.UTC)
		if !c.matchesDay(day) {
			continue
		}
		if at, found := c.firstOnDay(day, t); found {
			return at, true
		}
	}
	return time.Time{}, false
}

// Between yields the due instants after from, up to and including to.
func (c *Cadence) Between(from, to time.Time) iter.Seq[time.Time] {
	return func(yield func(time.Time) bool) {
		for {
			next, ok := c.Next(from)
			if !ok || next.After(to) || !yield(next) {
				return
			}
			from = next
		}
	}
}

func (c *Cadence) matchesDay(day time.Time) bool {
	switch c.form {
	case monthly:
		return c.monthDay.holds(day.Date())
	case yearly:
		return day.Month() == c.month && c.monthDay.holds(day.Date())
	default:
		return c.days.holds(day.Weekday())
	}
}

func (c *Cadence) firstOnDay(day, after time.Time) (time.Time, bool) {
	y, m, d := day.Date()
	switch c.form {
	case every, onChange:
		return c.firstElapsed(y, m, d, after)
	case hourly:
		for h := range 24 {
			if t := TimeOfDay(h*60 + c.minute); c.window.holds(t) {
				if at := instant(y, m, d, t, c.zone); at.After(after) {
					return at, true
				}
			}
		}
		return time.Time{}, false
	}
	for _, t := range c.times {
		if at := instant(y, m, d, t, c.zone); at.After(after) {
			return at, true
		}
	}
	return time.Time{}, false
}

// firstElapsed finds the first multiple of the interval since the day's first
// instant that is after the given one and in the window.
func (c *Cadence) firstElapsed(y int, m time.Month, d int, after time.Time) (time.Time, bool) {
	begin := instant(y, m, d, 0, c.zone)
	end := instant(y, m, d+1, 0, c.zone)
	k := int64(0)
	if since := after.Sub(begin); since >= 0 {
		k = int64(since/c.interval) + 1
	}
	for ; ; k++ {
		at := begin.Add(time.Duration(k) * c.interval)
		if !at.Before(end) {
			return time.Time{}, false
		}
		if c.window.holds(wallOf(at)) {
			return at, true
		}
	}
}

func wallOf(t time.Time) TimeOfDay { return TimeOfDay(t.Hour()*60 + t.Minute()) }

// instant turns a wall time into an instant: the first of two when it comes twice,
// the first that exists after it when it is left out.
func instant(y int, m time.Month, d int, tod TimeOfDay, zone *time.Location) time.Time {
	t := time.Date(y, m, d, int(tod)/60, int(tod)%60, 0, 0, zone)
	wall := time.Date(y, m, d, int(tod)/60, int(tod)%60, 0, 0, time.UTC).Unix()
	_, off := t.Zone()
	start, end := t.ZoneBounds()
	if t.Unix()+int64(off) != wall { // left out: t lies within an hour of the change
		if t.Unix()+int64(off) > wall && !start.IsZero() {
			return start.In(zone)
		}
		return end.In(zone)
	}
	if !start.IsZero() {
		_, before := start.Add(-time.Second).In(zone).Zone()
		if first := time.Unix(wall-int64(before), 0); first.Before(start) {
			return first.In(zone)
		}
	}
	return t
}

// String returns the phrase in its plain form; parsing it gives the same cadence.
func (c *Cadence) String() string {
	var b strings.Builder
	switch c.form {
	case every:
		n, unit := int(c.interval/time.Minute), "minutes"
		if n%60 == 0 {
			n, unit = n/60, "hours"
		}
		fmt.Fprintf(&b, "every %d %s", n, unit)
	case hourly:
		fmt.Fprintf(&b, "hourly at :%02d", c.minute)
	case daily:
		b.WriteString("daily at " + joinTimes(c.times))
	case weekly:
		b.WriteString("weekly on " + c.days.String() + " at " + joinTimes(c.times))
	case monthly:
		b.WriteString("monthly on " + c.monthDay.String() + " at " + joinTimes(c.times))
	case yearly:
		d := Days{monthly: true, monthDay: c.monthDay, month: c.month}
		b.WriteString(d.String() + " at " + joinTimes(c.times))
	case recurrence:
		b.WriteString(c.rule.String())
	case onChange:
		fmt.Fprintf(&b, "on change, rest %s, at most every %s", spell(c.rest), spell(c.interval))
	case atStart:
		b.WriteString("at service start")
	}
	if c.window != nil {
		fmt.Fprintf(&b, " between %s and %s", c.window.from, c.window.to)
	}
	if c.form != weekly && c.days != 0 {
		b.WriteString(" on " + c.days.String())
	}
	if c.ownZone {
		b.WriteString(" in " + c.zone.String())
	}
	return b.String()
}

// spell writes whole minutes or hours.
func spell(d time.Duration) string {
	n, unit := int(d/time.Minute), "minute"
	if n%60 == 0 && n > 0 {
		n, unit = n/60, "hour"
	}
	if n != 1 {
		unit += "s"
	}
	return fmt.Sprintf("%d %s", n, unit)
}

func joinTimes(ts []TimeOfDay) string {
	s := make([]string, len(ts))
	for i, t := range ts {
		s[i] = t.String()
	}
	return strings.Join(s, ", ")
}

var dayNames = [...]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

func (d weekdays) String() string {
	order := []time.Weekday{1, 2, 3, 4, 5, 6, 0}
	var parts []string
	for i := 0; i < 7; i++ {
		if d&(1<<order[i]) == 0 {
			continue
		}
		j := i
		for j+1 < 7 && d&(1<<order[j+1]) != 0 {
			j++
		}
		if j-i >= 2 {
			parts = append(parts, dayNames[order[i]]+"-"+dayNames[order[j]])
			i = j
		} else {
			parts = append(parts, dayNames[order[i]])
		}
	}
	return strings.Join(parts, ", ")
}

var nthNames = map[int]string{1: "first", 2: "second", 3: "third", 4: "fourth", -1: "last"}

func (m monthDay) String() string {
	switch {
	case m.day > 0:
		return fmt.Sprintf("day %d", m.day)
	case m.day < 0:
		return "last day"
	}
	return nthNames[m.nth] + " " + strings.ToLower(m.weekday.String())
}

// Typical returns the usual distance between two due instants around t, for
// estimates; zero when nothing is due.
func (c *Cadence) Typical(t time.Time) time.Duration {
	var gaps []time.Duration
	at := t
	for range 8 {
		next, ok := c.Next(at)
		if !ok {
			break
		}
		if at != t {
			gaps = append(gaps, next.Sub(at))
		}
		at = next
	}
	if len(gaps) == 0 {
		return 0
	}
	slices.Sort(gaps)
	return gaps[len(gaps)/2]
}
