package site

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/moment"

	"github.com/stretchr/testify/require"
)

// What another tool left is found by the time in its path, browsed, restored from with a way
// back, and taken over: then it stands for its own moments, before the history proper, also at
// the far site and after the catalogue was lost.
func TestFoundByTheirTimes(t *testing.T) {
	w := newWorld(t)
	s, far := w.open("here"), w.open("there")
	dir := w.share(s, "notes")
	left := filepath.Join(w.dir, "left")
	for day, text := range map[string]string{"2026-02-27": "friday", "2026-02-28": "saturday", "2026-02-31": "no such day",
		"2027-01-01": "to come", "2026-03-04": "later"} {
		require.NoError(t, os.MkdirAll(filepath.Join(left, "day-"+day, "data"), 0o755))
		require.NoError(t, exec.Command("cp", "-a", dir+"/.", filepath.Join(left, "day-"+day, "data")).Run())
		w.write(filepath.Join(left, "day-"+day, "data"), "b", text)
	}
	require.NoError(t, os.Symlink("/etc", filepath.Join(left, "day-2026-02-26")))
	pattern := filepath.Join(left, "day-%Y-%m-%d/data")
	for why, p := range map[string]string{"must be a whole path": "day-%Y-%m-%d", "has no time in it": left + "/x",
		"needs at least year": left + "/%Y", "more than once": left + "/%Y-%Y-%m-%d", "are known": left + "/%Y-%m-%d-%j",
		"roots": "/proc/%Y-%m-%d"} {
		_, err := s.Recovery.SetExternal("notes", api.FoundPut{Pattern: p})
		require.ErrorContains(t, err, why)
	}
	list, err := s.Recovery.SetExternal("notes", api.FoundPut{Pattern: pattern, Zone: "Europe/Lisbon"})
	require.NoError(t, err)
	require.Len(t, list.Items, 2, "neither what is no day, nor what is to come, nor what leads out")
	require.Equal(t, "day-2026-02-28/data", list.Items[0].Name)
	require.True(t, list.Items[0].CanTake)
	b, err := s.Recovery.BrowseExternal("notes", "day-2026-02-27/data", "")
	require.NoError(t, err)
	require.Equal(t, "a b", b.Entries[0].Name+" "+b.Entries[1].Name)
	_, err = s.Recovery.BrowseExternal("notes", "day-2026-02-27/data", "../../..")
	require.Error(t, err)
	_, err = s.Recovery.BrowseExternal("notes", "day-2026-02-26", "")
	require.ErrorContains(t, err, "candid found list notes")

	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	before := exact(t, dir)
	ask := api.RestoreAsk{Volume: "notes", Found: "day-2026-02-27/data", InPlace: true, Paths: []string{"b"}}
	plan, err := s.Recovery.PlanRestore(w.ctx, ask)
	require.NoError(t, err)
	require.EqualValues(t, 1, plan.Created)
	require.Contains(t, moment.Here().Text(plan.Answer), "what others left of 2026-02-27")
	run := w.done(s)(s.Recovery.Restore(w.ctx, ask, "test"))
	text, err := os.ReadFile(filepath.Join(dir, "b"))
	require.NoError(t, err)
	require.Equal(t, "friday", string(text))
	w.done(s)(s.Recovery.Undo(run.ID, "test"))
	require.Equal(t, before, exact(t, dir))

	// The history is taken back to before it began.
	w.clock.Set(w.clock.Now().Add(72 * time.Hour))
	w.pair(s, far)
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {daily: 90}\n  there: {daily: 90}\n")
	_, err = s.Recovery.TakeExternal("notes", []string{"day-2026-03-04/data"}, "test")
	require.ErrorContains(t, err, "has snapshots of its own since")
	_, err = s.Recovery.TakeExternal("notes", []string{"day-1999-01-01/data"}, "test")
	require.ErrorContains(t, err, "candid found list notes")
	done := w.done(s)(s.Recovery.TakeExternal("notes", nil, "test"))
	require.Contains(t, done.Outcome, "2 moments of notes taken over")
	stands := func(s *Site, volume string) {
		t.Helper()
		row, answer, err := s.Rules.Moment(must(s.Catalog.Volume(volume)), "2026-02-28T12:00:00Z")
		require.NoError(t, err)
		require.Contains(t, moment.Here().Text(answer), "nearest before: 2026-02-28")
		require.Equal(t, "saturday", w.textOf(s, row, "b"))
		last, _, err := s.Rules.Moment(must(s.Catalog.Volume(volume)), "latest")
		require.NoError(t, err)
		require.NotEqual(t, "found", last.Cause, "it stands for nothing after its time")
	}
	stands(s, "notes")
	_, err = s.Recovery.TakeExternal("notes", []string{"day-2026-02-27/data"}, "test")
	require.ErrorContains(t, err, "is in the history already")
	_, err = s.Recovery.TakeExternal("notes", nil, "test")
	require.ErrorContains(t, err, "there is nothing that others left")
	list, err = s.Recovery.External("notes")
	require.NoError(t, err)
	require.Len(t, list.Items, 3)
	require.NotEmpty(t, list.Items[2].Snapshot)
	vs, err := s.Recovery.Versions("notes", "b")
	require.NoError(t, err)
	var whats []string
	for _, v := range vs.Items {
		whats = append(whats, v.What)
	}
	// the newest is in what undo kept safe
	require.Equal(t, []string{"back again", "not there", "changed", "first seen"}, whats)
	w.until(s, w.clock.Now().Add(12*time.Hour))
	w.route(s, "there")
	w.done(s)(s.Routes.RunRoute("to-there", "test"))
	stands(far, "notes@here")

	require.NoError(t, s.Close())
	require.NoError(t, os.Remove(filepath.Join(s.Path, "catalog.db")))
	s = w.open("here")
	stands(s, "notes")
	n, err := s.Recovery.Snapshots("notes", catalog.SnapshotFilter{Limit: 100})
	require.NoError(t, err)
	require.Equal(t, "found", n.Items[len(n.Items)-1].Cause)
}
