package site

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/refusal"

	"github.com/stretchr/testify/require"
)

// What is noted with a snapshot is changed later, in whatever part; it is so after a restart and wherever the snapshot
// was carried. An end of its own is of one taken by hand, and the rules let it go after it.
func TestNotedLater(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 1}\n  there: {newest: 1}\n")
	w.pair(here, there)
	w.route(here, "there")
	end := w.clock.Now().Add(24 * time.Hour)
	w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{Note: "first", Labels: map[string]string{"a": "1",
		"b": "2"}, KeepUntil: &end}, "test"))
	carry := func() { w.done(here)(here.Routes.RunRoute("to-there", "test")) }
	carry()
	id := w.rows(here, "notes")[0].ID
	w.write(dir, "a", "second")
	w.until(here, w.clock.Now().Add(6*time.Hour))
	scheduled := w.rows(here, "notes")[0].ID
	require.NotEqual(t, id, scheduled)

	before := must(here.Recovery.Snapshot(id))
	past, long := w.clock.Now().Add(-time.Hour), strings.Repeat("x", 1001)
	for _, bad := range []api.SnapshotChange{{}, {Note: &long}, {KeepUntil: &past}, {Drop: []string{"c"}},
		{Note: &before.Volume, Set: map[string]string{"": "x"}}, {Set: map[string]string{"c": " "}}} {
		_, err := here.Rules.ChangeSnapshot(id, bad)
		require.Equal(t, refusal.Misuse, refusal.ClassOf(err), "%v", bad)
	}
	_, err := here.Rules.ChangeSnapshot(scheduled, api.SnapshotChange{KeepUntil: &end})
	require.ErrorContains(t, err, "was not taken by hand")
	require.Equal(t, before, must(here.Recovery.Snapshot(id)), "what is refused changes nothing")

	note, later := "for the audit", w.clock.Now().Add(72*time.Hour)
	_, err = here.Rules.ChangeSnapshot(id, api.SnapshotChange{Note: &note})
	require.NoError(t, err)
	_, err = here.Rules.ChangeSnapshot(id, api.SnapshotChange{Set: map[string]string{"b": "3", "c": "4"},
		Drop: []string{"a"}, KeepUntil: &later})
	require.NoError(t, err)
	carry()
	require.NoError(t, here.Close())
	here = w.open("here")
	for _, s := range []*Site{here, there} {
		got := must(s.Recovery.Snapshot(id))
		require.Equal(t, note, got.Note)
		require.Equal(t, map[string]string{"b": "3", "c": "4"}, got.Labels)
		require.True(t, got.OwnEnd.Equal(later))
	}
	for _, at := range []struct {
		after time.Duration
		state string
	}{{71 * time.Hour, "kept"}, {73 * time.Hour, "in grace"}} {
		w.clock.Set(later.Add(at.after - 72*time.Hour))
		for _, s := range []*Site{here, there} {
			w.done(s)(s.Rules.Prune("", "test"))
			require.Equal(t, at.state, must(s.Recovery.Snapshot(id)).State)
		}
	}
}

// A volume that was moved or leaves out more goes on with its history, its group and its chunks; a directory that
// cannot be it is refused, and what is refused changes nothing.
func TestVolumeChanges(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.share(s, "books")
	for k := range 30 {
		w.noise(dir, fmt.Sprint("f", k), uint64(k), 50_000)
	}
	_, err := s.Capture.PutGroup("both", api.GroupPut{Volumes: []string{"books", "notes"}})
	require.NoError(t, err)
	w.take(s, "notes")
	lineage := w.rows(s, "notes")[0].Lineage

	moved, empty := filepath.Join(w.dir, "moved"), filepath.Join(w.dir, "bare")
	require.NoError(t, os.Rename(dir, moved))
	require.NoError(t, os.Mkdir(empty, 0o755))
	outside, data := t.TempDir(), s.Path
	change := func(ask api.VolumeChange) (*api.VolumeFound, error) {
		return s.Capture.ChangeVolume(w.ctx, "notes", ask)
	}
	was := *must(s.Catalog.Volume("notes"))
	for _, bad := range []api.VolumeChange{{}, {Path: &outside}, {Path: &data}, {Path: &empty}, {Path: &dir},
		{Excludes: &[]string{"["}}} {
		_, err := change(bad)
		require.Error(t, err)
	}
	_, err = change(api.VolumeChange{Path: &moved, DryRun: true})
	require.NoError(t, err)
	require.Equal(t, was, *must(s.Catalog.Volume("notes")))

	found, err := change(api.VolumeChange{Path: &moved, Excludes: &[]string{"f1*"}})
	require.NoError(t, err)
	require.EqualValues(t, 20, found.Files, "f1 and f10 to f19 are left out")
	// What stands at the new place when the next one is taken has to be what was looked at.
	require.NoError(t, os.Rename(moved, moved+"-away"))
	require.NoError(t, os.Mkdir(moved, 0o755))
	run, err := s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test")
	require.NoError(t, err)
	run, err = s.Run.Wait(w.ctx, run.ID)
	require.NoError(t, err)
	require.Contains(t, run.Outcome, "is on another filesystem than at its last snapshot, or its directory is another one")
	require.NoError(t, os.Remove(moved))
	require.NoError(t, os.Rename(moved+"-away", moved))
	w.take(s, "notes")
	row := w.rows(s, "notes")[0]
	require.Equal(t, lineage, row.Lineage)
	require.EqualValues(t, 20, row.Files)
	require.Less(t, row.Stored, int64(20_000), "nothing is stored again")
	require.Len(t, must(s.Catalog.Groups())[0].Members.V, 2)
	require.Len(t, w.rows(s, "notes"), 2)

	// What is nearly empty is taken only when a person says that it is meant.
	_, err = change(api.VolumeChange{Path: &empty})
	require.ErrorContains(t, err, "0 files, and 20 at its last snapshot")
	_, err = change(api.VolumeChange{Path: &empty, Accept: true})
	require.NoError(t, err)
	w.take(s, "notes")
	require.Zero(t, w.rows(s, "notes")[0].Files)
}

// Labels of many volumes are changed side by side: what was said to be done is there, what was refused is not, and no
// volume has a part of it.
func TestLabelsSideBySide(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep: {here: {newest: 2}}\n")
	names := []string{"maps", "notes", "plates"}
	for _, name := range names {
		w.share(s, name)
	}
	done := make([]bool, 24)
	var all sync.WaitGroup
	for i := range done {
		all.Go(func() {
			key := fmt.Sprint("key", i)
			_, err := s.Capture.LabelMany(api.LabelsMany{Volumes: names, Set: map[string]string{key: "x"}})
			if done[i] = err == nil; err != nil {
				require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
			}
		})
	}
	all.Wait()
	require.Contains(t, done, true)
	want := map[string]string{"k": "v"}
	for i, ok := range done {
		if ok {
			want[fmt.Sprint("key", i)] = "x"
		}
	}
	for _, name := range names {
		require.Equal(t, want, map[string]string(must(s.Catalog.Volume(name)).Labels.V), name)
	}
	_, err := s.Capture.LabelMany(api.LabelsMany{Volumes: append(names, "none"), Drop: []string{"k"}})
	require.Equal(t, refusal.Missing, refusal.ClassOf(err))
	require.Equal(t, "v", must(s.Catalog.Volume("maps")).Labels.V["k"], "of all or of none")
	_, err = s.Capture.LabelMany(api.LabelsMany{Volumes: names, Set: map[string]string{"names": "x"}})
	require.Equal(t, refusal.Misuse, refusal.ClassOf(err))
}
