package store

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// A directory of the store cannot be listed, for once, while the store is opened and swept, with its manifest and
// without, some of what is needed put aside. A list that is not known is not an empty one: nothing that a snapshot or
// a pin holds may go.
func TestDirectoriesCannotBeListed(t *testing.T) {
	base, err := os.MkdirTemp(memoryDir(), "lists")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	dir, model := faultStore(t, base)
	s := openTest(t, dir)
	pinned := bigTree(60, 5, 900)
	w := s.NewWriter(s.NewLease())
	held := buildTree(t, w, 60, 1, pinned)
	require.NoError(t, w.Flush())
	_, err = s.Pin("something", held.Tree())
	require.NoError(t, err)
	require.NoError(t, s.Close())
	work, runs := filepath.Join(base, "work"), 0
	for _, state := range []string{"as it was left", "without its manifest", "without its manifest, its log put aside"} {
		for _, name := range []string{"packs", "log", "roots", "index", "aside", "leases"} {
			for k := 1; ; k++ {
				copyDir(t, dir, work)
				if state != "as it was left" {
					require.NoError(t, os.Remove(filepath.Join(work, "manifest")))
				}
				if strings.HasSuffix(state, "aside") {
					logs, err := os.ReadDir(filepath.Join(work, "log"))
					require.NoError(t, err)
					require.Len(t, logs, 1)
					require.NoError(t, os.MkdirAll(filepath.Join(work, "aside"), 0o700))
					require.NoError(t, os.Rename(filepath.Join(work, "log", logs[0].Name()),
						filepath.Join(work, "aside", logs[0].Name())))
				}
				out, met := faultRun(t, base, "sweep", "openat", filepath.Join(work, name),
					fmt.Sprintf("error=EIO:when=%d", k))
				if !met {
					break
				}
				runs++
				what := fmt.Sprintf("%s, %s cannot be listed at time %d", state, name, k)
				t.Run(what, func(t *testing.T) {
					requireIntact(t, work, model, out, what)
					s := openTest(t, work)
					require.NoError(t, wholeBelow(s, held.Tree()), "%s: what a pin holds\n%s", what, out)
					require.NoError(t, s.Close())
				})
			}
		}
	}
	require.Greater(t, runs, 15)
}

// What a pin leads to is kept also when what leads there cannot be read: for a moment, or ever.
func TestPinKeepsWhatCannotBeReached(t *testing.T) {
	base := filepath.Join(t.TempDir(), "store")
	s := openTest(t, base)
	w := s.NewWriter(s.NewLease())
	root := buildTree(t, w, 60, 1, bigTree(60, 40, 60_000)) // goes into packs
	require.NoError(t, w.Flush())
	_, err := s.Pin("something", root.Tree())
	require.NoError(t, err)
	w.Close()
	require.NoError(t, s.Close())

	work := filepath.Join(t.TempDir(), "work")
	sweep := func(s *Store) {
		_, err := s.Sweep(t.Context(), SweepOptions{MinDead: 0.0001})
		if err == nil {
			commitTree(t, s, 61, 1, bigTree(61, 3, 100))
			_, err = s.Sweep(t.Context(), SweepOptions{MinDead: 0.0001})
		}
		require.NoError(t, err)
		require.NoError(t, s.Close())
	}
	for at := int64(1); ; at++ {
		copyDir(t, base, work)
		s := openTest(t, work)
		m := &faulty{Media: s.media, at: at, err: syscall.EIO}
		s.media = m
		if _, err := s.Sweep(t.Context(), SweepOptions{MinDead: 0.0001}); !m.met.Load() {
			require.NoError(t, err)
			require.Greater(t, at, int64(1))
			require.NoError(t, s.Close())
			break
		}
		s.media = m.Media
		sweep(s)
		s = openTest(t, work)
		require.NoError(t, wholeBelow(s, root.Tree()), "operation %d", at)
		require.NoError(t, s.Close())
	}

	copyDir(t, base, work)
	s = openTest(t, work)
	top, err := s.Get(root.Tree())
	require.NoError(t, err)
	id := root.Tree()
	loc, ok, err := s.lookup(&id)
	require.NoError(t, err)
	require.True(t, ok)
	pack := filepath.Join(work, s.files.Packs[s.files.packIndex(loc.pack)].Name)
	require.NoError(t, s.Close())
	raw, err := os.ReadFile(pack)
	require.NoError(t, err)
	raw[loc.offset+recordHead+9] ^= 1
	require.NoError(t, os.WriteFile(pack, raw, 0o600))
	s = openTest(t, work)
	sweep(s)
	s = openTest(t, work)
	for _, child := range top.Children() {
		require.NoError(t, wholeBelow(s, child))
	}
	require.NoError(t, s.Close())
}
