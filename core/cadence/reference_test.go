package cadence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// wall is what the clock on the wall shows.
type wall struct {
	y       int
	m       time.Month
	d       int
	minute  int // of the day
	weekday time.Weekday
}

func (w wall) last() int { return time.Date(w.y, w.m+1, 0, 0, 0, 0, 0, time.UTC).Day() }

func workday(w wall) bool { return w.weekday >= time.Monday && w.weekday <= time.Friday }

// What phrases mean, said again without any of the code under test. every is in minutes
// since the day's first instant, others on the wall.
var meanings = []struct {
	phrase string
	every  int
	on     func(w wall) bool
}{
	{"every 15 minutes between 07:00 and 19:00 on mon-fri", 15, func(w wall) bool {
		return w.minute >= 420 && w.minute <= 1140 && workday(w)
	}},
	{"every 90 minutes", 90, func(wall) bool { return true }},
	{"every 6 hours between 20:00 and 08:00", 360, func(w wall) bool { return w.minute >= 1200 || w.minute <= 480 }},
	{"on change, rest 1 minute, at most every 10 minutes", 10, func(wall) bool { return true }},
	{"hourly at :30", 0, func(w wall) bool { return w.minute%60 == 30 }},
	{"daily at 02:30", 0, func(w wall) bool { return w.minute == 150 }},
	{"daily at 00:00, 01:15, 23:45", 0, func(w wall) bool { return w.minute == 0 || w.minute == 75 || w.minute == 1425 }},
	{"weekly on sun, wed at 00:10", 0, func(w wall) bool {
		return w.minute == 10 && (w.weekday == time.Sunday || w.weekday == time.Wednesday)
	}},
	{"monthly on day 30 at 12:00", 0, func(w wall) bool { return w.minute == 720 && w.d == 30 }},
	{"monthly on last day at 00:30", 0, func(w wall) bool { return w.minute == 30 && w.d == w.last() }},
	{"monthly on last sunday at 01:30", 0, func(w wall) bool {
		return w.minute == 90 && w.weekday == time.Sunday && w.d+7 > w.last()
	}},
	{"monthly on third thu at 18:00", 0, func(w wall) bool {
		return w.minute == 1080 && w.weekday == time.Thursday && w.d > 14 && w.d <= 21
	}},
	{"yearly on 29 february at 06:00", 0, func(w wall) bool {
		return w.minute == 360 && w.m == time.February && w.d == 29
	}},
	{"yearly on last day of june at 23:59", 0, func(w wall) bool {
		return w.minute == 1439 && w.m == time.June && w.d == 30
	}},
	{"yearly on first sunday of april at 02:15", 0, func(w wall) bool {
		return w.minute == 135 && w.m == time.April && w.weekday == time.Sunday && w.d <= 7
	}},
	{"RRULE:FREQ=DAILY;BYHOUR=2;BYMINUTE=30", 0, func(w wall) bool { return w.minute == 150 }},
	{"RRULE:FREQ=HOURLY;BYMINUTE=15;BYDAY=SA,SU", 0, func(w wall) bool { return w.minute%60 == 15 && !workday(w) }},
	{"RRULE:FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=17;BYMINUTE=0", 0, func(w wall) bool {
		return w.minute == 1020 && w.weekday == time.Friday && w.d+7 > w.last()
	}},
	{"RRULE:FREQ=WEEKLY;INTERVAL=2;BYDAY=MO;BYHOUR=1;BYMINUTE=45", 0, func(w wall) bool {
		monday := time.Date(2018, 1, 1, 0, 0, 0, 0, time.UTC)
		weeks := int(time.Date(w.y, w.m, w.d, 0, 0, 0, 0, time.UTC).Sub(monday).Hours()) / 24 / 7
		return w.minute == 105 && w.weekday == time.Monday && weeks%2 == 0
	}},
	{"RRULE:FREQ=YEARLY;BYMONTH=3;BYMONTHDAY=-1;BYHOUR=0;BYMINUTE=0", 0, func(w wall) bool {
		return w.minute == 0 && w.m == time.March && w.d == 31
	}},
}

// Compared minute by minute over two years and a leap day, in zones that change by an
// hour, by half an hour and at midnight: a wall time fires the first time it comes, one
// that is left out fires at the next instant that exists, and elapsed ones count on.
func TestAgainstEveryMinute(t *testing.T) {
	for _, name := range []string{"Europe/Lisbon", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu",
		"America/Santiago", "Africa/Cairo", "UTC"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			z := zone(t, name)
			begin, end := time.Date(2023, 11, 20, 0, 0, 0, 0, time.UTC), time.Date(2025, 12, 1, 0, 0, 0, 0, time.UTC)
			settled := begin.Add(48 * time.Hour) // by then a whole day was seen
			next := make([]time.Time, len(meanings))
			cadences := make([]*Cadence, len(meanings))
			for i, m := range meanings {
				c, err := Parse(m.phrase, z)
				require.NoError(t, err)
				again, err := Parse(c.String(), z)
				require.NoError(t, err)
				require.Equal(t, c.String(), again.String())
				cadences[i] = c
			}
			fired := make([]map[wall]bool, len(meanings))
			for i := range fired {
				fired[i] = map[wall]bool{}
			}
			look := func(at time.Time) wall {
				l := at.In(z)
				y, m, d := l.Date()
				return wall{y, m, d, l.Hour()*60 + l.Minute(), l.Weekday()}
			}
			before := look(begin)
			var dayBegan time.Time
			for at := begin.Add(time.Minute); at.Before(end); at = at.Add(time.Minute) {
				now := look(at)
				if now.d != before.d {
					dayBegan = at
				}
				// The walls that pass at this minute: its own, and those left out before it.
				walls := []wall{now}
				step := now.minute - before.minute
				if now.d != before.d {
					step += 1440
				}
				for k := 1; k < step; k++ {
					s := time.Date(before.y, before.m, before.d, 0, before.minute+k, 0, 0, time.UTC)
					walls = append(walls, wall{s.Year(), s.Month(), s.Day(), s.Hour()*60 + s.Minute(), s.Weekday()})
				}
				for i, m := range meanings {
					due := false
					if m.every > 0 {
						due = int(at.Sub(dayBegan).Minutes())%m.every == 0 && m.on(now)
					} else {
						for _, w := range walls {
							if m.on(w) && !fired[i][w] {
								fired[i][w], due = true, true
							}
						}
					}
					switch {
					case at.Before(settled):
					case at.Equal(settled):
						next[i], _ = cadences[i].Next(at)
					case due:
						if !next[i].Equal(at) {
							t.Fatalf("%s: due %s, computed %s", m.phrase, at.In(z), next[i].In(z))
						}
						next[i], _ = cadences[i].Next(at)
					case !next[i].After(at):
						t.Fatalf("%s: nothing is due at %s", m.phrase, next[i].In(z))
					}
				}
				before = now
			}
		})
	}
}

func TestRulesThatAreRefused(t *testing.T) {
	for text, say := range map[string]string{
		"RRULE:FREQ=SECONDLY":                       "too fine",
		"RRULE:FREQ=MINUTELY;INTERVAL=5":            "every N minutes",
		"RRULE:FREQ=DAILY;COUNT=3":                  "leave it out, or use UNTIL",
		"RRULE:FREQ=OFTEN":                          "RFC 5545",
		"RRULE:":                                    "RFC 5545",
		"rrule:FREQ=YEARLY;BYMONTHDAY=31;BYMONTH=2": "never comes due",
		"RRULE:FREQ=DAILY;INTERVAL=-1":              "",
		"yearly on 30 february at 10:00":            "never",
		"yearly on 5 juni at 10:00":                 "a month such as june",
		"on change, settle 0 minutes":               "number of minutes",
		"on change, at most 5 minutes":              "every",
		"on changes":                                "change",
		"at service begin":                          "start",
		"at service start at 10:00":                 "the end",
	} {
		_, err := Parse(text, time.UTC)
		require.ErrorContains(t, err, say, text)
	}
	c, err := Parse("at service start", time.UTC)
	require.NoError(t, err)
	require.True(t, c.AtStart())
	_, ok := c.Next(time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC))
	require.False(t, ok)
	c, err = Parse("on change, at most every 1 hour, settle 3 minutes between 08:00 and 18:00", time.UTC)
	require.NoError(t, err)
	settle, least, ok := c.OnChange()
	require.True(t, ok)
	require.Equal(t, [2]time.Duration{3 * time.Minute, time.Hour}, [2]time.Duration{settle, least})
	require.Equal(t, "on change, rest 3 minutes, at most every 1 hour between 08:00 and 18:00", c.String())
}

func TestDays(t *testing.T) {
	for _, p := range []string{"daily", "weekly on sunday", "weekly on monday, friday", "monthly on last day",
		"monthly on day 15", "monthly on first monday", "yearly on 25 december", "yearly on last day of june",
		"yearly on second tuesday of march"} {
		d, err := ParseDays(p)
		require.NoError(t, err, p)
		require.Equal(t, p, d.String())
		n := 0
		for at := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC); at.Year() < 2026; at = at.AddDate(0, 0, 1) {
			if d.Holds(at.Date()) {
				n++
			}
		}
		require.Equal(t, map[string]int{"daily": 731, "weekly on sunday": 104, "weekly on monday, friday": 209,
			"monthly on last day": 24, "monthly on day 15": 24, "monthly on first monday": 24}[p]+
			map[bool]int{true: 2}[p[0] == 'y'], n, p)
	}
	for p, word := range map[string]string{"hourly": "hourly", "weekly sunday": "sunday", "yearly on 25": "",
		"yearly on last day of": "", "monthly on last day at 10:00": "at", "yearly on 32 june": "32"} {
		_, err := ParseDays(p)
		var pe *PhraseError
		require.ErrorAs(t, err, &pe, p)
		require.Equal(t, word, pe.Word, p)
	}
}
