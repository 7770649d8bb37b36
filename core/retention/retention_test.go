package retention

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/lineage"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var lisbon = func() *time.Location {
	z, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		panic(err)
	}
	return z
}()

func at(s string) time.Time {
	t, err := time.ParseInLocation("2006-01-02 15:04", s, lisbon)
	if err != nil {
		panic(err)
	}
	return t
}

func series(begin time.Time, step time.Duration, n int) []Snapshot {
	out := make([]Snapshot, n)
	for i := range out {
		out[i] = Snapshot{Position: lineage.Position{Term: 1, Sequence: uint64(i + 1)},
			Taken: begin.Add(time.Duration(i) * step)}
	}
	return out
}

func kept(snaps []Snapshot, v []Verdict) (out []string) {
	for i := range v {
		if v[i].Kept() {
			out = append(out, snaps[i].Taken.In(lisbon).Format("01-02 15:04"))
		}
	}
	return out
}

func TestTiersKeepTheLastOfEachBucket(t *testing.T) {
	snaps := series(at("2026-03-01 00:00"), 6*time.Hour, 40) // ten days
	now := snaps[39].Taken.Add(time.Minute)
	r := Rules{Zone: lisbon}
	r.Tiers[Daily].Count = 3
	v := Decide(snaps, []Rules{r}, now)
	require.Equal(t, []string{"03-08 18:00", "03-09 18:00", "03-10 18:00"}, kept(snaps, v))
	require.Equal(t, "daily 1 of 3, for 10 Mar 2026", v[39].Reasons[0].String())
	require.Equal(t, at("2026-03-13 00:00"), v[39].Reasons[0].Until)
	require.Equal(t, "no longer within daily 3", v[0].LetGo)
}

// A snapshot that was seen unchanged stands for every bucket up to then, and counts
// once: what stood still for a month loses no past.
func TestUnchangedIsNotMissing(t *testing.T) {
	snaps := series(at("2026-01-01 12:00"), 24*time.Hour, 5)
	snaps[4].SeenUntil = at("2026-02-20 12:00")
	late := Snapshot{Position: lineage.Position{Term: 1, Sequence: 6}, Taken: at("2026-02-21 12:00")}
	snaps = append(snaps, late)
	r := Rules{Zone: lisbon}
	r.Tiers[Daily].Count = 4
	v := Decide(snaps, []Rules{r}, late.Taken)
	require.Equal(t, []string{"01-03 12:00", "01-04 12:00", "01-05 12:00", "02-21 12:00"}, kept(snaps, v))
	r = Rules{Zone: lisbon}
	r.Tiers[Monthly].Count = 2
	require.Equal(t, []string{"01-05 12:00", "02-21 12:00"}, kept(snaps, Decide(snaps, []Rules{r}, late.Taken)),
		"it stands for January")
}

func TestOwnEndsAndGuards(t *testing.T) {
	snaps := series(at("2026-03-01 00:00"), time.Hour, 6)
	snaps[0].Kind, snaps[0].End = ByHand, at("2026-04-01 00:00")
	snaps[1].Kind = ByHand
	snaps[2].Kind = Safety
	snaps[3].OwedTo = []string{"stonewick"}
	snaps[4].Recalled = at("2026-03-20 00:00")
	r := Rules{Zone: lisbon, ByHand: 48 * time.Hour, Newest: 1}
	all := func(now string) []string { return kept(snaps, Decide(snaps, []Rules{r}, at(now))) }
	require.Len(t, all("2026-03-02 00:00"), 6)
	require.Equal(t, []string{"03-01 00:00", "03-01 03:00", "03-01 04:00", "03-01 05:00"}, all("2026-03-10 00:00"))
	require.Equal(t, []string{"03-01 03:00", "03-01 05:00"}, all("2026-05-01 00:00"),
		"owed and newest stay whatever the clock says")
	require.Len(t, kept(snaps, Decide(snaps, nil, at("2030-01-01 00:00"))), 6, "a place without rules keeps everything")
}

func drawRules(t *rapid.T) Rules {
	r := Rules{Zone: lisbon, Newest: rapid.IntRange(0, 4).Draw(t, "newest"),
		ByHand: time.Duration(rapid.IntRange(1, 400).Draw(t, "hours")) * time.Hour}
	for _, tier := range Tiers() {
		switch rapid.IntRange(0, 3).Draw(t, tier.String()) {
		case 1:
			r.Tiers[tier].Count = rapid.SampledFrom([]int{1, 3, 12}).Draw(t, "count")
		case 2:
			r.Tiers[tier].For = time.Duration(rapid.SampledFrom([]int{5, 48, 900}).Draw(t, "hours")) * time.Hour
		}
		r.Tiers[tier].First = rapid.IntRange(0, 3).Draw(t, "first") == 0
	}
	r.WeekShift = rapid.SampledFrom([]int{0, 0, 6, 2}).Draw(t, "week")
	if rapid.Bool().Draw(t, "milestone") {
		on, err := cadence.ParseDays(rapid.SampledFrom([]string{"weekly on sunday", "monthly on last day",
			"monthly on first monday", "yearly on 25 december", "daily"}).Draw(t, "on"))
		if err != nil {
			panic(err)
		}
		r.Milestones = []Milestone{{Name: "m", On: on,
			For: time.Duration(rapid.IntRange(1, 3000).Draw(t, "for")) * time.Hour}}
	}
	return r
}

// The representative of a bucket never depends on when decisions were made: deciding
// after every snapshot, and removing what expired, ends in the same set as deciding once.
func TestDecidingOftenOrSeldom(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rules := []Rules{drawRules(t)}
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		now := at("2025-10-20 00:00")
		var often, all []Snapshot
		for i := range 120 {
			now = now.Add(time.Duration(rng.IntN(50)) * time.Hour / 2)
			if n := len(all); n > 0 && rng.IntN(3) == 0 {
				all[n-1].SeenUntil = now
				often[len(often)-1].SeenUntil = now
			} else {
				s := Snapshot{Position: lineage.Position{Term: 1, Sequence: uint64(i + 1)}, Taken: now}
				all, often = append(all, s), append(often, s)
			}
			if rng.IntN(2) == 0 {
				v := Decide(often, rules, now)
				left := often[:0:0]
				for k := range often {
					if v[k].Kept() {
						left = append(left, often[k])
					}
				}
				often = left
			}
		}
		require.Equal(t, kept(all, Decide(all, rules, now)), kept(often, Decide(often, rules, now)))
	})
}

// Adding a rule never removes; every bucket within a tier's reach is represented; the
// newest, the owed and the recalled never go.
func TestUnionOfRules(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		now := at("2025-10-20 00:00")
		var snaps []Snapshot
		for i := range 200 {
			now = now.Add(time.Duration(rng.IntN(40)) * time.Hour)
			s := Snapshot{Position: lineage.Position{Term: 1, Sequence: uint64(i + 1)}, Taken: now, Kind: Kind(rng.IntN(3))}
			if rng.IntN(10) == 0 {
				s.OwedTo = []string{"far"}
			}
			if rng.IntN(10) == 0 {
				s.Recalled = now.Add(1e6 * time.Hour)
			}
			snaps = append(snaps, s)
		}
		rng.Shuffle(len(snaps), func(i, j int) { snaps[i], snaps[j] = snaps[j], snaps[i] })
		a, b := drawRules(t), drawRules(t)
		one, two := Decide(snaps, []Rules{a}, now), Decide(snaps, []Rules{a, b}, now)
		for i := range snaps {
			if one[i].Kept() {
				require.True(t, two[i].Kept(), "a further rule let %v go", snaps[i].Taken)
			}
			if len(snaps[i].OwedTo) > 0 || now.Before(snaps[i].Recalled) || snaps[i].Position.Sequence == 200 {
				require.True(t, one[i].Kept())
			}
			require.Equal(t, one[i].Kept(), one[i].LetGo == "")
		}
		if a.Tiers[Daily].Count > 0 && !a.Tiers[Daily].First {
			days := map[string]lineage.Position{}
			for _, s := range snaps {
				if d := s.Taken.In(lisbon).Format("2006-01-02"); s.Kind == Scheduled && s.Position.Compare(days[d]) > 0 {
					days[d] = s.Position
				}
			}
			var reps []lineage.Position
			for _, p := range days {
				reps = append(reps, p)
			}
			slices.SortFunc(reps, func(x, y lineage.Position) int { return y.Compare(x) })
			for _, p := range reps[:min(len(reps), a.Tiers[Daily].Count)] {
				i := slices.IndexFunc(snaps, func(s Snapshot) bool { return s.Position == p })
				require.True(t, slices.ContainsFunc(one[i].Reasons, func(r Reason) bool { return r.Rule == "daily" }))
			}
		}
	})
}

func TestBucketsAscendOverClockChanges(t *testing.T) {
	for _, tier := range Tiers() {
		for _, name := range []string{"Europe/Lisbon", "Australia/Lord_Howe"} {
			z, err := time.LoadLocation(name)
			require.NoError(t, err)
			c := calendar{zone: z, tier: tier}
			last := int64(-1 << 62)
			for i := range 20_000 {
				when := time.Date(2025, 9, 1, 0, i*37, 0, 0, time.UTC)
				b := c.bucket(when)
				require.GreaterOrEqual(t, b, last, "%s %s", tier, when)
				require.False(t, c.start(b).After(when), "%s %s: starts %s", tier, when, c.start(b))
				require.True(t, c.start(b+1).After(when))
				last = b
			}
		}
	}
}

// In autumn an hour comes twice, and what was taken in either stays.
func TestHourThatComesTwice(t *testing.T) {
	snaps := series(time.Date(2026, 10, 24, 22, 30, 0, 0, time.UTC), time.Hour, 8) // Lisbon: at 02:00 it is 01:00 again
	r := Rules{Zone: lisbon}
	r.Tiers[Hourly].Count = 8
	names := map[string]bool{}
	for i, v := range Decide(snaps, []Rules{r}, snaps[7].Taken.Add(time.Minute)) {
		k := slices.IndexFunc(v.Reasons, func(r Reason) bool { return r.Rule == "hourly" })
		require.GreaterOrEqual(t, k, 0, snaps[i].Taken.In(lisbon))
		names[v.Reasons[k].Bucket.Format(time.RFC3339)] = true
	}
	require.Len(t, names, 8)
}

func BenchmarkDecideMillion(b *testing.B) {
	snaps := series(at("2000-01-01 00:00"), 15*time.Minute, 1_000_000)
	rng := rand.New(rand.NewPCG(1, 2))
	rng.Shuffle(len(snaps), func(i, j int) { snaps[i], snaps[j] = snaps[j], snaps[i] })
	r := Rules{Zone: lisbon, Newest: 100}
	r.Tiers = [5]Step{Hourly: {Count: 5000}, Daily: {Count: 3000}, Weekly: {Count: 1000}, Monthly: {Count: 300},
		Yearly: {Count: 30}}
	now := snaps[0].Taken
	for _, s := range snaps {
		if s.Taken.After(now) {
			now = s.Taken
		}
	}
	for _, name := range []string{"decide", "sort"} {
		b.Run(fmt.Sprint(name), func(b *testing.B) {
			for b.Loop() {
				if name == "decide" {
					Decide(snaps, []Rules{r}, now)
				} else {
					sorted := slices.Clone(snaps)
					slices.SortFunc(sorted, func(x, y Snapshot) int { return x.Position.Compare(y.Position) })
				}
			}
		})
	}
}
