package tree

import (
	"os"
	"path/filepath"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func inPlace(live string, safety *object.Root, excludes ...string) func(*RestoreOptions) {
	return func(o *RestoreOptions) {
		o.Exact, o.Live, o.Beneath, o.Safety, o.Excludes = true, true, filepath.Dir(live), safety, excludes
	}
}

// Going back exactly removes only what the safety snapshot can give back: what
// snapshots leave out, other filesystems and what came after it stay.
func TestExactRemovesOnlyWhatIsSafe(t *testing.T) {
	b := newBench(t)
	live := filepath.Join(t.TempDir(), "live")
	write(t, live+"/kept", []byte("x"))
	write(t, live+"/was-file", []byte("x"))
	first, _, _ := b.snapshot(live, "*.local")
	require.NoError(t, os.Remove(live+"/was-file"))
	write(t, live+"/was-file/now/a-directory.local", []byte("excluded, below what must go"))
	write(t, live+"/settings.local", []byte("excluded"))
	write(t, live+"/new/plain", []byte("goes"))
	write(t, live+"/new/mine.local", []byte("excluded, in a directory that goes"))
	write(t, live+"/gone/deep/file", []byte("goes whole"))
	write(t, live+"/busy", []byte("before"))
	mounted := os.Geteuid() == 0
	if mounted {
		require.NoError(t, os.Mkdir(live+"/mount", 0o755))
		require.NoError(t, unix.Mount("tmpfs", live+"/mount", "tmpfs", 0, "size=1m"))
		t.Cleanup(func() { unix.Unmount(live+"/mount", unix.MNT_DETACH) })
		write(t, live+"/mount/precious", []byte("another filesystem"))
	}
	safety, _, _ := b.snapshot(live, "*.local")
	write(t, live+"/after", []byte("made after the safety snapshot"))
	write(t, live+"/busy", []byte("changed after the safety snapshot"))
	r := b.restore(first, live, inPlace(live, safety, "*.local"))
	for path, want := range map[string]string{"/kept": "x", "/settings.local": "excluded",
		"/new/mine.local": "excluded, in a directory that goes", "/after": "made after the safety snapshot",
		"/busy": "changed after the safety snapshot", "/was-file/now/a-directory.local": "excluded, below what must go"} {
		got, err := os.ReadFile(live + path)
		require.NoError(t, err)
		require.Equal(t, want, string(got))
	}
	if mounted {
		require.FileExists(t, live+"/mount/precious")
	}
	require.NoFileExists(t, live+"/new/plain")
	require.NoDirExists(t, live+"/gone")
	told := map[string]bool{}
	for _, m := range r.Remarks {
		told[string(m.Path)] = true
	}
	require.Equal(t, map[string]bool{"new": true, "after": true, "busy": true, "was-file": true}, told)
}

// A volume that was emptied comes back in the directory it has, which may be a mount
// point and keeps its inode.
func TestEmptiedVolume(t *testing.T) {
	b := newBench(t)
	base := t.TempDir()
	live := base + "/live"
	require.NoError(t, os.Mkdir(live, 0o750))
	if os.Geteuid() == 0 {
		require.NoError(t, unix.Mount("tmpfs", live, "tmpfs", 0, "size=16m,mode=0750"))
		t.Cleanup(func() { unix.Unmount(live, unix.MNT_DETACH) })
	}
	write(t, live+"/a/b", []byte("x"))
	require.NoError(t, os.Link(live+"/a/b", live+"/c"))
	first, _, _ := b.snapshot(live)
	want := digest(t, live)
	var before, after unix.Stat_t
	require.NoError(t, unix.Stat(live, &before))
	require.NoError(t, os.RemoveAll(live+"/a"))
	require.NoError(t, os.Remove(live+"/c"))
	safety, _, _ := b.snapshot(live)
	r := b.restore(first, live, inPlace(live, safety))
	require.Empty(t, r.Remarks)
	require.Equal(t, want, digest(t, live))
	require.NoError(t, unix.Stat(live, &after))
	require.Equal(t, before.Ino, after.Ino)
	// Into an empty mount point that is not the volume, by another restore.
	require.NoError(t, os.RemoveAll(live+"/a"))
	require.NoError(t, os.Remove(live+"/c"))
	b.restore(first, live, nil)
	require.Equal(t, want, digest(t, live))
}
