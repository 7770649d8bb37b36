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
)

// What a clone reads from its snapshot is brought into its image while it is written to. Then it needs the store no
// more.
func TestDiskIsFilled(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	holds, r := make([]byte, diskSize), rand.New(rand.NewPCG(10, 8))
	w.scribble(s, "db", holds, r)
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
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "here", "store", "packs")))
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
