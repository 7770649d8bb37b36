// Package pace says how fast may be sent, by time of week.
package pace

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"candidharbor/core/cadence"
)

// Unlimited is the rate of no limit.
const Unlimited = -1

// Calendar is a weekly calendar of limits. The zero value limits nothing.
type Calendar struct {
	zone  *time.Location
	lines []line
}

type line struct {
	rate int64 // bytes a second
	span cadence.Span
}

// Parse reads lines such as "20 Mbit/s between 07:00 and 19:00 on mon-fri", "nothing on
// sun" or "200 Mbit/s". The first line whose time it is holds; without one nothing is
// limited.
func Parse(lines []string, zone *time.Location) (*Calendar, error) {
	c := &Calendar{zone: zone}
	for i, text := range lines {
		rate, rest, err := parseRate(text)
		if err != nil {
			return nil, err
		}
		span, err := cadence.ParseSpan(rest)
		if err != nil {
			return nil, fmt.Errorf("pace %q: %w", text, err)
		}
		if span.Whole() && i < len(lines)-1 {
			return nil, fmt.Errorf("pace %q holds all week, so what follows it never does: put it last", text)
		}
		c.lines = append(c.lines, line{rate, span})
	}
	return c, nil
}

var units = map[string]float64{"kbit/s": 1e3 / 8, "Mbit/s": 1e6 / 8, "Gbit/s": 1e9 / 8, "KiB/s": 1 << 10,
	"MiB/s": 1 << 20, "GiB/s": 1 << 30}

// ParseRate reads a rate such as "20 Mbit/s", "3 MiB/s", "unlimited" or "nothing", in bytes
// a second.
func ParseRate(text string) (int64, error) {
	rate, rest, err := parseRate(text)
	if err == nil && rest != "" {
		err = fmt.Errorf("rate %q: %q is too much", text, rest)
	}
	return rate, err
}

func parseRate(text string) (rate int64, rest string, err error) {
	words := strings.Fields(text)
	wrong := fmt.Errorf("pace %q: begin with a rate such as 20 Mbit/s or 3 MiB/s, with unlimited or with nothing", text)
	if len(words) == 0 {
		return 0, "", wrong
	}
	switch words[0] {
	case "unlimited":
		return Unlimited, strings.Join(words[1:], " "), nil
	case "nothing":
		return 0, strings.Join(words[1:], " "), nil
	}
	if len(words) < 2 {
		return 0, "", wrong
	}
	v, err := strconv.ParseFloat(words[0], 64)
	unit, known := units[words[1]]
	if err != nil || !known || !(v > 0) || v*unit > 1e12 {
		return 0, "", wrong
	}
	if v*unit < 1000 {
		return 0, "", fmt.Errorf("pace %q is less than 8 kbit/s, at which nothing would ever arrive; write nothing to "+
			"send nothing", text)
	}
	return int64(v * unit), strings.Join(words[2:], " "), nil
}

// RateWords says a rate the way Parse reads it.
func RateWords(rate int64) string {
	switch {
	case rate < 0:
		return "unlimited"
	case rate == 0:
		return "nothing"
	}
	for _, unit := range []string{"GiB/s", "MiB/s", "KiB/s"} {
		if n := int64(units[unit]); rate%n == 0 {
			return strconv.FormatInt(rate/n, 10) + " " + unit
		}
	}
	bits := float64(rate) * 8
	for _, u := range []struct {
		scale float64
		name  string
	}{{1e9, "Gbit/s"}, {1e6, "Mbit/s"}} {
		if bits >= u.scale {
			return strconv.FormatFloat(bits/u.scale, 'f', -1, 64) + " " + u.name
		}
	}
	return strconv.FormatFloat(bits/1e3, 'f', -1, 64) + " kbit/s"
}

// Lines writes the calendar the way Parse reads it.
func (c *Calendar) Lines() []string {
	out := make([]string, len(c.lines))
	for i, l := range c.lines {
		out[i] = strings.TrimSpace(RateWords(l.rate) + " " + l.span.String())
	}
	return out
}

// At returns the limit at an instant in bytes a second; 0: nothing may be sent, Unlimited:
// there is no limit.
func (c *Calendar) At(t time.Time) int64 {
	if c.zone == nil {
		return Unlimited
	}
	t = t.In(c.zone)
	for _, l := range c.lines {
		if l.span.Holds(t) {
			return l.rate
		}
	}
	return Unlimited
}

// Next returns the first minute after t at which the limit is another one; ok is false when
// none comes within a week.
func (c *Calendar) Next(t time.Time) (at time.Time, ok bool) {
	was := c.At(t)
	for at = t.Truncate(time.Minute).Add(time.Minute); at.Sub(t) <= 8*24*time.Hour; at = at.Add(time.Minute) {
		if c.At(at) != was {
			return at, true
		}
	}
	return time.Time{}, false
}
