package preview

import (
	"fmt"
	"testing"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/lineage"
	"candidharbor/core/retention"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var begin = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

func phrases(t testing.TB, list ...string) (out []*cadence.Cadence) {
	for _, p := range list {
		c, err := cadence.Parse(p, time.UTC)
		require.NoError(t, err)
		out = append(out, c)
	}
	return out
}

func run(take []*cadence.Cadence, places []Place, from, to time.Time) []Outlook {
	out, _ := Run(Due(take, from, to, MostTaken), places, from, to, func(int) error { return nil })
	return out
}

func daily(n int) retention.Rules {
	r := retention.Rules{Zone: time.UTC}
	r.Tiers[retention.Daily].Count = n
	return r
}

// A ladder of moments as the rules promise it, places side by side, due times that
// coincide taken once.
func TestLadder(t *testing.T) {
	far := retention.Rules{Zone: time.UTC}
	far.Tiers[retention.Monthly].Count = 3
	out := run(phrases(t, "every 6 hours", "daily at 12:00"), []Place{{Name: "here", Rules: []retention.Rules{daily(5)}},
		{Name: "there", Rules: []retention.Rules{far}}, {Name: "all"}}, begin, begin.AddDate(0, 0, 90))
	growth := Growth{Live: 1000, Added: 10, Spacing: 6 * time.Hour}
	require.Equal(t, 360, out[0].Taken)
	require.Len(t, out[0].Ladder, 5)
	require.Equal(t, begin.AddDate(0, 0, 90), out[0].Ladder[0].Taken)
	require.Len(t, out[1].Ladder, 3)
	require.Equal(t, time.Date(2026, 2, 28, 18, 0, 0, 0, time.UTC), out[1].Ladder[2].Taken)
	require.Len(t, out[2].Ladder, 360)
	last := out[2].Samples[len(out[2].Samples)-1]
	require.InDelta(t, 1000+359*10, growth.Bytes(last), 1)
	require.Equal(t, 360, last.Count)
	require.Less(t, growth.Bytes(out[1].Samples[len(out[1].Samples)-1]), int64(3001),
		"far apart they share more than they differ")
}

// What is foreseen is what happens: living through the same days, deciding at other
// times of the day, ends with the same snapshots.
func TestForeseenIsWhatHappens(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := retention.Rules{Zone: time.UTC, Newest: rapid.IntRange(0, 5).Draw(t, "newest")}
		for _, tier := range retention.Tiers() {
			r.Tiers[tier].Count = rapid.IntRange(0, 6).Draw(t, tier.String())
		}
		c, err := cadence.Parse(rapid.SampledFrom([]string{"every 5 hours", "daily at 23:30",
			"every 90 minutes between 07:00 and 19:00 on mon-fri"}).Draw(t, "take"), time.UTC)
		require.NoError(t, err)
		end := begin.AddDate(0, 0, rapid.IntRange(1, 200).Draw(t, "days"))
		foreseen := run([]*cadence.Cadence{c}, []Place{{Rules: []retention.Rules{r}}}, begin, end)[0]
		var have []retention.Snapshot
		n := uint64(0)
		for at := range c.Between(begin, end) {
			n++
			have = append(have, retention.Snapshot{Position: lineage.Position{Term: 1, Sequence: n}, Taken: at})
			if n%7 == 0 {
				have = left(have, r, at)
			}
		}
		have = left(have, r, end)
		require.Len(t, foreseen.Ladder, len(have))
		for i := range have {
			require.Equal(t, have[len(have)-1-i].Taken, foreseen.Ladder[i].Taken)
		}
	})
}

func left(have []retention.Snapshot, r retention.Rules, now time.Time) (out []retention.Snapshot) {
	for i, v := range retention.Decide(have, []retention.Rules{r}, now) {
		if v.Kept() {
			out = append(out, have[i])
		}
	}
	return out
}

// What is there already takes part, with its marks and ends.
func TestFromToday(t *testing.T) {
	have := []retention.Snapshot{
		{Position: lineage.Position{Term: 2, Sequence: 7}, Taken: begin.AddDate(0, 0, -3)},
		{Position: lineage.Position{Term: 2, Sequence: 8}, Taken: begin.AddDate(0, 0, -2),
			Keep: &retention.Keep{Reason: "audit"}},
		{Position: lineage.Position{Term: 2, Sequence: 9}, Taken: begin.AddDate(0, 0, -1), Kind: retention.ByHand,
			End: begin.AddDate(0, 0, 10)},
	}
	o := run(phrases(t, "daily at 06:00"), []Place{{Rules: []retention.Rules{daily(4)}, Have: have}}, begin,
		begin.AddDate(0, 0, 30))[0]
	require.Len(t, o.Ladder, 5)
	require.Equal(t, "marked to keep: audit", o.Ladder[4].Reasons[0].String())
	require.Equal(t, 3, o.Samples[0].Count)
	require.Empty(t, run(nil, []Place{{Rules: []retention.Rules{daily(4)}}}, begin, begin.AddDate(1, 0, 0))[0].Ladder,
		"nothing is taken, nothing is there")
}

// A year of a snapshot every quarter of an hour is lived through while one looks.
func BenchmarkYear(b *testing.B) {
	r := retention.Rules{Zone: time.UTC, Newest: 8}
	r.Tiers = [5]retention.Step{{Count: 48}, {Count: 14}, {Count: 8}, {Count: 12}, {Count: 7}}
	take := phrases(b, "every 15 minutes")
	for b.Loop() {
		run(take, []Place{{Rules: []retention.Rules{r}}, {Rules: []retention.Rules{daily(30)}}}, begin,
			begin.AddDate(1, 0, 0))
	}
}

func ExampleDue() {
	a, _ := cadence.Parse("every 12 hours", time.UTC)
	b, _ := cadence.Parse("daily at 12:00, 18:00", time.UTC)
	for _, t := range Due([]*cadence.Cadence{a, b}, begin, begin.AddDate(0, 0, 1), 100) {
		fmt.Println(t.Format("2 Jan 15:04"))
	}
	// Output:
	// 1 Jan 12:00
	// 1 Jan 18:00
	// 2 Jan 00:00
}
