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
)

// Disks that no snapshot tells of are served again when the catalogue was lost, and what they stand on stays.
func TestDisksWithoutCatalogue(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	w.disk(s, "db")
	holds, r := make([]byte, diskSize), rand.New(rand.NewPCG(8, 8))
	w.scribble(s, "db", holds, r)
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	first := w.rows(s, "db")[0].ID
	_, err := s.Clones.MakeClone(api.CloneAsk{Name: "trial", Volume: "db", At: "latest"}, "test")
	require.NoError(t, err)
	trial := bytes.Clone(holds)
	w.scribble(s, "trial", trial, r)
	_, err = s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "fresh", SizeBytes: diskSize, BlockBytes: 8192,
		Image: filepath.Join(w.dir, "fresh.img")})
	require.NoError(t, err)
	fresh := make([]byte, diskSize)
	w.scribble(s, "fresh", fresh, r)
	w.scribble(s, "db", holds, r)
	for range 2 {
		require.NoError(t, s.Close())
		for _, f := range []string{"catalog.db", "catalog.db-wal", "catalog.db-shm"} {
			_ = os.Remove(filepath.Join(w.dir, "here", f))
		}
		s = w.open("here")
		for name, want := range map[string][]byte{"db": holds, "trial": trial, "fresh": fresh} {
			require.Equal(t, api.DiskReady, must(s.Disks.Show(name)).State)
			require.True(t, bytes.Equal(want, w.diskBytes(s, name)), name)
		}
		require.Len(t, must(s.Catalog.Volumes()), 3)
	}
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	require.NoError(t, s.Upkeep.Release())
	_, err = s.Rules.RemoveSnapshot(first)
	require.NoError(t, err)
	w.clock.Set(w.clock.Now().Add(30 * 24 * time.Hour))
	w.done(s)(s.Rules.Prune("", "test"))
	w.done(s)(s.Upkeep.Sweep(true, "test"))
	require.Len(t, w.rows(s, "db"), 1)
	require.True(t, bytes.Equal(trial, w.diskBytes(s, "trial")), "what it stands on has stayed")
	w.done(s)(s.Capture.TakeSnapshot("fresh", api.SnapshotTake{}, "test"))
	require.True(t, bytes.Equal(fresh, w.imageOf(s, "fresh", "latest")))
}
