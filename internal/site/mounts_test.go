package site

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
)

// What someone looks at in a mounted snapshot stays readable although the snapshot was
// removed, and holds nothing back once the mount is gone.
func TestMountHoldsWhileLookedAt(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.write(dir, "a", "kept by looking at it")
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	id := must(object.ParseID(w.rows(s, "notes")[0].ID))
	at := filepath.Join(w.dir, "moments")
	require.NoError(t, os.Mkdir(at, 0o755))
	_, err := s.Clones.Mount(api.MountAsk{Volume: "notes", Dir: at}, "test")
	require.NoError(t, err)
	_, err = s.Clones.Mount(api.MountAsk{Volume: "notes", Dir: at}, "test")
	require.ErrorContains(t, err, "mounted at "+at+" already")
	f, err := os.Open(filepath.Join(at, "latest", "a"))
	require.NoError(t, err)
	sweep := func() int64 {
		require.NoError(t, s.Store.RemoveRoots(id))
		_, err := s.Store.Sweep(context.Background(), store.SweepOptions{})
		require.NoError(t, err)
		return s.Store.Usage().Objects
	}
	require.NotZero(t, sweep())
	text := make([]byte, 100)
	n, err := f.Read(text)
	require.NoError(t, err)
	require.Equal(t, "kept by looking at it", string(text[:n]))
	_, err = s.Clones.EndMount(at, false)
	require.ErrorContains(t, err, "is in use")
	require.NoError(t, f.Close())
	_, err = s.Clones.EndMount(at, false)
	require.NoError(t, err)
	require.Zero(t, sweep())
	require.Empty(t, s.Clones.Mounts())
	entries, err := os.ReadDir(at)
	require.NoError(t, err)
	require.Empty(t, entries)
}
