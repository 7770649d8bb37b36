package policy

import (
	"testing"
	"time"

	"candidharbor/core/retention"

	"github.com/stretchr/testify/require"
)

const good = `policy: survey-standard
volumes: {collection: herbarium}
take:
  - every 15 minutes between 07:00 and 19:00 on mon-fri
  - daily at 23:30
zone: Europe/Lisbon
skip_unchanged: true
keep:
  larkfield: {newest: 8, hourly: 48, daily: 14, by_hand: 30 days}
  stonewick: {daily: 30, weekly: 8, monthly: 12, yearly: 7}
objectives: {larkfield: 1 hour, stonewick: 4 hours}
grace: 24 hours
`

func TestParse(t *testing.T) {
	p, err := Parse(good)
	require.NoError(t, err)
	require.Equal(t, map[string]string{"collection": "herbarium"}, p.Labels)
	require.Len(t, p.Take, 2)
	require.Equal(t, 48, p.Keep["larkfield"].Count[retention.Hourly])
	require.Equal(t, 30*24*time.Hour, p.Keep["larkfield"].ByHand)
	require.Equal(t, 4*time.Hour, p.Objectives["stonewick"])
	require.Equal(t, "Europe/Lisbon", p.Zone.String())
}

func TestProblemsPointAtTheWord(t *testing.T) {
	for name, c := range map[string]struct {
		text   string
		line   int
		column int
		what   string
	}{
		"yaml":          {"policy: a\nvolumes: {a: b\n", 2, 0, ""},
		"unknown key":   {"policy: a\nvolumes: {a: b}\nkeeep: {}\n", 3, 1, "keeep"},
		"phrase":        {"policy: a\nvolumes: {a: b}\ntake:\n  - daily at 25:00\n", 4, 14, "25:00"},
		"zone":          {"policy: a\nvolumes: {a: b}\nzone: Mars/Base\n", 3, 7, "Mars/Base"},
		"nothing kept":  {"policy: a\nvolumes: {a: b}\nkeep:\n  x: {}\n", 4, 0, "keeps nothing"},
		"zero":          {"policy: a\nvolumes: {a: b}\nkeep:\n  x: {daily: 0}\n", 4, 0, "daily: 0"},
		"contradiction": {"policy: a\nvolumes: {a: b}\ntake: [daily at 02:00]\nkeep:\n  x: {hourly: 5}\n", 5, 0, "hourly"},
		"duration":      {"policy: a\nvolumes: {a: b}\ngrace: soon\n", 3, 8, "soon"},
		"name":          {"policy: A b\nvolumes: {a: b}\n", 1, 9, "A b"},
		"no volumes":    {"policy: a\n", 1, 9, "no volumes"},
	} {
		_, err := Parse(c.text)
		var ps Problems
		require.ErrorAs(t, err, &ps, name)
		require.Equal(t, c.line, ps[0].Line, "%s: %v", name, ps)
		if c.column > 0 {
			require.Equal(t, c.column, ps[0].Column, "%s: %v", name, ps)
		}
		require.Contains(t, ps[0].What, c.what, name)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(good)
	f.Add("policy: x\nvolumes: [")
	f.Fuzz(func(t *testing.T, text string) {
		if p, err := Parse(text); err == nil {
			require.NoError(t, CheckName("policy", p.Name))
		}
	})
}

func TestDurations(t *testing.T) {
	for _, s := range []string{"1 minute", "90 minutes", "36 hours", "1 day", "30 days", "45 seconds"} {
		d, err := ParseDuration(s)
		require.NoError(t, err)
		again, err := ParseDuration(Words(d))
		require.NoError(t, err)
		require.Equal(t, d, again)
	}
}
