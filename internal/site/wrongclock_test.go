package site

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A snapshot that was taken while the clock was wrong displaces nothing: it stands out of turn
// until a person admits it, and the next one with the right clock does not.
func TestTakenWithWrongClock(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, "policy: p\nvolumes: {names: [notes]}\ntake: [at service start]\nkeep: {here: {newest: 1, monthly: "+
		"24}}\ngrace: 1 seconds\n")
	start := func(at time.Time, text string) {
		require.NoError(t, s.Close())
		w.write(dir, "a", text)
		w.clock.Set(at)
		s = w.open("here")
		_, err := s.Step(w.ctx, true)
		require.NoError(t, err)
	}
	for m := range 4 {
		start(time.Date(2026, time.Month(4+m), 28, 23, 0, 0, 0, time.UTC), fmt.Sprint("month ", m))
	}
	require.Len(t, w.rows(s, "notes"), 4)
	start(time.Date(2026, 5, 30, 0, 1, 0, 0, time.UTC), "with the wrong clock")
	start(time.Date(2026, 7, 30, 9, 0, 0, 0, time.UTC), "with the right one")
	for range 3 {
		w.clock.Set(w.clock.Now().Add(time.Minute))
		w.done(s)(s.Rules.Prune("", "test"))
	}
	texts := map[string]string{}
	for _, row := range w.rows(s, "notes") {
		texts[w.textOf(s, row, "a")] = row.OutOfTurn
	}
	require.Contains(t, texts, "month 1", "it has the place of its month still")
	require.Contains(t, texts["with the wrong clock"], "the clock of this host was wrong")
	require.Empty(t, texts["with the right one"])
	require.Contains(t, fmt.Sprint(must(s.Overview.Status()).Sentences), "out of turn")
}
