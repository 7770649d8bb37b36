package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"sync"
	"testing"

	"candidharbor/core/object"
	"candidharbor/e2e/reader"

	"github.com/stretchr/testify/require"
)

// Several volumes are snapshotted side by side while others are removed, swept, settled,
// sealed and verified: each snapshot that was acknowledged comes back as it was.
func TestSideBySide(t *testing.T) {
	dir, err := os.MkdirTemp(memoryDir(), "side-by-side")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	s := openTest(t, dir)
	pool := make([][]byte, 60)
	prng := rand.New(rand.NewPCG(5, 5))
	for i := range pool {
		pool[i] = randomBytes(prng, 200+prng.IntN(60_000))
	}
	var mu sync.Mutex
	model := map[object.ID]fakeTree{}
	writers, others := sync.WaitGroup{}, sync.WaitGroup{}
	done := make(chan struct{})
	for g := range 5 {
		writers.Go(func() {
			rng := rand.New(rand.NewPCG(uint64(g), 2))
			for n := range sideBySideRounds {
				tree := fakeTree{map[string][]byte{}}
				for i := range 1 + rng.IntN(40) {
					tree.files[fmt.Sprint("f", i)] = pool[rng.IntN(len(pool))]
				}
				if rng.IntN(3) == 0 {
					tree.files["own"] = randomBytes(rng, 100)
				}
				w := s.NewWriter(s.NewLease())
				root := buildTree(t, w, byte(rng.IntN(3)), uint64(g*sideBySideRounds+n+1), tree)
				if rng.IntN(4) == 0 {
					require.NoError(t, w.Flush())
				}
				if rng.IntN(5) == 0 {
					w.Close()
					continue
				}
				id, err := w.Commit(root)
				w.Close()
				require.NoError(t, err)
				mu.Lock()
				model[id] = tree
				mu.Unlock()
			}
		})
	}
	beside := func(f func(rng *rand.Rand)) {
		others.Go(func() {
			rng := rand.New(rand.NewPCG(77, 2))
			for {
				select {
				case <-done:
					return
				default:
					f(rng)
				}
			}
		})
	}
	beside(func(rng *rand.Rand) { // a removal
		mu.Lock()
		var ids []object.ID
		for id := range model {
			if len(ids) < 3 && len(model) > 12 {
				ids = append(ids, id)
				delete(model, id)
			}
		}
		mu.Unlock()
		require.NoError(t, s.RemoveRoots(ids...))
	})
	beside(func(rng *rand.Rand) {
		_, err := s.Sweep(context.Background(), SweepOptions{Settle: rng.IntN(3) == 0, MinDead: 0.0001})
		require.NoError(t, err)
	})
	beside(func(rng *rand.Rand) {
		res, err := s.Verify(context.Background(), VerifyOptions{Anew: true})
		require.NoError(t, err)
		require.Empty(t, res.Damage)
		require.Empty(t, res.Records)
		require.Zero(t, res.Censuses)
	})
	beside(func(rng *rand.Rand) { // a reader
		mu.Lock()
		defer mu.Unlock() // so that nobody removes it meanwhile
		for id, tree := range model {
			requireTree(t, s, id, tree)
			break
		}
	})
	writers.Wait()
	close(done)
	others.Wait()
	for range 2 {
		require.Equal(t, len(model), len(s.Roots()))
		for id, tree := range model {
			requireTree(t, s, id, tree)
		}
		res, err := s.Verify(context.Background(), VerifyOptions{})
		require.NoError(t, err)
		require.True(t, res.Whole(), "%+v", res)
		require.NoError(t, s.Close())
		proveAll(t, dir, len(model))
		s = openTest(t, dir)
		require.False(t, s.Rebuilt())
		require.Empty(t, s.Findings())
	}
	require.NoError(t, s.Close())
}

// proveAll has the reader that knows docs/formats.md alone prove every snapshot whole.
func proveAll(t *testing.T, dir string, n int) {
	r, err := reader.Open(dir)
	require.NoError(t, err)
	all, bad, err := r.Snapshots()
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Len(t, all, n)
	for i := range all {
		require.NoError(t, r.Prove(&all[i]))
	}
}

var sideBySideRounds = 120 * long
