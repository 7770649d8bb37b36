package site

import (
	"fmt"
	"os"
	"testing"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A volume whose filesystem is not mounted, or that was emptied, is not taken for what it was:
// what is kept stays, it is told, and a person may say that it is meant.
func TestVolumeThatIsNotItself(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	mounted := os.Geteuid() == 0
	if mounted {
		require.NoError(t, unix.Mount("tmpfs", dir, "tmpfs", 0, "size=4m"))
		t.Cleanup(func() { unix.Unmount(dir, unix.MNT_DETACH) })
	}
	for k := range 30 {
		w.write(dir, fmt.Sprint("file ", k), fmt.Sprint("text ", k))
	}
	w.take(s, "notes")
	kept := len(w.rows(s, "notes"))
	refused := func(why string) {
		t.Helper()
		for range 2 { // it is not taken for it the second time either
			run := must(s.Run.Wait(w.ctx, must(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test")).ID))
			require.Equal(t, "failed", run.State)
			require.Contains(t, run.Outcome, why)
			require.Contains(t, run.Outcome, "candid volume confirm notes")
		}
		require.Len(t, w.rows(s, "notes"), kept)
		require.Contains(t, fmt.Sprint(must(s.Overview.Status()).Sentences), why)
		require.Contains(t, must(s.Overview.Volume("notes")).Doubt, why)
	}
	if mounted {
		require.NoError(t, unix.Unmount(dir, 0))
		refused("is on another filesystem than at its last snapshot")
		require.NoError(t, s.Close()) // nor after a restart
		s = w.open("here")
		refused("is on another filesystem than at its last snapshot")
		must(s.Capture.ConfirmVolume("notes"))
		require.NotContains(t, fmt.Sprint(must(s.Overview.Status()).Sentences), "is on another filesystem")
		for k := range 30 {
			w.write(dir, fmt.Sprint("file ", k), fmt.Sprint("other text ", k))
		}
		w.take(s, "notes")
		kept++
		_, err := s.Capture.ConfirmVolume("notes")
		require.ErrorContains(t, err, "nothing about notes is in doubt")
	}
	for k := range 30 {
		require.NoError(t, os.Remove(fmt.Sprintf("%s/file %d", dir, k)))
	}
	refused("nearly everything vanished")
	must(s.Capture.ConfirmVolume("notes"))
	w.take(s, "notes")
	require.Len(t, w.rows(s, "notes"), kept+1)
	require.NotContains(t, fmt.Sprint(must(s.Overview.Status()).Sentences), "vanished")
}
