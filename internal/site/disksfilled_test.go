package site

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/refusal"
)

// What a clone reads from its snapshot is brought into its image while it is written to. Then it needs the store no
// more.
func TestDiskIsFilled(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	holds, r := w.diskNoise(s, "db"), rand.New(rand.NewPCG(10, 8))
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	_, err := s.Clones.MakeClone(api.CloneAsk{Name: "trial", Volume: "db", At: "latest"}, "test")
	require.NoError(t, err)
	trial := bytes.Clone(holds)
	w.scribble(s, "trial", trial, r)
	shown, _ := s.Disks.ShowClone(must(s.Catalog.Clone("trial")))
	require.Greater(t, shown.UnfilledBytes, int64(diskSize/2))
	run := must(s.Disks.Fill("trial", "test"))
	w.scribble(s, "trial", trial, r)
	require.Contains(t, w.done(s)(run, nil).Outcome, "trial reads nothing from snapshots any more")
	shown, _ = s.Disks.ShowClone(must(s.Catalog.Clone("trial")))
	require.Zero(t, shown.UnfilledBytes)
	require.True(t, bytes.Equal(trial, w.diskBytes(s, "trial")))
	require.Contains(t, w.done(s)(s.Disks.Fill("trial", "test")).Outcome, "reads nothing", "once more changes nothing")
	require.NoError(t, s.Close())
	w.damage("here", "d-", 100)
	s = w.open("here")
	require.True(t, bytes.Equal(trial, w.diskBytes(s, "trial")), "its bytes are its own")
	_, err = s.Disks.Fill("nobody", "test")
	require.ErrorIs(t, err, catalog.ErrNone)
}

// Where a disk was written is told from one snapshot to the next.
func TestDiskWrites(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	d := must(s.Disks.Disk("db"))
	require.Empty(t, must(s.Recovery.DiskWrites(w.ctx, "db", 24)))
	for day := range 5 {
		p := bytes.Repeat([]byte{1}, 4096*(day+1))
		require.NoError(t, d.WriteAt(w.ctx, p, int64(day)*(diskSize/8), false))
		w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
		w.clock.Set(w.clock.Now().Add(24 * time.Hour))
	}
	all := must(s.Recovery.DiskWrites(w.ctx, "db", 3))
	require.Len(t, all, 3)
	for i, x := range all {
		day := 4 - i
		require.EqualValues(t, 4096*(day+1), x.WrittenBytes)
		require.Equal(t, 24*time.Hour, x.To.Sub(x.From))
		require.EqualValues(t, 4096*(day+1), x.Along[day*8], "in the part that begins at an eighth of the disk")
	}
	require.Len(t, must(s.Recovery.DiskWrites(w.ctx, "db", 24)), 4)
	w.share(s, "notes")
	_, err := s.Recovery.DiskWrites(w.ctx, "notes", 3)
	require.ErrorContains(t, err, "is a directory")
}

// Bringing a disk back is tried as it is of files: the trial says how long it took, and fails where the store is
// damaged.
func TestDiskTrial(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	_, err := s.Recovery.TestRestore("db", "test")
	require.ErrorContains(t, err, "no snapshot here yet")
	w.diskNoise(s, "db")
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	try := func() api.Run {
		runs := must(s.Recovery.TestRestore("db", "test"))
		require.Len(t, runs, 1)
		return must(s.Run.Wait(w.ctx, runs[0].ID))
	}
	good := try()
	require.Equal(t, api.RunDone, good.State, good.Outcome)
	require.Contains(t, good.Outcome, "3.0 MiB of the disk db")
	last := must(s.Recovery.RestoreTests(w.ctx)).Last
	require.Len(t, last, 1)
	require.True(t, last[0].Good)
	require.EqualValues(t, diskSize, last[0].Bytes)
	require.Positive(t, last[0].WholeSeconds)
	require.Empty(t, must(os.ReadDir(filepath.Join(w.dir, "here", "scratch"))))
	require.NoError(t, s.Close())
	w.damage("here", "d-", 100)
	s = w.open("here")
	bad := try()
	require.Equal(t, api.RunFailed, bad.State)
	require.Contains(t, bad.Outcome, "could not be brought back")
}

// diskNoise fills a disk with bytes that nothing makes smaller.
func (w *world) diskNoise(s *Site, name string) []byte {
	p := make([]byte, diskSize)
	rand.NewChaCha8([32]byte{}).Read(p)
	require.NoError(w.t, must(s.Disks.Disk(name)).WriteAt(w.ctx, p, 0, false))
	return p
}

// Another disk becomes each night as a disk is, by a recipe, and a hook looks at it.
func TestDiskRecipe(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	checked := filepath.Join(w.dir, "checked")
	look := []string{"/bin/sh", "-c", `echo "$CANDID_VOLUMES" >> ` + checked}
	s.Conf.Hooks = map[string]datadir.Hook{"look": {Run: look}}
	w.disk(s, "db")
	w.disk(s, "trial")
	w.share(s, "notes")
	holds, r := w.diskNoise(s, "db"), rand.New(rand.NewPCG(12, 8))
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	put := api.RecipePut{Restore: api.RestoreAsk{Volume: "db", At: "latest", Into: "trial", Disconnect: true},
		When: "daily at 02:30", Check: "look"}
	for why, change := range map[string]func(p *api.RecipePut){
		"is not written over":   func(p *api.RecipePut) { p.Restore.Into, p.Restore.To = "", filepath.Join(w.dir, "image") },
		"exactly as it was":     func(p *api.RecipePut) { p.Exact = true },
		"say where to":          func(p *api.RecipePut) { p.Restore.Into = "" },
		"is a directory":        func(p *api.RecipePut) { p.Restore.Into = "notes" },
		"is brought back whole": func(p *api.RecipePut) { p.Restore.Paths = []string{"a"} },
		"disconnected from a disk": func(p *api.RecipePut) {
			p.Restore.Volume, p.Restore.Into, p.Restore.InPlace, p.Check = "notes", "", true, ""
		},
	} {
		p := put
		change(&p)
		_, err := s.Recovery.PutRecipe(w.ctx, "nightly", p, false, "test")
		require.ErrorContains(t, err, why)
		require.NotEqual(t, refusal.Internal, refusal.ClassOf(err))
	}
	saved := must(s.Recovery.PutRecipe(w.ctx, "nightly", put, false, "test"))
	require.Equal(t, "all of db, in its newest state, into trial, whose clients are disconnected; daily at 02:30; then "+
		"the hook look checks it.", saved.Sentence)
	for range 2 {
		w.scribble(s, "db", holds, r)
		w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
		w.scribble(s, "trial", make([]byte, diskSize), r)
		w.until(s, w.clock.Now().Add(24*time.Hour))
		require.True(t, bytes.Equal(holds, w.diskBytes(s, "trial")))
	}
	is := must(s.Recovery.Recipe("nightly"))
	require.Len(t, is.Runs, 2)
	require.Equal(t, "done", is.Runs[0].State, is.Runs[0].Outcome)
	require.True(t, is.Restore.Disconnect)
	require.Equal(t, 2, bytes.Count(must(os.ReadFile(checked)), []byte("trial")))
}
