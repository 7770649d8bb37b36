package cli

import (
	"strings"
	"testing"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Moments as people write them.
func TestParseWhen(t *testing.T) {
	now := time.Date(2026, 3, 4, 14, 5, 30, 0, time.UTC)
	for in, want := range map[string]time.Time{
		"2026-03-04T14:05:30Z":      now,
		"2026-03-04T15:05:30+01:00": now,
		"2026-03-04 14:05:30":       now,
		"2026-03-04 14:05":          now.Add(-30 * time.Second),
		"2026-03-04T14:05":          now.Add(-30 * time.Second),
		"2026-03-04":                now.Truncate(24 * time.Hour),
		"-2h":                       now.Add(-2 * time.Hour),
		"+30d":                      now.AddDate(0, 0, 30),
		"-90s":                      now.Add(-90 * time.Second),
		"-1w":                       now.AddDate(0, 0, -7),
	} {
		got, ok := parseWhen(in, now)
		require.True(t, ok, in)
		require.True(t, want.Equal(got), "%s: %s", in, got)
	}
	for _, in := range []string{"", "latest", "2h", "-2", "-2y", "- 2h", "-99999999999999999999d", "2026-02-30",
		"2026-03-04 25:00", "04.03.2026", "5f3a9c0d1e2b"} {
		_, ok := parseWhen(in, now)
		require.False(t, ok, in)
		require.Equal(t, in, instant(in), "the site is asked")
	}
	end, err := future("+2d")
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().Add(48*time.Hour), *end, time.Minute)
}

func TestSizesAndAges(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 1536: "1.5 KiB", 1 << 30: "1.0 GiB",
		5 << 50: "5.0 PiB", 3 << 60: "3.0 EiB"} {
		require.Equal(t, want, size(n))
	}
	for s, want := range map[int64]string{0: "0 s", 119: "119 s", 120: "2 min", 7199: "119 min", 7200: "2 h",
		48*3600 - 1: "47 h", 48 * 3600: "2 days"} {
		require.Equal(t, want, age(s))
	}
}

// A table never grows wider than the terminal while its columns can be narrowed, and
// narrow columns are left whole.
func TestTablesFit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		head := []string{"ID", "VOLUME", "WHY"}
		word := rapid.StringMatching(`[a-z é]{0,60}`)
		rows := rapid.SliceOfN(rapid.SliceOfN(word, 3, 3), 1, 5).Draw(t, "rows")
		width := rapid.IntRange(48, 120).Draw(t, "width")
		total := 0
		for i, c := range fit(head, rows, width) {
			natural := text.StringWidth(head[i])
			for _, r := range rows {
				natural = max(natural, text.StringWidth(r[i]))
			}
			require.LessOrEqual(t, c.WidthMax, natural)
			if natural <= 12 {
				require.Equal(t, natural, c.WidthMax, "a short column is not cut")
			}
			total += c.WidthMax + 2
		}
		require.LessOrEqual(t, total, width)
	})
}

// Piped, a list is tab separated with one line per row, for awk and cut.
func TestPipedList(t *testing.T) {
	out := &strings.Builder{}
	f := &session{out: out}
	f.list([]string{"A", "B"}, [][]string{{"1", "x y"}, {"2", ""}}, "none")
	f.list([]string{"A"}, nil, "No rows yet.")
	require.Equal(t, "A\tB\n1\tx y\n2\t\nNo rows yet.\n", out.String())
}
