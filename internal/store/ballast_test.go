package store

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// Others fill the filesystem, and snapshots go on into the ballast, which shrinks as the
// store grows and grows again as the store shrinks; when it is used up the store is full.
func TestBallast(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting a small filesystem needs root")
	}
	small := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=400m", "tmpfs", small).CombinedOutput(); err != nil {
		t.Skipf("no small filesystem can be mounted: %s", out)
	}
	s := openTest(t, filepath.Join(small, "store"))
	t.Cleanup(func() { s.Close(); exec.Command("umount", small).Run() })
	require.NoError(t, s.SetBallast(200<<20))
	held, want := s.Ballast()
	require.Equal(t, want, held)
	require.Equal(t, int64(200<<20)-s.Usage().StoredBytes, held)
	f, err := os.Create(filepath.Join(small, "others"))
	require.NoError(t, err)
	for err == nil { // till nobody gets anything
		_, err = f.Write(make([]byte, 1<<20))
	}
	require.ErrorContains(t, err, "no space left")
	require.NoError(t, f.Close())
	require.Less(t, freeBytes(small), int64(1<<20))

	rng := rand.NewChaCha8([32]byte{})
	take := func(seq uint64) error {
		w := s.NewWriter(s.NewLease())
		defer w.Close()
		tree := fakeTree{files: map[string][]byte{}}
		for i := range 40 {
			b := make([]byte, 500_000)
			rng.Read(b)
			if _, err := w.PutChunk(append(make([]byte, object.Headroom), b...)); err != nil {
				return err
			}
			tree.files[string(rune('a'+i))] = b
		}
		_, err := w.Commit(buildTree(t, w, 1, seq, tree))
		return err
	}
	n := uint64(0)
	for err = error(nil); err == nil; n++ {
		before := s.Usage().StoredBytes
		if err = take(n + 1); err == nil {
			require.NoError(t, s.KeepBallast())
			held, want = s.Ballast()
			require.LessOrEqual(t, held, want)
			require.Greater(t, s.Usage().StoredBytes, before+19_000_000)
		}
	}
	require.GreaterOrEqual(t, n, uint64(7), "of the 200 MiB most could be used")
	var full *FullError
	require.ErrorAs(t, err, &full)
	require.NoError(t, s.KeepBallast())
	require.Len(t, s.Roots(), int(n-1))
	for _, id := range s.Roots() {
		_, _, err := s.Root(id)
		require.NoError(t, err)
	}
	require.NoError(t, os.Remove(filepath.Join(small, "others")))
	require.NoError(t, s.KeepBallast())
	require.NoError(t, s.Close())
	s = openTest(t, filepath.Join(small, "store"))
	require.NoError(t, s.SetBallast(200<<20))
	held, want = s.Ballast()
	require.Equal(t, want, held, "what is left of it is set aside again")
	require.NoError(t, s.SetBallast(0))
	_, err = os.Stat(filepath.Join(small, "store", "ballast"))
	require.ErrorIs(t, err, os.ErrNotExist)
}
