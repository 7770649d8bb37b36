package cadence

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func zone(t require.TestingT, name string) *time.Location {
	z, err := LoadZone(name)
	require.NoError(t, err)
	return z
}

func due(t require.TestingT, phrase, zoneName, from string, n int) (out []string) {
	z := zone(t, zoneName)
	c, err := Parse(phrase, z)
	require.NoError(t, err)
	at, err := time.ParseInLocation("2006-01-02 15:04", from, z)
	require.NoError(t, err)
	for range n {
		var ok bool
		at, ok = c.Next(at)
		require.True(t, ok)
		out = append(out, at.In(z).Format("Mon 01-02 15:04 -0700"))
	}
	return out
}

func TestPhrases(t *testing.T) {
	for _, c := range []struct {
		phrase, from string
		want         []string
	}{
		{"every 15 minutes between 07:00 and 08:00 on mon-fri", "2026-03-06 07:40", []string{"Fri 03-06 07:45 +0000",
			"Fri 03-06 08:00 +0000", "Mon 03-09 07:00 +0000"}},
		{"every 6 hours", "2026-01-01 00:00", []string{"Thu 01-01 06:00 +0000", "Thu 01-01 12:00 +0000",
			"Thu 01-01 18:00 +0000", "Fri 01-02 00:00 +0000"}},
		{"hourly at :20 between 22:00 and 01:00", "2026-01-01 22:30", []string{"Thu 01-01 23:20 +0000",
			"Fri 01-02 00:20 +0000", "Fri 01-02 22:20 +0000"}},
		{"daily at 23:30, 12:00 on sat, sun", "2026-03-06 12:00", []string{"Sat 03-07 12:00 +0000", "Sat 03-07 23:30 +0000",
			"Sun 03-08 12:00 +0000"}},
		{"weekly on sunday, wed at 02:00", "2026-03-06 12:00", []string{"Sun 03-08 02:00 +0000", "Wed 03-11 02:00 +0000"}},
		{"monthly on day 31 at 03:00", "2026-01-31 12:00", []string{"Tue 03-31 03:00 +0100", "Sun 05-31 03:00 +0100"}},
		{"monthly on last day at 03:00", "2026-01-31 12:00", []string{"Sat 02-28 03:00 +0000", "Tue 03-31 03:00 +0100"}},
		{"monthly on first monday at 03:00", "2026-01-05 03:00", []string{"Mon 02-02 03:00 +0000", "Mon 03-02 03:00 +0000"}},
		{"monthly on last friday at 03:00", "2026-01-01 03:00", []string{"Fri 01-30 03:00 +0000", "Fri 02-27 03:00 +0000"}},
	} {
		require.Equal(t, c.want, due(t, c.phrase, "Europe/Lisbon", c.from, len(c.want)), c.phrase)
	}
}

// Clocks go forward at 01:00 on 29 March 2026 and back at 02:00 on 25 October in
// Lisbon; Lord Howe Island changes by half an hour.
func TestDaylightSaving(t *testing.T) {
	require.Equal(t, []string{"Sun 03-29 02:00 +0100", "Mon 03-30 01:30 +0100"}, due(t, "daily at 01:30", "Europe/Lisbon",
		"2026-03-28 12:00", 2), "left out: the next instant that exists")
	require.Equal(t, []string{"Sun 10-25 01:30 +0100", "Mon 10-26 01:30 +0000"}, due(t, "daily at 01:30", "Europe/Lisbon",
		"2026-10-24 12:00", 2), "comes twice: once")
	require.Equal(t, []string{"Sun 10-04 02:30 +1100", "Mon 10-05 02:15 +1100"},
		due(t, "daily at 02:15", "Australia/Lord_Howe", "2026-10-03 12:00", 2))
	require.Equal(t, []string{"Sun 04-05 01:45 +1100", "Mon 04-06 01:45 +1030"},
		due(t, "daily at 01:45", "Australia/Lord_Howe", "2026-04-04 12:00", 2))
}

var phrases = rapid.Custom(func(t *rapid.T) string {
	tod := func(l string) string {
		return fmt.Sprintf("%02d:%02d", rapid.IntRange(0, 23).Draw(t, l+"h"), rapid.IntRange(0, 59).Draw(t, l+"m"))
	}
	days := rapid.SampledFrom([]string{"", " on mon-fri", " on sat, sun", " on wed"}).Draw(t, "days")
	window := ""
	if rapid.Bool().Draw(t, "window") {
		window = " between " + tod("from") + " and " + tod("to")
	}
	switch rapid.IntRange(0, 4).Draw(t, "form") {
	case 0:
		return fmt.Sprintf("every %d minutes%s%s", rapid.SampledFrom([]int{1, 5, 7, 15, 60, 90, 720}).Draw(t, "n"), window,
			days)
	case 1:
		return fmt.Sprintf("hourly at :%02d%s%s", rapid.IntRange(0, 59).Draw(t, "n"), window, days)
	case 2:
		return "daily at " + tod("a") + ", " + tod("b") + days
	case 3:
		return "weekly on tue, sat at " + tod("a")
	default:
		return "monthly on " + rapid.SampledFrom([]string{"day 1", "day 30", "last day", "first monday", "last sunday",
			"third thu"}).Draw(t, "day") + " at " + tod("a")
	}
})

var zones = []string{"Europe/Lisbon", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu", "UTC",
	"America/Santiago"}

// Printed and parsed again is the same rule; due times ascend, hit the same instants
// from wherever they are asked, and elapsed ones leave no hole over a clock change.
func TestCadenceProperties(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		z := zone(t, rapid.SampledFrom(zones).Draw(t, "zone"))
		phrase := phrases.Draw(t, "phrase")
		c, err := Parse(phrase, z)
		if err != nil {
			require.ErrorContains(t, err, "never comes due")
			return
		}
		again, err := Parse(c.String(), z)
		require.NoError(t, err)
		require.Equal(t, c.String(), again.String())
		start := time.Unix(rapid.Int64Range(1_700_000_000, 1_900_000_000).Draw(t, "start"), 0)
		at := start
		var seen []time.Time
		for range 40 {
			next, ok := c.Next(at)
			require.True(t, ok)
			require.True(t, next.After(at), "%s: %s then %s", phrase, at, next)
			mid := at.Add(next.Sub(at) / 2)
			fromMid, ok := again.Next(mid)
			require.True(t, ok)
			require.True(t, fromMid.Equal(next), "%s: asked at %s: %s, not %s", phrase, mid, fromMid, next)
			seen = append(seen, next)
			at = next
		}
		if c.form == every && c.window == nil && c.days == 0 {
			for i := 1; i < len(seen); i++ {
				require.LessOrEqual(t, seen[i].Sub(seen[i-1]), c.interval, "%s: no hole", phrase)
			}
		}
		n := 0
		for range c.Between(start, seen[9]) {
			n++
		}
		require.Equal(t, 10, n)
	})
}

func TestErrorsPointAtTheWord(t *testing.T) {
	for phrase, word := range map[string]string{
		"evry 5 minutes": "evry", "every five minutes": "five", "daily 23:30": "23:30", "daily at 24:00": "24:00",
		"weekly on funday at 02:00": "funday",
		"daily at 02:00 foo":        "foo", "hourly at 20": "20", "monthly on day 32 at 02:00": "32",
		"daily at 02:00 in Mars/Base": "Mars/Base", "daily at": "",
	} {
		_, err := Parse(phrase, time.UTC)
		var pe *PhraseError
		require.ErrorAs(t, err, &pe, phrase)
		require.Equal(t, word, pe.Word, phrase)
		if word != "" {
			require.Equal(t, word, phrase[pe.Column-1:pe.Column-1+len(word)])
		}
	}
	_, err := Parse("hourly at :30 between 10:00 and 10:20", time.UTC)
	require.ErrorContains(t, err, "never comes due")
	_, err = Parse("every 2000 minutes", time.UTC)
	require.ErrorContains(t, err, "out of range")
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"every 15 minutes between 07:00 and 19:00 on mon-fri",
		"monthly on last day at 03:00 in UTC", "weekly on sun at 02:00, 03:00"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		c, err := Parse(s, time.UTC)
		if err != nil {
			return
		}
		again, err := Parse(c.String(), time.UTC)
		require.NoError(t, err)
		require.Equal(t, c.String(), again.String())
	})
}
