package store

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A store made before there were bundles is read, verified, added to and settled anew.
func TestStoreOfForm2(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, exec.Command("tar", "-xzf", "testdata/form-2.tar.gz", "-C", dir).Run())
	m, err := readManifest(dir)
	require.NoError(t, err)
	require.Equal(t, 2, m.Form)
	// What it was made with.
	trees := map[string]fakeTree{}
	for i, n := range []int{60, 4, 5} {
		tree := bigTree(uint64(41+i), n/3, 700)
		for k := range n {
			tree.files[fmt.Sprintf("note-%03d", k)] = []byte(strings.Repeat(fmt.Sprintf("note %d of the fen, ", k), 20+k+i*4000))
		}
		trees[[]string{"ac70819a6d8f", "af2959a9f815", "f6d2ac72e479"}[i]] = tree
	}
	s := openTest(t, dir)
	require.False(t, s.Rebuilt())
	read := func() {
		require.Len(t, s.Roots(), len(trees))
		for _, id := range s.Roots() {
			requireTree(t, s, id, trees[id.String()[:12]])
		}
		res, err := s.Verify(context.Background(), VerifyOptions{})
		require.NoError(t, err)
		require.True(t, res.Whole())
		require.Equal(t, len(trees), res.Snapshots)
	}
	read()
	require.Zero(t, requireAddsUp(t, s))
	again := bigTree(50, 3, 500)
	trees[commitTree(t, s, 3, 1, again).String()[:12]] = again
	_, err = s.Sweep(context.Background(), SweepOptions{Settle: true})
	require.NoError(t, err)
	require.Greater(t, requireAddsUp(t, s), 80)
	read()
	require.NoError(t, s.Close())
	s = openTest(t, dir)
	defer s.Close()
	read()
	res, err := s.Sweep(context.Background(), SweepOptions{Settle: true})
	require.NoError(t, err)
	require.Zero(t, res.PacksRewritten, "what is settled is not settled again")
	marks, err := filepath.Glob(filepath.Join(dir, "marks", "*", "keep-*"))
	require.NoError(t, err)
	require.Len(t, marks, 1)
}
