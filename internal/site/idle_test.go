package site

import (
	"fmt"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"

	"github.com/stretchr/testify/require"
)

// crowd is a site with many volumes of one policy, of which nothing is due.
func crowd(t testing.TB, volumes int) (*Site, *world) {
	w := newWorld(t)
	s := w.open("here")
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: [every 15 minutes between 07:00 and 19:00 on mon-fri, daily at "+
		"23:30]\nzone: Europe/Lisbon\nkeep: {here: {hourly: 24, daily: 30}}\n")
	for i := range volumes {
		v := &catalog.Volume{Name: fmt.Sprintf("v%05d", i), Lineage: fmt.Sprintf("%032x", i), Kind: "tree", Origin: "here",
			Path: w.dir, ChunkAvg: capture.ChunkAvg, Protected: true,
			Added: catalog.At(w.clock.Now()), ScheduledUntil: catalog.At(w.clock.Now())}
		v.Labels.V, v.Excludes.V = catalog.Labels{"k": "v"}, []string{}
		require.NoError(t, s.Catalog.PutVolume(v))
	}
	return s, w
}

// BenchmarkIdle is one look of the schedule at 10,000 volumes of which none is due. It is
// taken when the next is due, and when something changed.
func BenchmarkIdle(b *testing.B) {
	s, w := crowd(b, 10_000)
	_, err := s.Step(w.ctx, false) // which also looks for alarms, as it does now and then
	require.NoError(b, err)
	for b.Loop() {
		next, err := s.Step(w.ctx, false)
		require.NoError(b, err)
		require.True(b, next.After(w.clock.Now()))
	}
}

// BenchmarkAlarms is one look for alarms at 10,000 volumes. It is taken so seldom that it
// takes a hundredth of a core.
func BenchmarkAlarms(b *testing.B) {
	s, _ := crowd(b, 10_000)
	for b.Loop() {
		require.NoError(b, s.Overview.WatchAlarms())
	}
}

// BenchmarkForesee is what the console asks to foresee a year of a policy for 1,000
// volumes.
func BenchmarkForesee(b *testing.B) {
	s, _ := crowd(b, 1000)
	for b.Loop() {
		p, err := s.Rules.PreviewPolicy(b.Context(), api.PreviewAsk{Name: "p", Days: 365})
		require.NoError(b, err)
		require.NotEmpty(b, p.Places[0].Ladder)
	}
}

// One look at many volumes starts nothing, and finds what is due next.
func TestIdleCrowd(t *testing.T) {
	s, w := crowd(t, 300)
	next, err := s.Step(w.ctx, true)
	require.NoError(t, err)
	require.LessOrEqual(t, next.Sub(w.clock.Now()), 15*time.Minute)
	runs, err := s.Catalog.Runs(catalog.RunFilter{})
	require.NoError(t, err)
	require.Empty(t, runs)
}
