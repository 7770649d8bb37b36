package journal

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Files that are held are found, asked for in either way; those let go of are not.
func TestHeld(t *testing.T) {
	dir := t.TempDir()
	open := func(name string, flags int) int {
		fd, err := unix.Open(filepath.Join(dir, name), flags|unix.O_CLOEXEC, 0)
		require.NoError(t, err)
		t.Cleanup(func() { unix.Close(fd) })
		return fd
	}
	inode := map[string]uint64{}
	for _, name := range []string{"mapped", "private", "readmap", "writing", "reading", "unlinked (deleted)", "gone"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), make([]byte, 4096), 0o644))
		var st unix.Stat_t
		require.NoError(t, unix.Stat(filepath.Join(dir, name), &st))
		inode[name] = st.Ino
	}
	mapIt := func(name string, prot, flags int) {
		fd, err := unix.Open(filepath.Join(dir, name), unix.O_RDWR|unix.O_CLOEXEC, 0)
		require.NoError(t, err)
		b, err := unix.Mmap(fd, 0, 4096, prot, flags)
		require.NoError(t, err)
		t.Cleanup(func() { unix.Munmap(b) })
		require.NoError(t, unix.Close(fd))
	}
	mapIt("mapped", unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	mapIt("unlinked (deleted)", unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	mapIt("gone", unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	mapIt("private", unix.PROT_READ|unix.PROT_WRITE, unix.MAP_PRIVATE)
	mapIt("readmap", unix.PROT_READ, unix.MAP_SHARED)
	open("writing", unix.O_WRONLY)
	open("reading", unix.O_RDONLY)
	require.NoError(t, os.Remove(filepath.Join(dir, "gone")))

	var st unix.Stat_t
	require.NoError(t, unix.Stat(dir, &st))
	names := func(all []held) (out []string) {
		for _, h := range all {
			if filepath.Dir(h.path) == dir {
				out = append(out, filepath.Base(h.path))
				require.Equal(t, inode[filepath.Base(h.path)], h.inode)
				require.Equal(t, h.path != filepath.Join(dir, "writing"), h.mapped)
			}
		}
		slices.Sort(out)
		return out
	}
	all, err := heldOn(st.Dev)
	if err != nil {
		t.Skipf("not all processes can be seen: %v", err)
	}
	require.Equal(t, []string{"mapped", "unlinked (deleted)", "writing"}, names(all))
	maps, err := os.Open("/proc/self/maps")
	require.NoError(t, err)
	defer maps.Close()
	text, err := mappedText(nil, maps, "self", st.Dev)
	require.NoError(t, err)
	require.Equal(t, []string{"mapped", "unlinked (deleted)"}, names(text))
}
