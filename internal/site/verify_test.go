package site

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// Verification fails while anything lacks and says so on Today; a damaged mark is written anew
// from the catalogue, a damaged record of a snapshot stays told while no site has it.
func TestVerifyFailsWhileAnythingLacks(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.take(s, "notes")
	w.write(dir, "a", "second")
	w.take(s, "notes")
	rows := w.rows(s, "notes")
	must(s.Rules.KeepSnapshot(rows[1].ID, api.KeepAsk{Reason: "evidence"}))
	flip := func(pattern string) {
		names := must(filepath.Glob(filepath.Join(s.Store.Dir(), pattern)))
		require.Len(t, names, 1, pattern)
		raw := must(os.ReadFile(names[0]))
		raw[len(raw)/2] ^= 1
		require.NoError(t, os.WriteFile(names[0], raw, 0o600))
	}
	told := func() string { return fmt.Sprint(must(s.Overview.Status()).Sentences) }
	flip("marks/" + rows[1].ID + "/keep-*")
	run := must(s.Run.Wait(w.ctx, must(s.Upkeep.Verify("test")).ID))
	require.Equal(t, "done with remarks", run.State, run.Outcome)
	marks, _, err := s.Store.Marks(must(object.ParseID(rows[1].ID)))
	require.NoError(t, err)
	require.Equal(t, "evidence", marks[0].Text)
	require.Contains(t, w.done(s)(s.Upkeep.Verify("test")).Outcome, "all as written")

	good := filepath.Join(s.Store.Dir(), "roots", rows[1].ID)
	record := must(os.ReadFile(good))
	flip("roots/" + rows[1].ID)
	run = must(s.Run.Wait(w.ctx, must(s.Upkeep.Verify("test")).ID))
	require.Equal(t, "failed", run.State)
	require.Contains(t, run.Outcome, rows[1].ID[:12])
	require.Contains(t, told(), "1 record damaged or missing")
	w.textOf(s, rows[0], "a") // all else is whole
	_, err = s.Store.HealRoot(record)
	require.NoError(t, err)
	require.Contains(t, w.done(s)(s.Upkeep.Verify("test")).Outcome, "all as written")
	require.NotContains(t, told(), "damaged")
}

// What was put aside goes once a verification has found every snapshot whole, and the schedule
// starts one by night.
func TestAsideIsVerifiedByNight(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.share(s, "notes")
	w.take(s, "notes")
	require.NoError(t, s.Close())
	stray := filepath.Join(w.dir, "here", "store", "packs", "d-00000077-00000000.pack")
	require.NoError(t, os.WriteFile(stray, []byte("of a commit that a kill cut short"), 0o600))
	s = w.open("here")
	require.NoFileExists(t, stray)
	require.NotZero(t, s.Store.Aside())
	w.clock.Set(time.Date(2026, 3, 3, 2, 10, 0, 0, time.Local))
	s.housekeep()
	require.NotZero(t, s.Store.Aside(), "not before the night")
	w.clock.Set(time.Date(2026, 3, 3, 3, 10, 0, 0, time.Local))
	s.housekeep()
	require.Eventually(t, func() bool { return s.Store.Aside() == 0 }, 10*time.Second, time.Millisecond)
	w.take(s, "notes")
}
