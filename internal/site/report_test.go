package site

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A pause is told apart: nothing is late in it, and the percentage leaves it out.
func TestPausesInTheReport(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: [every 1 hours]\nkeep: {here: {newest: 9}}\nobjectives: {here: "+
		"90 minutes}\n")
	begin := w.clock.Now()
	w.until(s, begin.Add(5*time.Hour))
	_, err := s.Rules.PauseVolume("notes")
	require.NoError(t, err)
	w.clock.Set(begin.Add(9 * time.Hour))
	row := must(s.Overview.Objectives(w.ctx, begin)).Rows[0]
	require.EqualValues(t, 4*3600, row.PausedSeconds, "one that goes on counts too")
	w.clock.Set(begin.Add(15 * time.Hour))
	_, err = s.Rules.ResumeVolume("notes")
	require.NoError(t, err)
	w.write(dir, "a", "on")
	w.until(s, begin.Add(20*time.Hour))
	row = must(s.Overview.Objectives(w.ctx, begin)).Rows[0]
	require.EqualValues(t, 10*3600, row.PausedSeconds)
	require.EqualValues(t, 1, row.LateCount)
	require.EqualValues(t, 3600, row.LateSeconds, "from the end of the pause to the next due time")
	require.EqualValues(t, 20*3600, row.OnTargetSeconds+row.LateSeconds+row.UnprotectedSeconds+row.PausedSeconds)
	require.InDelta(t, 100*float64(row.OnTargetSeconds)/(10*3600), row.OnTargetPercent, 0.001)
}
