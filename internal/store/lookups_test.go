package store

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// Objects looked up many at a time are found where each is found by itself: in memory and in runs of
// all sizes; one that is not there is named.
func TestOrdinalsOfMany(t *testing.T) {
	s := openTest(t, memoryDir())
	defer s.Close()
	rng := rand.New(rand.NewPCG(1, 2))
	var all []object.ID
	for round, n := range []int{9000, 3, 2000, 130, 700, 1} {
		tree := fakeTree{files: map[string][]byte{}}
		for i := range n {
			tree.files[fmt.Sprintf("f%05d", i)] = randomBytes(rng, 1+rng.IntN(40))
		}
		w := s.NewWriter(s.NewLease())
		root := buildTree(t, w, byte(round+1), 1, tree)
		if round == 3 { // looked up before the commit: some lie in memory alone
			check(t, s, rng, all)
		}
		_, err := w.Commit(root)
		require.NoError(t, err)
		w.Close()
		require.NoError(t, object.WalkDir(s.Get, root.Tree(), nil, func(e object.Entry) error {
			all = append(all, e.Content)
			return nil
		}))
		check(t, s, rng, all)
	}
	none := object.Sum([]byte("none"))
	asked := append(append([]object.ID{}, all[:3000]...), none)
	_, err := s.ordinalsOf(asked)
	require.ErrorIs(t, err, ErrNoObject)
	require.ErrorContains(t, err, none.String())
}

func check(t *testing.T, s *Store, rng *rand.Rand, all []object.ID) {
	for _, n := range []int{0, 1, lookUpGroup/4 - 1, lookUpGroup / 4, lookUpGroup + 1, 5000} {
		ids := make([]object.ID, n)
		for i := range ids {
			ids[i] = all[rng.IntN(len(all))] // some twice
		}
		got, err := s.ordinalsOf(ids)
		require.NoError(t, err)
		for i, id := range ids {
			want, err := s.ordinalOf(id)
			require.NoError(t, err)
			require.Equal(t, want, got[i])
		}
	}
	got, err := s.ordinalsOf(all)
	require.NoError(t, err)
	for i, id := range all {
		want, err := s.ordinalOf(id)
		require.NoError(t, err)
		require.Equal(t, want, got[i])
	}
}
