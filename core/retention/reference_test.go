package retention

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/lineage"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// key names a bucket by its wall clock, without any arithmetic of calendar.go.
func key(t Tier, r *Rules, at time.Time) string {
	at = at.In(r.Zone)
	switch t {
	case Hourly:
		// Hours as they pass, which begin at the minute of the zone's own.
		minute, _ := strconv.Atoi(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC).In(r.Zone).Format("04"))
		return at.UTC().Add(time.Duration(minute) * time.Minute).Format("2006-01-02 15")
	case Daily:
		return at.Format("2006-01-02")
	case Weekly:
		for int(at.Weekday()+6)%7 != r.WeekShift {
			at = time.Date(at.Year(), at.Month(), at.Day()-1, 12, 0, 0, 0, r.Zone)
		}
		return at.Format("2006-01-02")
	case Monthly:
		return at.Format("2006-01")
	}
	return at.Format("2006")
}

// keys lists the buckets that a snapshot stands in, by looking every quarter of an hour.
func keys(t Tier, r *Rules, s *Snapshot, now time.Time) []string {
	out := []string{key(t, r, s.Taken)}
	for at := s.Taken; !at.After(s.seen(now)); at = at.Add(15 * time.Minute) {
		if k := key(t, r, at); k != out[len(out)-1] {
			out = append(out, k)
		}
	}
	if k := key(t, r, s.seen(now)); k != out[len(out)-1] {
		out = append(out, k)
	}
	return out
}

// reference says which scheduled snapshots a step keeps, by the definition alone.
func reference(t Tier, r *Rules, snaps []*Snapshot, now time.Time) map[lineage.Position]bool {
	step := r.Tiers[t]
	reps := map[string]*Snapshot{}
	for _, s := range snaps {
		for _, k := range keys(t, r, s, now) {
			if old := reps[k]; old == nil || (s.Position.Compare(old.Position) > 0) != step.First {
				reps[k] = s
			}
		}
	}
	newest := map[lineage.Position]string{} // the newest bucket each stands for
	for k, s := range reps {
		newest[s.Position] = max(newest[s.Position], k)
	}
	var order []lineage.Position
	for p := range newest {
		order = append(order, p)
	}
	slices.SortFunc(order, func(a, b lineage.Position) int { return b.Compare(a) })
	kept := map[lineage.Position]bool{}
	for i, p := range order {
		if (step.Count > 0 && i < step.Count) || (step.For > 0 && newest[p] >= key(t, r, now.Add(-step.For))) {
			kept[p] = true
		}
	}
	return kept
}

func referenceMilestone(m *Milestone, r *Rules, snaps []*Snapshot, now time.Time) map[lineage.Position]bool {
	kept := map[lineage.Position]bool{}
	if len(snaps) == 0 {
		return kept
	}
	first := slices.MinFunc(snaps, func(a, b *Snapshot) int { return a.Taken.Compare(b.Taken) }).Taken.In(r.Zone)
	for y, mo, d := first.Date(); ; d++ {
		end := time.Date(y, mo, d+1, 0, 0, 0, 0, r.Zone)
		if end.After(now) {
			return kept
		}
		noon := time.Date(y, mo, d, 12, 0, 0, 0, r.Zone)
		if !m.On.Holds(noon.Date()) || !now.Before(end.Add(m.For)) {
			continue
		}
		var in, after *Snapshot
		for _, s := range snaps {
			if slices.Contains(keys(Daily, r, s, now), noon.Format("2006-01-02")) {
				if in == nil || s.Position.Compare(in.Position) > 0 {
					in = s
				}
			} else if s.Taken.After(noon) && (after == nil || s.Position.Compare(after.Position) < 0) {
				after = s
			}
		}
		switch {
		case in != nil:
			kept[in.Position] = true
		case after != nil:
			kept[after.Position] = true
		}
	}
}

// Every calendar bucket with data in it is represented as promised, skipping or not,
// by count or by duration, by the first or the last, in zones with odd clocks.
func TestAgainstReference(t *testing.T) {
	zones := []string{"Europe/Lisbon", "Australia/Lord_Howe", "America/Santiago", "UTC", "Asia/Kathmandu"}
	rapid.Check(t, func(t *rapid.T) {
		zone, err := time.LoadLocation(rapid.SampledFrom(zones).Draw(t, "zone"))
		require.NoError(t, err)
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		now := time.Date(2025, 9, 1+rng.IntN(60), rng.IntN(24), rng.IntN(60), 0, 0, zone)
		step := rapid.SampledFrom([]int{1, 7, 40, 200}).Draw(t, "hours between")
		var snaps []Snapshot
		for i := range 60 {
			taken := now
			if rng.IntN(15) == 0 { // a clock that ran backwards
				taken = taken.Add(-time.Duration(rng.IntN(100)) * time.Hour)
			}
			s := Snapshot{Position: lineage.Position{Term: 1 + uint64(i)/40, Sequence: uint64(i + 1)}, Taken: taken}
			now = now.Add(time.Duration(1+rng.IntN(step*60)) * time.Minute)
			if rng.IntN(3) == 0 {
				s.SeenUntil = now
				now = now.Add(time.Minute)
			}
			snaps = append(snaps, s)
		}
		r := drawRules(t)
		r.Zone, r.Newest = zone, 0
		rng.Shuffle(len(snaps), func(i, j int) { snaps[i], snaps[j] = snaps[j], snaps[i] })
		verdicts := Decide(snaps, []Rules{r}, now)
		var all []*Snapshot
		for i := range snaps {
			all = append(all, &snaps[i])
		}
		for _, tier := range Tiers() {
			want := reference(tier, &r, all, now)
			for i := range snaps {
				k := slices.IndexFunc(verdicts[i].Reasons, func(x Reason) bool { return x.Rule == Rule(tier.String()) })
				require.Equal(t, want[snaps[i].Position], k >= 0, "%s %s %+v at %s", tier, snaps[i].Taken, r.Tiers[tier], now)
				if k >= 0 {
					require.True(t, verdicts[i].Reasons[k].Until.After(now), "it ends in the future")
				}
			}
		}
		if len(r.Milestones) > 0 {
			want := referenceMilestone(&r.Milestones[0], &r, all, now)
			for i := range snaps {
				got := slices.ContainsFunc(verdicts[i].Reasons, func(x Reason) bool { return x.Rule == RuleMilestone })
				require.Equal(t, want[snaps[i].Position], got, "milestone %s for %s: %s", r.Milestones[0].On, r.Milestones[0].For,
					snaps[i].Taken)
			}
		}
	})
}

// What is dated ahead displaces nothing and is not displaced; marks, floors, the owed
// and the newest stay whatever the rules say.
func TestNothingGuardedGoes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		rules := []Rules{drawRules(t)}
		now := at("2026-06-01 12:00")
		var plain, forged []Snapshot
		for i := range 80 {
			s := Snapshot{Position: lineage.Position{Term: 1, Sequence: uint64(i + 1)},
				Taken: now.Add(-time.Duration(2000-25*i) * time.Hour)}
			plain = append(plain, s)
		}
		forged = slices.Clone(plain)
		for i := range rng.IntN(40) {
			forged = append(forged, Snapshot{Position: lineage.Position{Term: 1, Sequence: uint64(1000 + i)},
				Taken: now.Add(time.Duration(1+rng.IntN(1e6)) * time.Hour), SeenUntil: now.Add(1e6 * time.Hour)})
		}
		for i := range rng.IntN(40) { // a flood, and forged ones among the past
			forged = append(forged, Snapshot{Position: lineage.Position{Term: 1, Sequence: uint64(2000 + i)},
				Taken: now.Add(-time.Duration(rng.IntN(2000)) * time.Hour), OutOfTurn: "too many"})
		}
		a, b := Decide(plain, rules, now), Decide(forged, rules, now)
		for i := range plain {
			// the newest complete one may be one dated ahead, beside it
			if i == 79 && len(forged) > 0 && b[i].Kept() != a[i].Kept() {
				continue
			}
			require.Equal(t, a[i].Kept(), b[i].Kept(), "forged snapshots displaced %s", plain[i].Taken)
		}
		for i := len(plain); i < len(forged); i++ {
			require.True(t, b[i].Kept())
		}
		guarded := slices.Clone(plain)
		for i := range guarded {
			switch rng.IntN(8) {
			case 0:
				guarded[i].Keep = &Keep{Reason: "audit"}
			case 1:
				guarded[i].Keep = &Keep{Reason: "audit", Until: now.Add(time.Hour)}
			case 2:
				guarded[i].Floor = now.Add(time.Hour)
			case 3:
				guarded[i].OwedTo = []string{"stonewick"}
			case 4:
				guarded[i].Recalled = now.Add(time.Hour)
			case 5:
				guarded[i].Keep = &Keep{Reason: "over", Until: now.Add(-time.Hour)}
			}
		}
		for i, v := range Decide(guarded, rules, now) {
			g := guarded[i]
			if (g.Keep != nil && g.Keep.Reason == "audit") || now.Before(g.Floor) || len(g.OwedTo) > 0 ||
				now.Before(g.Recalled) || i == 79 {
				require.True(t, v.Kept())
			}
			if a[i].Kept() {
				require.True(t, v.Kept(), "a guard only adds")
			}
		}
	})
}

func ExampleDecide_milestone() {
	lastOfJune, _ := cadence.ParseDays("yearly on last day of june")
	rules := Rules{Zone: time.UTC, Newest: 2, Milestones: []Milestone{{Name: "year-end", On: lastOfJune,
		For: 7 * 365 * 24 * time.Hour}}}
	var snaps []Snapshot
	for i, day := range []string{"2026-06-28", "2026-06-30", "2026-07-01", "2026-07-02", "2026-07-03"} {
		taken, _ := time.Parse("2006-01-02", day)
		snaps = append(snaps, Snapshot{Position: lineage.Position{Term: 1, Sequence: uint64(i + 1)}, Taken: taken})
	}
	for i, v := range Decide(snaps, []Rules{rules}, snaps[4].Taken) {
		for _, why := range v.Reasons {
			fmt.Printf("%s: %s\n", snaps[i].Taken.Format("2 Jan"), why.String())
		}
		if !v.Kept() {
			fmt.Printf("%s: %s\n", snaps[i].Taken.Format("2 Jan"), v.LetGo)
		}
	}
	// Output:
	// 28 Jun: no longer within newest 2
	// 30 Jun: milestone year-end, for 30 Jun 2026
	// 1 Jul: no longer within newest 2
	// 2 Jul: number 2 of the newest 2
	// 3 Jul: number 1 of the newest 2
	// 3 Jul: the newest complete snapshot here
}

// A place that lacks some snapshots lets none go that it would keep had it all: so it may
// decide while the older ones are still on their way, as long as it has every sighting of
// those it has.
func TestDecidingWithPartLetsNoMoreGo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		now := at("2025-10-20 00:00")
		var all []Snapshot
		for i := range 100 {
			now = now.Add(time.Duration(1+rng.IntN(60)) * time.Hour)
			s := Snapshot{Position: lineage.Position{Term: 1, Sequence: uint64(i + 1)}, Taken: now}
			if rng.IntN(3) == 0 {
				now = now.Add(time.Duration(rng.IntN(90)) * time.Hour)
				s.SeenUntil = now
			}
			all = append(all, s)
		}
		part := slices.DeleteFunc(slices.Clone(all), func(Snapshot) bool { return rng.IntN(4) == 0 })
		rules := []Rules{drawRules(t)}
		stays := map[lineage.Position]bool{}
		for i, v := range Decide(part, rules, now) {
			stays[part[i].Position] = v.Kept()
		}
		for i, v := range Decide(all, rules, now) {
			if kept, has := stays[all[i].Position]; has && v.Kept() {
				require.True(t, kept, "%s would be missing once all is there", all[i].Taken)
			}
		}
	})
}
