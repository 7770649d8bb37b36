package site

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func watching(t *testing.T) (*world, *Site, string) {
	w := newWorld(t)
	w.journal = true
	// A filesystem of its own, where that is allowed: a busy neighbour may fill the kernel's
	// queue, and then a snapshot says less of itself.
	if unix.Mount("tmpfs", w.dir, "tmpfs", 0, "size=256m") == nil {
		t.Cleanup(func() { require.NoError(t, unix.Unmount(w.dir, unix.MNT_DETACH)) })
	}
	s := w.open("here")
	dir := w.share(s, "notes")
	w.take(s, "notes")
	w.clock.Set(w.clock.Now().Add(time.Minute))
	w.take(s, "notes")
	if how := must(s.Overview.Volume("notes")).Following; how != "by the change journal" {
		t.Skipf("this host does not let a filesystem be watched: %s", how)
	}
	return w, s, dir
}

func (w *world) take(s *Site, volume string) *api.Snapshot {
	w.clock.Set(w.clock.Now().Add(time.Second)) // lists are in the order of time
	run, err := s.Capture.TakeSnapshot(volume, api.SnapshotTake{}, "test")
	w.done(s)(run, err)
	return must(s.Recovery.Snapshot(w.rows(s, volume)[0].ID))
}

// A watched volume answers for every moment of a watched span, and a snapshot of it is
// still; what only a look confirmed is said to be so.
func TestWatched(t *testing.T) {
	w, s, dir := watching(t)
	w.policy(s, everySix)
	begin := w.clock.Now()
	// Looks come at every sixth hour, to the hour.
	seen := func(hours int) time.Time {
		return begin.Add(time.Duration(hours) * time.Hour).Truncate(time.Hour).UTC()
	}
	require.Equal(t, "still", must(s.Recovery.Snapshot(w.rows(s, "notes")[0].ID)).Consistency)
	w.until(s, begin.Add(12*time.Hour))
	row := w.rows(s, "notes")[0]
	require.Equal(t, begin.UTC(), row.Began.Time)
	require.Equal(t, seen(9), row.WatchedUntil.Time)
	answer := func(at time.Time) string {
		return must(s.Recovery.Browse("notes", at.Format(time.RFC3339), "", "")).Answer
	}
	require.Contains(t, answer(begin.Add(8*time.Hour)), "exactly as it was")

	// Changed and changed back: the same tree, but not at every moment.
	st, err := os.Stat(filepath.Join(dir, "a"))
	require.NoError(t, err)
	w.write(dir, "a", "other")
	w.write(dir, "a", "first")
	require.NoError(t, os.Chtimes(filepath.Join(dir, "a"), st.ModTime(), st.ModTime()))
	w.until(s, begin.Add(24*time.Hour))
	row = w.rows(s, "notes")[0]
	require.Equal(t, begin.UTC(), row.Began.Time, "nothing new was found")
	require.Equal(t, seen(9), row.WatchedUntil.Time)
	require.Equal(t, seen(21), row.SeenUntil.Time)
	require.Contains(t, answer(begin.Add(16*time.Hour)), "unchanged when looked at")

	// What is found again in the store knows as much.
	_, err = s.Upkeep.RebuildCatalogue()
	require.NoError(t, err)
	require.Equal(t, seen(9), w.rows(s, "notes")[0].WatchedUntil.Time)
}

// On change one is taken when the changes have settled, though not too often, and though
// they never settle not too seldom; where nothing changes none is taken, and that is noted.
func TestOnChangeByJournal(t *testing.T) {
	w, s, dir := watching(t)
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: ['on change, rest 2 minutes, at most every 10 minutes']\n")
	base := len(w.rows(s, "notes"))
	step := func() { w.until(s, w.clock.Now().Add(time.Minute)) }
	for range 30 {
		step()
	}
	rows := w.rows(s, "notes")
	require.Len(t, rows, base, "nothing changed")
	require.WithinDuration(t, w.clock.Now(), rows[0].SeenUntil.Time, 10*time.Minute)
	require.Equal(t, rows[0].SeenUntil, rows[0].WatchedUntil)

	w.write(dir, "a", "changed")
	changed := w.clock.Now()
	for range 6 {
		step()
	}
	rows = w.rows(s, "notes")
	require.Len(t, rows, base+1)
	require.Equal(t, changed.Add(2*time.Minute).UTC(), rows[0].Began.Time)

	w.write(dir, "a", "changed again") // settled long before it is due
	for range 12 {
		step()
	}
	rows = w.rows(s, "notes")
	require.Len(t, rows, base+2)
	require.Equal(t, changed.Add(12*time.Minute).UTC(), rows[0].Began.Time)

	for range 30 { // never settles
		w.write(dir, "b", w.clock.Now().String())
		step()
	}
	n := len(w.rows(s, "notes")) - base - 2
	require.True(t, n == 2 || n == 3, "%d in half an hour", n)
	require.Empty(t, must(s.Catalog.Gaps("notes", time.Time{}, w.clock.Now())))
}
