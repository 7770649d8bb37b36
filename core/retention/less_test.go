package retention

import (
	"math/rand/v2"
	"testing"
	"time"

	"candidharbor/core/lineage"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Rules that are not said to keep less never let go what the old ones keep, whatever
// snapshots there are; the same rules and more of them are never said to keep less.
func TestLessIsSaid(t *testing.T) {
	said := 0
	rapid.Check(t, func(t *rapid.T) {
		old, now := []Rules{drawRules(t)}, []Rules{drawRules(t)}
		if rapid.Bool().Draw(t, "grown") { // a small change of the same rules
			now = []Rules{old[0]}
			now[0].Newest += rapid.IntRange(-1, 2).Draw(t, "newest more")
			tier := rapid.SampledFrom(Tiers()).Draw(t, "tier")
			now[0].Tiers[tier].Count += rapid.IntRange(0, 2).Draw(t, "more")
			now[0].ByHand += time.Hour
		}
		if now[0].Newest < 0 {
			now[0].Newest = 0
		}
		for tier := range now[0].Tiers { // no step has both
			if s := &now[0].Tiers[tier]; s.For > 0 {
				s.Count = 0
			}
		}
		require.Empty(t, Less(old, old))
		require.Empty(t, Less(old, append([]Rules{now[0]}, old...)))
		require.Empty(t, Less(old, nil), "no rules keep everything")
		require.NotEmpty(t, Less(nil, now))
		if len(Less(old, now)) > 0 {
			said++
			return
		}
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		at := at("2025-09-01 00:00")
		var snaps []Snapshot
		for i := range 150 {
			at = at.Add(time.Duration(rng.IntN(60)) * time.Hour)
			snaps = append(snaps, Snapshot{Position: lineage.Position{Term: 1, Sequence: uint64(i + 1)}, Taken: at,
				Kind: Kind(rng.IntN(3))})
		}
		a, b := Decide(snaps, old, at), Decide(snaps, now, at)
		for i := range snaps {
			require.True(t, !a[i].Kept() || b[i].Kept(), "%s was let go unsaid: %s became %s", snaps[i].Taken, old[0].String(),
				now[0].String())
		}
	})
	require.Positive(t, said)
}
