package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// Whatever is packed comes back; shares add up to the bundle; no bit of it can change, and no end be cut off,
// unnoticed.
func TestBundle(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 1))
	for range 60 {
		var ids []object.ID
		var envelopes [][]byte
		for plain := 0; plain < 1+rng.IntN(bundleAt) && len(ids) < bundleMost; {
			data := randomBytes(rng, 1+rng.IntN(1<<rng.IntN(14)))
			if rng.IntN(2) == 0 {
				data = []byte(strings.Repeat("fen and marsh ", 1+len(data)/14))
			}
			env := object.Encode(nil, object.KindChunk, nil, append(data, fmt.Sprint(len(ids))...))
			ids, envelopes, plain = append(ids, object.Sum(env)), append(envelopes, env), plain+len(env)
		}
		raw, err := makeBundle(ids, envelopes)
		require.NoError(t, err)
		h, err := parseBundle(raw)
		require.NoError(t, err)
		b, err := verifyBundle(raw)
		require.NoError(t, err)
		shares := int64(0)
		for i, m := range b.members {
			record, err := b.record(ids[i], nil)
			require.NoError(t, err)
			env, err := openRecord(nil, record, ids[i])
			require.NoError(t, err)
			require.Equal(t, envelopes[i], env)
			loc := m.location(&h, 4096)
			require.Equal(t, len(raw), loc.reads())
			shares += loc.size()
		}
		require.Equal(t, int64(len(raw)), shares)
		for range 200 {
			bad := append([]byte(nil), raw...)
			bad[rng.IntN(len(bad))] ^= 1 << rng.IntN(8)
			_, err := openBundle(bad)
			require.ErrorIs(t, err, ErrDamaged)
		}
		_, err = openBundle(raw[:rng.IntN(len(raw))])
		require.ErrorIs(t, err, ErrDamaged)
	}
}

// settledTree is a store of one snapshot of small files, which lie in bundles.
func settledTree(t *testing.T) (dir string, id object.ID, tree fakeTree) {
	dir = filepath.Join(t.TempDir(), "store")
	s := openTest(t, dir)
	tree = fakeTree{map[string][]byte{}}
	for i := range 200 {
		tree.files[fmt.Sprintf("note-%03d", i)] = []byte(strings.Repeat(fmt.Sprintf("note %d of the fen, ", i), 20+i))
	}
	id = commitTree(t, s, 1, 1, tree)
	_, err := s.Sweep(context.Background(), SweepOptions{Settle: true})
	require.NoError(t, err)
	requireAddsUp(t, s)
	require.NoError(t, s.Close())
	return dir, id, tree
}

// requireAddsUp compares what the index says of the packs with their lengths, and returns how many lie in bundles.
func requireAddsUp(t *testing.T, s *Store) (bundled int) {
	sums := map[uint32]int64{}
	require.NoError(t, mergeRuns(s.runs, s.gone, func(e *indexEntry) error {
		sums[e.pack] += e.size()
		_, size, _, ok := s.ords.get(e.ordinal)
		require.True(t, ok)
		require.Equal(t, e.size(), size)
		if e.codec == codecBundle {
			bundled++
		}
		return nil
	}))
	for _, p := range s.files.Packs {
		require.Equal(t, p.Bytes-packHead-p.Dead, sums[p.Num], p.Name)
	}
	return bundled
}

// A damaged bundle concerns its own members and nothing else, and is healed by records from elsewhere.
func TestDamagedBundle(t *testing.T) {
	base, id, tree := settledTree(t)
	peer := openTest(t, filepath.Join(t.TempDir(), "peer"))
	defer peer.Close()
	commitTree(t, peer, 1, 1, tree)
	packs, err := filepath.Glob(filepath.Join(base, "packs", "d-*"))
	require.NoError(t, err)
	require.Len(t, packs, 1)
	good, err := os.ReadFile(packs[0])
	require.NoError(t, err)
	rng := rand.New(rand.NewPCG(5, 5))
	for range 25 {
		bad := append([]byte(nil), good...)
		at := packHead + rng.IntN(len(good)-packHead)
		bad[at] ^= 1 << rng.IntN(8)
		dir := filepath.Join(t.TempDir(), "copy")
		copyDir(t, base, dir)
		s := openTest(t, dir)
		requireTree(t, s, id, tree) // what was read of it before must not hide the damage
		require.NoError(t, os.WriteFile(filepath.Join(dir, "packs", filepath.Base(packs[0])), bad, 0o600))
		hit := map[object.ID]bool{}
		require.NoError(t, mergeRuns(s.runs, s.gone, func(e *indexEntry) error {
			if e.codec == codecBundle && int(e.offset) <= at && at < int(e.offset)+e.reads() {
				hit[e.id] = true
			}
			return nil
		}))
		require.NotEmpty(t, hit)
		res, err := s.Verify(context.Background(), VerifyOptions{})
		require.NoError(t, err)
		var todo []object.ID
		for _, d := range res.Damage {
			require.True(t, hit[d.Object], "byte %d", at)
			require.Equal(t, id, d.Snapshots[0].ID)
			todo = append(todo, d.Object)
		}
		require.Len(t, todo, len(hit), "byte %d", at)
		_, err = s.Heal(context.Background(), todo, recordsOf(peer))
		require.NoError(t, err)
		requireTree(t, s, id, tree)
		res, err = s.Verify(context.Background(), VerifyOptions{})
		require.NoError(t, err)
		require.True(t, res.Whole())
		require.NoError(t, s.Close())
	}
}

// What is in bundles stays in them when half of it goes, is found without an index, and travels as records that a site
// of any version reads.
func TestBundlesLiveOn(t *testing.T) {
	dir, id, tree := settledTree(t)
	s := openTest(t, dir)
	half := fakeTree{map[string][]byte{}}
	for i, name := range sortedKeys(tree.files) {
		if i%2 == 0 {
			half.files[name] = tree.files[name]
		}
	}
	kept := commitTree(t, s, 1, 2, half)
	before := s.Usage().StoredBytes
	require.NoError(t, s.RemoveRoots(id))
	for range 2 {
		_, err := s.Sweep(context.Background(), SweepOptions{MinDead: 0.0001})
		require.NoError(t, err)
	}
	require.Less(t, s.Usage().StoredBytes, before*2/3)
	bundled := requireAddsUp(t, s)
	require.GreaterOrEqual(t, bundled, len(half.files)-1) // one alone is a record
	requireTree(t, s, kept, half)
	root, _, err := s.Root(kept)
	require.NoError(t, err)
	require.NoError(t, object.WalkDir(s.Get, root.Tree(), nil, func(e object.Entry) error {
		record, err := s.Record(e.Content, nil)
		require.NoError(t, err)
		h, err := parseHeader(record)
		require.NoError(t, err)
		require.LessOrEqual(t, h.codec, codecZstd)
		require.Less(t, h.stored, h.plain)
		return verifyRecord(record, e.Content)
	}))
	require.NoError(t, s.Close())
	for _, lost := range []string{"manifest", "index"} {
		require.NoError(t, os.RemoveAll(filepath.Join(dir, lost)))
		s = openTest(t, dir)
		require.True(t, s.Rebuilt())
		require.Equal(t, bundled, requireAddsUp(t, s))
		requireTree(t, s, kept, half)
		m, err := readManifest(dir)
		require.NoError(t, err)
		require.Equal(t, 3, m.Form)
		require.NoError(t, s.Close())
	}
}
