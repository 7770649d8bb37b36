package pace

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var lisbon, _ = time.LoadLocation("Europe/Lisbon")

func TestCalendar(t *testing.T) {
	c, err := Parse([]string{"nothing between 12:00 and 13:00 on mon-fri", "20 Mbit/s between 07:00 and 19:00 on mon-fri",
		"3 MiB/s on sat,sun", "200 Mbit/s"}, lisbon)
	require.NoError(t, err)
	at := func(s string) time.Time {
		v, err := time.ParseInLocation("2006-01-02 15:04", s, lisbon)
		require.NoError(t, err)
		return v
	}
	require.EqualValues(t, 2_500_000, c.At(at("2026-11-23 07:00"))) // a Monday
	require.EqualValues(t, 25_000_000, c.At(at("2026-11-23 06:59")))
	require.EqualValues(t, 0, c.At(at("2026-11-23 12:30")))
	require.EqualValues(t, 25_000_000, c.At(at("2026-11-23 19:00")), "the end is outside")
	require.EqualValues(t, 3<<20, c.At(at("2026-11-22 12:30")))
	next, ok := c.Next(at("2026-11-23 12:30"))
	require.True(t, ok)
	require.Equal(t, at("2026-11-23 13:00"), next)
	next, _ = c.Next(at("2026-11-27 19:00"))
	require.Equal(t, at("2026-11-28 00:00"), next)
	var none Calendar
	require.EqualValues(t, Unlimited, none.At(at("2026-11-23 12:30")))
	_, ok = none.Next(at("2026-11-23 12:30"))
	require.False(t, ok)
	for _, bad := range [][]string{{"20"}, {"fast"}, {"-3 Mbit/s"}, {"NaN Mbit/s"}, {"1 kbit/s"}, {"20 Mbit/s at noon"},
		{"20 Mbit/s in UTC"}, {"20 Mbit/s between 25:00 and 26:00"}, {"2 Mbit/s", "nothing on sun"}, {"9999999 Gbit/s"}} {
		_, err := Parse(bad, lisbon)
		require.Error(t, err, "%q", bad)
	}
}

// What is written reads back the same, at every hour of a week.
func TestLinesReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var lines []string
		for range rapid.IntRange(0, 4).Draw(t, "lines") {
			rate := rapid.SampledFrom([]string{"nothing", "unlimited", "20 Mbit/s", "1.5 Mbit/s", "300 kbit/s", "7 MiB/s",
				"2 Gbit/s"}).Draw(t, "rate")
			from := rapid.IntRange(0, 23).Draw(t, "from")
			span := fmt.Sprintf(" between %02d:15 and %02d:45", from, rapid.IntRange(0, 23).Draw(t, "to"))
			lines = append(lines, rate+span+rapid.SampledFrom([]string{"", " on mon-fri", " on sat", " on fri-mon"}).Draw(t,
				"days"))
		}
		a, err := Parse(lines, lisbon)
		require.NoError(t, err)
		b, err := Parse(a.Lines(), lisbon)
		require.NoError(t, err)
		at := time.Date(2026, 3, 28, 0, 0, 0, 0, time.UTC)
		for range 7 * 24 {
			at = at.Add(time.Hour)
			require.Equal(t, a.At(at), b.At(at))
		}
	})
}
