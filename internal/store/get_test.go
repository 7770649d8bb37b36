package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
)

// What was got belongs to who asked for it: it stays as it was while the memory for reading is used again by all, for
// objects of every size, compressed or not, in the log, in packs and in bundles.
func TestWhatWasGotStays(t *testing.T) {
	s := openTest(t, t.TempDir()+"/store")
	rng := rand.New(rand.NewPCG(3, 9))
	files := map[string][]byte{}
	for i := range 300 {
		size := 1 + rng.IntN(1<<(4+rng.IntN(13)))
		files[fmt.Sprint("noise-", i)] = randomBytes(rng, size)
		files[fmt.Sprint("text-", i)] = []byte(strings.Repeat(fmt.Sprint("heath ", i, ", marsh "), 1+size/16))
	}
	root, _, err := s.Root(commitTree(t, s, 1, 1, fakeTree{files}))
	require.NoError(t, err)
	var chunks []object.ID
	require.NoError(t, object.WalkDir(s.Get, root.Top.Content, nil, func(e object.Entry) error {
		chunks = append(chunks, e.Content)
		return nil
	}))
	for _, step := range []func() error{
		func() error { return nil },
		func() error {
			s.maint.Lock()
			defer s.maint.Unlock()
			s.adm.Lock()
			defer s.adm.Unlock()
			return s.seal()
		},
		func() error { _, err := s.Sweep(context.Background(), SweepOptions{Settle: true}); return err },
	} {
		require.NoError(t, step())
		var readers errgroup.Group
		for reader := range 4 {
			readers.Go(func() error {
				rng := rand.New(rand.NewPCG(uint64(reader), 1))
				kept := map[object.ID]object.Envelope{}
				for range 3 * len(chunks) {
					id := chunks[rng.IntN(len(chunks))]
					env, err := s.Get(id)
					if err != nil {
						return err
					}
					if kept[id].Payload == nil {
						kept[id] = env
					}
				}
				for id, env := range kept {
					if object.Sum(object.Encode(nil, env.Kind, env.Children(), env.Payload)) != id {
						t.Errorf("%s has changed since it was got", id)
					}
				}
				return nil
			})
		}
		require.NoError(t, readers.Wait())
	}
}
