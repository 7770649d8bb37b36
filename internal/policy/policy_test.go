package policy

import (
	"strings"
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
	require.Equal(t, 48, p.Keep["larkfield"].Tiers[retention.Hourly].Count)
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

// What a stranger sends to fill the memory or to end the service is a problem of the document.
func TestHostileDocuments(t *testing.T) {
	head := "policy: x\nvolumes: {a: b}\n"
	for what, text := range map[string]string{
		"nested more than": head + "take: " + strings.Repeat("[", 60_000),
		"deep":             head + "take:\n  " + strings.Repeat("- ", 20_000) + "x",
		"has at most":      head + "zone: " + strings.Repeat("x", 1<<20),
		"by *alias":        head + "take: &a [daily at 1:00]\nquiesce: *a\n",
		"":                 head + "take: !!str daily",
	} {
		_, err := Parse(text)
		require.ErrorContains(t, err, what)
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
	for _, s := range []string{"1 minute", "90 minutes", "36 hours", "1 day", "30 days", "45 seconds", "18 months",
		"1 year", "7 years", "4 weeks"} {
		d, err := retention.ParseDuration(s)
		require.NoError(t, err)
		again, err := retention.ParseDuration(retention.Words(d))
		require.NoError(t, err)
		require.Equal(t, d, again)
	}
	for _, s := range []string{"", "1", "days", "0 days", "-1 days", "1.5 hours", "1 fortnight", "9999999 days",
		"900000 years"} {
		_, err := retention.ParseDuration(s)
		require.Error(t, err, s)
	}
}

// The whole language: durations, first of a bucket, week start, milestones, recovery.
func TestParseWhole(t *testing.T) {
	p, err := Parse(`policy: whole
volumes: {names: [herbarium-scans, "field-notebooks@larkfield"]}
take: [hourly at :20]
zone: Europe/Lisbon
week_starts: sunday
paused: true
keep:
  larkfield: {hourly: for 3 days, daily: first 14, weekly: first for 10 weeks, safety: 14 days}
  stonewick/shelf: {monthly: 12}
milestones:
  - {name: year-end, on: yearly on last day of june, for: 7 years, at: [stonewick/shelf]}
  - {name: board, on: monthly on first monday, for: 18 months}
objectives: {larkfield: 2 hours, recovery: 30 minutes}
`)
	require.NoError(t, err)
	require.True(t, p.Paused)
	here, shelf := p.Keep["larkfield"], p.Keep["stonewick/shelf"]
	require.Equal(t, retention.Step{For: 72 * time.Hour}, here.Tiers[retention.Hourly])
	require.Equal(t, retention.Step{Count: 14, First: true}, here.Tiers[retention.Daily])
	require.Equal(t, retention.Step{For: 70 * 24 * time.Hour, First: true}, here.Tiers[retention.Weekly])
	require.Equal(t, 6, here.WeekShift)
	require.Equal(t, 14*24*time.Hour, here.Safety)
	require.Len(t, here.Milestones, 1, "one of them is only for the shelf")
	require.Len(t, shelf.Milestones, 2)
	require.Equal(t, "yearly on last day of june", shelf.Milestones[0].On.String())
	require.Equal(t, 30*time.Minute, p.Recovery)
	require.NotContains(t, p.Objectives, "recovery")
	require.Equal(t, "hourly for 3 days, daily first 14, weekly first for 70 days, milestone board (monthly on first "+
		"monday) for 540 days, safety for 14 days", here.String())
	require.Empty(t, p.Hints)
}

// What contradicts itself is refused where it stands; what adds nothing is hinted at.
func TestContradictions(t *testing.T) {
	head := "policy: a\nvolumes: {a: b}\ntake: [daily at 02:00]\n"
	for name, c := range map[string]struct{ text, what string }{
		"shorter than its bucket": {"keep: {x: {daily: for 5 hours}}", "daily: for 5 hours is shorter"},
		"no number":               {"keep: {x: {daily: often}}", `"often": write how many`},
		"no duration":             {"keep: {x: {daily: for ever}}", `duration "ever"`},
		"milestone without keep":  {"milestones: [{name: m, on: daily, for: 1 year}]", "every place keeps everything"},
		"milestone elsewhere": {"keep: {x: {daily: 3}}\nmilestones: [{name: m, on: daily, for: 1 year, at: [y]}]",
			"for which keep says nothing"},
		"milestone twice": {"keep: {x: {daily: 3}}\nmilestones: [{name: m, on: daily, for: 1 year}, {name: m, " +
			"on: daily, for: 1 year}]", "is there twice"},
		"a day that never comes": {"keep: {x: {daily: 3}}\nmilestones: [{name: m, on: yearly on 31 june, for: 1 year}]",
			"never comes"},
		"a weekday that is none":   {"week_starts: soonday", `"soonday" is no weekday`},
		"a place that is no name":  {"keep: {'Lark Field': {daily: 3}}", "place name"},
		"hours of daily snapshots": {"keep: {x: {hourly: for 2 days}}", "keeps the same ones as daily"},
	} {
		_, err := Parse(head + c.text + "\n")
		require.ErrorContains(t, err, c.what, name)
		var ps Problems
		require.ErrorAs(t, err, &ps, name)
		require.GreaterOrEqual(t, ps[0].Line, 4, name)
	}
	for _, c := range []struct{ text, hint string }{
		{"keep: {x: {daily: 60, weekly: 4}}", "weekly 4 reaches no further back than daily 60"},
		{"keep: {x: {daily: 60}}\nmilestones: [{name: m, on: weekly on mon, for: 20 days}]",
			"reaches no further back than daily 60 at x"},
		{"objectives: {x: 2 hours}", "the objective for x is 2 hours, but snapshots come only every 1 day"},
	} {
		text, hint := c.text, c.hint
		p, err := Parse(head + text + "\n")
		require.NoError(t, err)
		require.Len(t, p.Hints, 1, text)
		require.Contains(t, p.Hints[0].What, hint)
		require.GreaterOrEqual(t, p.Hints[0].Line, 4)
	}
}
