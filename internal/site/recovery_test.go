package site

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/names"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/recovery"

	"github.com/stretchr/testify/require"
)

// lived is a site with a volume that lived through four hours: a file changed, another
// renamed, a directory deleted.
func lived(w *world) (s *Site, dir string, ids []string) {
	s = w.open("here")
	dir = w.share(s, "notes")
	take := func() {
		w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
		ids = append(ids, w.rows(s, "notes")[0].ID)
		w.clock.Set(w.clock.Now().Add(time.Hour))
	}
	require.NoError(w.t, os.MkdirAll(filepath.Join(dir, "trip"), 0o755))
	w.write(dir, "trip/Marsh.txt", "one\ntwo\nthree\n")
	w.write(dir, "trip/map.png", "picture")
	w.write(dir, "log", "first")
	take()
	w.write(dir, "trip/Marsh.txt", "one\n2\nthree\n")
	take()
	require.NoError(w.t, os.Rename(filepath.Join(dir, "trip", "map.png"), filepath.Join(dir, "chart.png")))
	take()
	require.NoError(w.t, os.RemoveAll(filepath.Join(dir, "trip")))
	w.write(dir, "log", "second")
	take()
	return s, dir, ids
}

func TestFindVersionsCompare(t *testing.T) {
	w := newWorld(t)
	s, dir, ids := lived(w)
	find := func(ask api.FindAsk) (out []string) {
		f, err := s.Recovery.Find(t.Context(), "notes", ask)
		require.NoError(t, err)
		require.Equal(t, 4, f.Snapshots)
		for _, e := range f.Items {
			out = append(out, fmt.Sprintf("%s %d %v %s", e.Path, e.Versions, e.There, e.Snapshot[:6]))
		}
		return out
	}
	require.Equal(t, []string{"trip/Marsh.txt 2 false " + ids[2][:6]}, find(api.FindAsk{Pattern: "MARSH"}))
	require.ElementsMatch(t, []string{"trip/map.png 1 false " + ids[1][:6], "chart.png 1 true " + ids[3][:6]},
		find(api.FindAsk{Pattern: "*.png"}))
	require.Len(t, find(api.FindAsk{Pattern: "*", Deleted: true}), 3, "the directory and what was in it")
	// One more snapshot is added to what is known; one that is gone is not found any more.
	w.write(dir, "later", "x")
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	f, err := s.Recovery.Find(t.Context(), "notes", api.FindAsk{Pattern: "later"})
	require.NoError(t, err)
	require.Len(t, f.Items, 1)
	_, err = s.Recovery.Find(t.Context(), "notes", api.FindAsk{Pattern: "[z"})
	require.ErrorContains(t, err, "not a name with")

	v, err := s.Recovery.Versions("notes", "/trip/Marsh.txt")
	require.NoError(t, err)
	var told []string
	for _, one := range v.Items {
		told = append(told, fmt.Sprintf("%s %d", one.What, one.Snapshots))
	}
	require.Equal(t, []string{"not there 2", "changed 2", "first seen 1"}, told)
	_, err = s.Recovery.Versions("notes", "trip/nothing")
	require.ErrorContains(t, err, "candid find notes nothing")

	c, err := s.Recovery.Compare(w.ctx, recovery.CompareAsk{Volume: "notes", From: ids[1], To: ids[2]})
	require.NoError(t, err)
	require.Equal(t, "renamed chart.png from trip/map.png", diffs(c))
	w.write(dir, "log", "now and not in any snapshot")
	c, err = s.Recovery.Compare(w.ctx, recovery.CompareAsk{Volume: "notes", From: ids[3], To: "now"})
	require.NoError(t, err)
	require.Equal(t, "added later, changed log", diffs(c))
	require.Empty(t, c.To.Snapshot)
	// Looking at the volume as it is stores nothing and forgets nothing.
	before := s.Store.Usage().Objects
	_, err = s.Recovery.Compare(w.ctx, recovery.CompareAsk{Volume: "notes", From: ids[3], To: "now"})
	require.NoError(t, err)
	require.Equal(t, before, s.Store.Usage().Objects)
	c, err = s.Recovery.Compare(w.ctx, recovery.CompareAsk{Volume: "notes", Path: "trip", From: ids[0], To: ids[3]})
	require.NoError(t, err)
	require.Equal(t, "removed trip, removed trip/Marsh.txt, removed trip/map.png", diffs(c))

	d, err := s.Recovery.TextDifference("notes", "trip/Marsh.txt", ids[0], ids[1])
	require.NoError(t, err)
	var lines []string
	for _, l := range d.Lines {
		lines = append(lines, fmt.Sprintf("%s %d %d %s", l.What, l.Old, l.New, l.Text))
	}
	require.Equal(t, []string{"same 1 1 one", "removed 2 0 two", "added 0 2 2", "same 3 3 three"}, lines)
}

func diffs(c *api.Comparison) string {
	var out []string
	for _, d := range c.Changes {
		line := d.What + " " + d.Path
		if d.From != "" {
			line += " from " + d.From
		}
		out = append(out, line)
	}
	return strings.Join(out, ", ")
}

// exact describes a directory with all times, apart from the program.
func exact(t *testing.T, dir string) string {
	out, err := exec.Command("sh", "-c",
		`find "$1" \( -type d -printf '%P %y %m %U:%G %T@\n' \) -o -printf '%P %y %m %U:%G %s %T@ %l\n' | LC_ALL=C sort`,
		"sh", dir).Output()
	require.NoError(t, err)
	return string(out)
}

// Whatever a restore in place did, undo leads exactly to what was before it, and keeps
// what others did elsewhere since.
func TestUndo(t *testing.T) {
	for name, ask := range map[string]api.RestoreAsk{
		"a deleted directory":       {Paths: []string{"trip"}},
		"one file of one":           {Paths: []string{"trip/Marsh.txt"}},
		"replaced":                  {Paths: []string{"log"}},
		"put beside":                {Paths: []string{"log", "trip"}, OnConflict: "keep-both"},
		"the whole volume":          {},
		"the whole volume, skipped": {OnConflict: "skip"},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			s, dir, ids := lived(w)
			before := exact(t, dir)
			ask.Volume, ask.At, ask.InPlace = "notes", ids[0], true
			run := must(s.Run.Wait(w.ctx, must(s.Recovery.Restore(w.ctx, ask, "test")).ID))
			require.Equal(t, "done", run.State, run.Outcome)
			require.NotEqual(t, before, exact(t, dir))
			if len(ask.Paths) > 0 {
				w.write(dir, "others", "made meanwhile")
			}
			undo := must(s.Run.Wait(w.ctx, must(s.Recovery.Undo(run.ID, "test")).ID))
			require.Equal(t, "done", undo.State, undo.Outcome)
			if len(ask.Paths) > 0 {
				require.NoError(t, os.Remove(filepath.Join(dir, "others")))
				require.Equal(t, skipTop(before), skipTop(exact(t, dir)))
				return
			}
			require.Equal(t, before, exact(t, dir))
			// Taken back in its turn, what was restored is there again.
			w.done(s)(s.Recovery.Undo(undo.ID, "test"))
			require.FileExists(t, filepath.Join(dir, "trip", "Marsh.txt"))
		})
	}
	w := newWorld(t)
	s, _, ids := lived(w)
	_, err := s.Recovery.Undo(999, "test")
	require.ErrorContains(t, err, "there is no run 999")
	run := w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: ids[0],
		To: filepath.Join(w.dir, "out")}, "test"))
	_, err = s.Recovery.Undo(run.ID, "test")
	require.ErrorContains(t, err, "remove there what is not wanted")
}

func skipTop(s string) string {
	_, rest, _ := strings.Cut(s, "\n")
	return rest
}

// Downloads hold what was recorded.
func TestDownloads(t *testing.T) {
	w := newWorld(t)
	s, _, ids := lived(w)
	var b bytes.Buffer
	require.NoError(t, s.Recovery.ViewerFor(nil).Archive(context.Background(), "notes", ids[1], "zip", []string{"trip"},
		func(string) {}, &b))
	file := filepath.Join(w.dir, "a.zip")
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
	f, err := s.Recovery.ViewerFor(nil).OpenFile("notes", ids[1], "trip/Marsh.txt")
	require.NoError(t, err)
	defer f.Close()
	text, err := io.ReadAll(io.NewSectionReader(f, 4, 100))
	require.NoError(t, err)
	require.Equal(t, "2\nthree\n", string(text))
	for path, say := range map[string]string{"trip": "only files are downloaded", "no": "has no no",
		"../x": `without ".."`} {
		_, err := s.Recovery.ViewerFor(nil).OpenFile("notes", ids[1], path)
		require.ErrorContains(t, err, say)
	}
	require.ErrorContains(t, s.Recovery.ViewerFor(nil).Archive(context.Background(), "notes", ids[1], "rar", nil, nil,
		nil), "tar, which holds everything, or zip")
	rows, err := s.Catalog.Snapshots(s.Place(), "notes", catalog.SnapshotFilter{})
	require.NoError(t, err)
	require.Len(t, rows, 4)
}

// A restore that the service's end cuts short each time is not begun for ever.
func TestGoingOnEnds(t *testing.T) {
	w := newWorld(t)
	s, dir, ids := lived(w)
	run := w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", Paths: []string{"trip"}, At: ids[0],
		InPlace: true}, "test"))
	r, err := s.Recovery.ViewerFor(nil).PrepareRestore(w.ctx, api.RestoreAsk{Volume: "notes", Paths: []string{"trip"},
		At: ids[0], InPlace: true})
	require.NoError(t, err)
	cut := func(times int) int {
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "trip")))
		r.Cut = &catalog.InterruptedRestore{Run: run.ID, Times: times - 1, Safety: restored(t, run).Safety}
		err := s.Recovery.Note(run.ID, r)
		require.NoError(t, err)
		require.NoError(t, s.Recovery.ResumeRestores())
		s.Run.Join()
		runs, err := s.Catalog.Runs(catalog.RunFilter{Kind: "restore", Limit: 100})
		require.NoError(t, err)
		left, err := s.Catalog.InterruptedRestores()
		require.NoError(t, err)
		require.Empty(t, left)
		return len(runs)
	}
	require.Equal(t, 2, cut(recovery.MostTimes-1))
	require.FileExists(t, filepath.Join(dir, "trip", "map.png"))
	require.Equal(t, 2, cut(recovery.MostTimes))
	require.NoFileExists(t, filepath.Join(dir, "trip", "map.png"))
	// What it had done by then can be taken back all the same.
	w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", Paths: []string{"trip/Marsh.txt"}, At: ids[0],
		InPlace: true}, "test"))
	require.FileExists(t, filepath.Join(dir, "trip", "Marsh.txt"))
	w.done(s)(s.Recovery.Undo(run.ID, "test"))
	require.NoDirExists(t, filepath.Join(dir, "trip"))
}

// The index is right however snapshots come and go: newest first as a route brings them,
// removed in between, and without those that cannot be read.
func TestFindAsSnapshotsComeAndGo(t *testing.T) {
	w := newWorld(t)
	s, _, _ := lived(w)
	v := must(s.Catalog.Volume("notes"))
	all := must(s.Recovery.ByPosition(v))
	require.Len(t, all, 4)
	lives := func(rows []*catalog.Snapshot) string {
		f := recovery.NewFinder()
		require.NoError(t, f.Bring(t.Context(), s.Recovery, rows))
		return told(f, rows)
	}
	f := recovery.NewFinder()
	for _, pick := range [][]int{{3}, {2, 3}, {0, 2, 3}, {0, 1, 2, 3}, {0, 3}, {3}, {1, 3}} {
		var rows []*catalog.Snapshot
		for _, i := range pick {
			rows = append(rows, all[i])
		}
		if len(pick)%2 == 0 { // as after a start
			f = recovery.NewFinder()
			f.Load(s.Recovery, v.Lineage)
		}
		require.NoError(t, f.Bring(t.Context(), s.Recovery, rows))
		require.Equal(t, lives(rows), told(f, rows), "%v", pick)
		f.Keep(s.Recovery, v.Lineage)
	}
	// What was kept is taken up, a torn one is not, and one of no volume goes.
	f = recovery.NewFinder()
	require.NoError(t, f.Bring(t.Context(), s.Recovery, all))
	f.Keep(s.Recovery, v.Lineage)
	require.False(t, f.Grown())
	taken := recovery.NewFinder()
	taken.Load(s.Recovery, v.Lineage)
	require.Len(t, taken.X.Snaps(), 4)
	require.Equal(t, told(f, all), told(taken, all))
	raw := must(os.ReadFile(s.Recovery.NamesPath(v.Lineage)))
	raw[len(raw)/2] ^= 1
	require.NoError(t, os.WriteFile(s.Recovery.NamesPath(v.Lineage), raw, 0o600))
	torn := recovery.NewFinder()
	torn.Load(s.Recovery, v.Lineage)
	require.Nil(t, torn.X)
	require.NoError(t, os.WriteFile(s.Recovery.NamesPath("0123"), raw, 0o600))
	require.NoError(t, s.Recovery.ForgetNames())
	require.NoFileExists(t, s.Recovery.NamesPath("0123"))
	require.FileExists(t, s.Recovery.NamesPath(v.Lineage))
	// What the index knew last is removed and swept: what comes after it is found all the same.
	w.write(filepath.Join(w.dir, "shares", "notes"), "short-lived", "x")
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	require.NotEmpty(t, must(s.Recovery.Find(t.Context(), "notes", api.FindAsk{Pattern: "short-lived"})).Items)
	last := must(s.Catalog.LastSnapshot(s.Place(), v.Lineage))
	w.write(filepath.Join(w.dir, "shares", "notes"), "short-lived", "another")
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	_, err := s.Rules.RemoveSnapshot(last.ID)
	require.NoError(t, err)
	for range 2 {
		w.done(s)(s.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(400 * 24 * time.Hour))
	}
	w.done(s)(s.Upkeep.Sweep(false, "test"))
	require.False(t, s.Store.HasRoot(must(object.ParseID(last.ID))))
	require.NoError(t, s.Close())
	s = w.open("here")
	after := must(s.Recovery.Find(t.Context(), "notes", api.FindAsk{Pattern: "short-lived"}))
	require.Empty(t, after.LeftOut)
	require.EqualValues(t, 7, after.Items[0].Size)
	// One that cannot be read is left out, and told.
	broken := *all[1]
	broken.ID = strings.Repeat("ab", 32)
	rows := []*catalog.Snapshot{all[0], &broken, all[3]}
	require.NoError(t, f.Bring(t.Context(), s.Recovery, rows))
	require.True(t, f.Bad[broken.ID])
	require.Equal(t, lives([]*catalog.Snapshot{all[0], all[3]}), told(f, []*catalog.Snapshot{all[0], all[3]}))
}

// told is everything that an index finds in some snapshots.
func told(f *recovery.Finder, rows []*catalog.Snapshot) string {
	kept := map[object.ID]bool{}
	for _, r := range rows {
		kept[must(object.ParseID(r.ID))] = true
	}
	found, _ := f.X.Find(names.Query{Match: must(names.ParsePattern("*")), Limit: 100}, func(id object.ID) bool {
		return kept[id]
	})
	var out []string
	for _, e := range found {
		out = append(out, fmt.Sprintf("%s %d %v %v %s %s", e.Path, e.Size, e.Versions, e.There, e.First.ID, e.Last.ID))
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}

// Into another volume: at the same paths, after a safety snapshot of that one, whose own files
// stay; undo takes back exactly what came.
func TestRestoreIntoAnotherVolume(t *testing.T) {
	w := newWorld(t)
	s, dir, ids := lived(w)
	other := w.share(s, "other")
	w.write(other, "kept", "of the other one")
	before := exact(t, other)
	for into, why := range map[string]string{"notes": "is in place", "nothing": "volume \"nothing\""} {
		_, err := s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: ids[0], Into: into}, "test")
		require.ErrorContains(t, err, why)
	}
	_, err := s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: ids[0], Into: "other", InPlace: true}, "test")
	require.ErrorContains(t, err, "say where to")
	mine := exact(t, dir)
	run := w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: ids[0], Into: "other",
		Paths: []string{"trip"}}, "test"))
	require.FileExists(t, filepath.Join(other, "trip", "Marsh.txt"))
	require.Equal(t, mine, exact(t, dir), "the volume that it came from is left alone")
	require.Equal(t, "safety", w.rows(s, "other")[0].Cause)
	w.done(s)(s.Recovery.Undo(run.ID, "test"))
	require.Equal(t, before, exact(t, other))
}

// A restore in place that is cancelled in the middle says what it leaves, and can be taken
// back.
func TestCancelledInPlace(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	for i := range 40 {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, fmt.Sprint(i)), 0o755))
		for k := range 50 {
			w.write(filepath.Join(dir, fmt.Sprint(i)), fmt.Sprint(k), strings.Repeat(fmt.Sprint(i, k), 5000))
		}
	}
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	require.NoError(t, os.RemoveAll(dir))
	require.NoError(t, os.Mkdir(dir, 0o755))
	w.write(dir, "new", "new")
	for try := 0; ; try++ {
		before := exact(t, dir)
		at := w.rows(s, "notes")[len(w.rows(s, "notes"))-1].ID
		run, err := s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: at, InPlace: true}, "test")
		require.NoError(t, err)
		for now := must(s.Run.Run(run.ID)); !now.Over() && len(must(os.ReadDir(dir))) < 3; now = must(s.Run.Run(run.ID)) {
			runtime.Gosched()
		}
		if err := s.Run.Cancel(run.ID); err != nil {
			require.ErrorContains(t, err, "already")
		}
		run, err = s.Run.Wait(w.ctx, run.ID)
		require.NoError(t, err)
		if run.State != "cancelled" && try < 20 { // it was faster
			w.done(s)(s.Recovery.Undo(run.ID, "test"))
			continue
		}
		require.Equal(t, "cancelled", run.State)
		require.Regexp(t,
			`^cancelled; each file is the old or the new one \(\d+ created.* so far\)\. `+
				`What was put there can be taken back: candid undo \d+$`, run.Outcome)
		w.done(s)(s.Recovery.Undo(run.ID, "test"))
		require.Equal(t, before, exact(t, dir))
		return
	}
}
