package store

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"candidharbor/core/object"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var testKey = ed25519.NewKeyFromSeed(make([]byte, 32))

func openTest(t require.TestingT, dir string) *Store {
	s, err := Open(dir, Options{Key: testKey})
	require.NoError(t, err)
	return s
}

type fakeTree struct {
	files map[string][]byte
}

// commitTree stores a one-level tree and returns its snapshot id.
func commitTree(t require.TestingT, s *Store, lin byte, seq uint64, tree fakeTree) object.ID {
	w := s.NewWriter(s.NewLease())
	defer w.Close()
	id, err := w.Commit(buildTree(t, w, lin, seq, tree))
	require.NoError(t, err)
	return id
}

func buildTree(t require.TestingT, w *Writer, lin byte, seq uint64, tree fakeTree) *object.Root {
	d := object.NewDirBuilder(w.Put)
	for _, name := range sortedKeys(tree.files) {
		data := tree.files[name]
		e := object.Entry{Name: []byte(name), Kind: object.File, Mode: 0o644, Size: int64(len(data))}
		if len(data) > 0 {
			id, err := w.PutChunk(append(make([]byte, object.Headroom), data...))
			require.NoError(t, err)
			e.HasContent, e.Content = true, id
		}
		require.NoError(t, d.Add(e))
	}
	top, err := d.Finish()
	require.NoError(t, err)
	return &object.Root{Lineage: object.LineageID{lin}, Volume: "v", Term: 1, Sequence: seq, Consistency: object.Spread,
		Top: object.Entry{Kind: object.Dir, Mode: 0o755, HasContent: true, Content: top}}
}

func sortedKeys(m map[string][]byte) []string {
	var ks []string
	for k := range m {
		ks = append(ks, k)
	}
	for i := range ks {
		for j := i; j > 0 && ks[j] < ks[j-1]; j-- {
			ks[j], ks[j-1] = ks[j-1], ks[j]
		}
	}
	return ks
}

func requireTree(t require.TestingT, s *Store, id object.ID, want fakeTree) {
	root, _, err := s.Root(id)
	require.NoError(t, err)
	got := map[string][]byte{}
	require.NoError(t, object.WalkDir(s.Get, root.Tree(), nil, func(e object.Entry) error {
		var data []byte
		if e.HasContent {
			if err := object.WalkContent(s.Get, e.Content, 0, func(sp object.Span) error {
				data = append(data, sp.Data...)
				return nil
			}); err != nil {
				return err
			}
		}
		got[string(e.Name)] = data
		return nil
	}))
	require.Equal(t, len(want.files), len(got))
	for k, v := range want.files {
		require.Equal(t, string(v), string(got[k]), k)
	}
}

func randomBytes(rng *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rng.Uint32())
	}
	return b
}

// The model: a map of snapshots to trees. Whatever sequence of commits, removals,
// sweeps, index losses and reopenings happens, every snapshot reads back.
func TestStoreModel(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(memoryDir(), "store-model")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		s := openTest(rt, dir)
		defer func() { s.Close() }()
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 1))
		model := map[object.ID]fakeTree{}
		pool := make([][]byte, 12)
		for i := range pool {
			pool[i] = randomBytes(rng, 1+rng.IntN(3000))
		}
		seq := uint64(0)
		rt.Repeat(map[string]func(*rapid.T){
			"commit": func(rt *rapid.T) {
				tree := fakeTree{map[string][]byte{}}
				for i := range rapid.IntRange(0, 90).Draw(rt, "files") {
					tree.files[fmt.Sprint("f", i)] = pool[rng.IntN(len(pool))]
				}
				tree.files["own"] = randomBytes(rng, 100)
				if rng.IntN(4) == 0 {
					tree.files["large"] = randomBytes(rng, 1<<20-object.Headroom)
					tree.files["large2"] = randomBytes(rng, 1<<20-object.Headroom)
				}
				seq++
				model[commitTree(rt, s, byte(rng.IntN(2)), seq, tree)] = tree
			},
			"remove": func(rt *rapid.T) {
				for id := range model {
					require.NoError(rt, s.RemoveRoots(id))
					delete(model, id)
					break
				}
			},
			"sweep": func(rt *rapid.T) {
				var going []object.ID
				_, err := s.Sweep(context.Background(), SweepOptions{Settle: rng.IntN(3) == 0, MinDead: []float64{0.0001,
					0.3}[rng.IntN(2)]})
				require.NoError(rt, err)
				for id := range model {
					going = append(going, id)
				}
				freed, err := s.Freed(going)
				require.NoError(rt, err)
				var sum int64
				live, _, _, err := s.live(context.Background())
				require.NoError(rt, err)
				for it := live.Iterator(); it.HasNext(); {
					sum += s.SizeOf(it.Next())
				}
				require.Equal(rt, sum, freed)
				var each [][]object.ID
				for _, id := range going[:len(going)/2+len(going)%2] {
					each = append(each, []object.ID{id})
				}
				needs, alone, err := s.Shares(each...)
				require.NoError(rt, err)
				own, err := s.Own()
				require.NoError(rt, err)
				require.Len(rt, own, len(model))
				for i, one := range each {
					freed, err := s.Freed(one)
					require.NoError(rt, err)
					require.Equal(rt, freed, own[one[0]])
					require.Equal(rt, freed, alone[i])
					needed, err := s.Referenced(one[0])
					require.NoError(rt, err)
					require.Equal(rt, needed, needs[i])
				}
			},
			"reopen": func(rt *rapid.T) {
				require.NoError(rt, s.Close())
				s = openTest(rt, dir)
				require.False(rt, s.Rebuilt())
			},
			"lose index": func(rt *rapid.T) {
				require.NoError(rt, s.Close())
				require.NoError(rt, os.Remove(filepath.Join(dir, "manifest")))
				s = openTest(rt, dir)
			},
			"seal": func(rt *rapid.T) {
				s.maint.Lock()
				s.adm.Lock()
				require.NoError(rt, s.seal())
				s.adm.Unlock()
				s.maint.Unlock()
			},
			"": func(rt *rapid.T) {
				require.Len(rt, s.Roots(), len(model))
				for id, tree := range model {
					requireTree(rt, s, id, tree)
				}
			},
		})
		res, err := s.Verify(context.Background(), VerifyOptions{})
		require.NoError(rt, err)
		require.Empty(rt, res.Damage)
	})
}

// Invariant 1: an object whose child is absent is refused, and so is one whose child
// was condemned.
func TestClosed(t *testing.T) {
	s := openTest(t, t.TempDir())
	defer s.Close()
	w := s.NewWriter(s.NewLease())
	_, err := w.Put(object.KindList, []object.ID{{1, 2, 3}}, nil)
	require.ErrorIs(t, err, ErrNotClosed)
	w.Close()

	id := commitTree(t, s, 1, 1, fakeTree{map[string][]byte{"a": []byte("some bytes")}})
	root, _, err := s.Root(id)
	require.NoError(t, err)
	require.NoError(t, s.RemoveRoots(id))
	_, _, err = s.condemn(context.Background())
	require.NoError(t, err)
	w = s.NewWriter(s.NewLease())
	defer w.Close()
	_, err = w.Put(object.KindList, []object.ID{root.Tree()}, []byte{0x83, 1, 0x81, 1, 1})
	require.ErrorIs(t, err, ErrNotClosed, "a condemned object must not be relied on")
	_, err = w.Commit(&object.Root{Lineage: object.LineageID{1}, Top: root.Top})
	require.ErrorIs(t, err, ErrNotClosed)
}

// A tree that lost something below is not made a snapshot, however it came about.
func TestCommitProvesWhole(t *testing.T) {
	s := openTest(t, t.TempDir())
	defer s.Close()
	tree := fakeTree{map[string][]byte{"a": []byte("some bytes"), "b": []byte("others")}}
	id := commitTree(t, s, 1, 1, tree)
	root, _, err := s.Root(id)
	require.NoError(t, err)
	top, err := s.Get(root.Tree())
	require.NoError(t, err)
	delete(s.mem, top.Child(0))
	s.dropCensus(id)
	w := s.NewWriter(s.NewLease())
	root.Sequence++
	_, err = w.Commit(root)
	require.ErrorIs(t, err, ErrNoObject)
	require.ErrorContains(t, err, "would not be whole")
	w.Close()
	require.Equal(t, []object.ID{id}, s.Roots())
	res, err := s.Sweep(context.Background(), SweepOptions{})
	require.NoError(t, err)
	require.Equal(t, []object.ID{id}, res.Blind, "what else it needs is not known, so all is kept")
	require.Zero(t, res.Condemned)
	commitTree(t, s, 1, 3, tree) // what was lost comes back with the next reading of everything
	_, err = s.Sweep(context.Background(), SweepOptions{})
	require.NoError(t, err)
	requireTree(t, s, id, tree)
}

// Invariant 3: what a lease relies on is not condemned, nor anything below it, even
// when its last snapshot goes while the lease is held.
func TestLeaseKeepsWhatIsBelow(t *testing.T) {
	dir := t.TempDir()
	s := openTest(t, dir)
	defer func() { s.Close() }()
	tree := fakeTree{map[string][]byte{"a": []byte("first"), "b": []byte("second")}}
	id := commitTree(t, s, 1, 1, tree)
	root, _, err := s.Root(id)
	require.NoError(t, err)
	w := s.NewWriter(s.NewLease())
	require.NoError(t, w.Has(root.Tree()))
	require.NoError(t, s.RemoveRoots(id))
	_, err = s.Sweep(context.Background(), SweepOptions{MinDead: 0.0001})
	require.NoError(t, err)
	again, err := w.Commit(&object.Root{Lineage: object.LineageID{1}, Sequence: 2, Top: root.Top})
	require.NoError(t, err)
	requireTree(t, s, again, tree)

	// The same for a durable lease across a restart and an index rebuild.
	require.NoError(t, s.RemoveRoots(again))
	lease, err := s.DurableLease("carry")
	require.NoError(t, err)
	w = s.NewWriter(lease)
	other := fakeTree{map[string][]byte{"c": []byte("carried in part")}}
	r := buildTree(t, w, 2, 1, other)
	require.NoError(t, w.Flush())
	w.Close()
	require.NoError(t, s.Close())
	require.NoError(t, os.Remove(filepath.Join(dir, "manifest")))
	s = openTest(t, dir)
	_, err = s.Sweep(context.Background(), SweepOptions{MinDead: 0.0001})
	require.NoError(t, err)
	lease, err = s.DurableLease("carry")
	require.NoError(t, err)
	w = s.NewWriter(lease)
	got, err := w.Commit(r)
	require.NoError(t, err)
	requireTree(t, s, got, other)
}

// Any flipped byte of a pack is found, named with the snapshot and path it concerns,
// and everything else still reads. The next commit of the same content heals it.
func TestFlippedBytes(t *testing.T) {
	base := t.TempDir()
	s := openTest(t, base)
	tree := fakeTree{map[string][]byte{}}
	rng := rand.New(rand.NewPCG(7, 7))
	for i := range 20 {
		tree.files[fmt.Sprintf("file-%02d", i)] = randomBytes(rng, 200)
	}
	id := commitTree(t, s, 1, 1, tree)
	s.maint.Lock()
	s.adm.Lock()
	require.NoError(t, s.seal())
	s.adm.Unlock()
	s.maint.Unlock()
	require.NoError(t, s.Close())
	packs, err := filepath.Glob(filepath.Join(base, "packs", "*"))
	require.NoError(t, err)
	require.Len(t, packs, 2)
	for _, pack := range packs {
		good, err := os.ReadFile(pack)
		require.NoError(t, err)
		for at := 0; at < len(good); at += 1 + rng.IntN(40) {
			bad := append([]byte(nil), good...)
			bad[at] ^= 1 << rng.IntN(8)
			dir := filepath.Join(t.TempDir(), "copy")
			require.NoError(t, os.CopyFS(dir, os.DirFS(base)))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "packs", filepath.Base(pack)), bad, 0o600))
			s := openTest(t, dir)
			res, err := s.Verify(context.Background(), VerifyOptions{})
			require.NoError(t, err)
			require.Len(t, res.Damage, 1, "%s byte %d", filepath.Base(pack), at)
			if at >= packHead {
				d := res.Damage[0]
				require.Len(t, d.Snapshots, 1)
				require.Equal(t, id, d.Snapshots[0].ID)
				require.Len(t, d.Snapshots[0].Paths, 1)
				healed := commitTree(t, s, 1, uint64(at)+2, tree)
				requireTree(t, s, healed, tree)
				requireTree(t, s, id, tree)
			}
			s.Close()
		}
	}
}

// A torn log loses only what was not acknowledged.
func TestTornLog(t *testing.T) {
	dir := t.TempDir()
	s := openTest(t, dir)
	tree := fakeTree{map[string][]byte{"a": []byte("kept")}}
	id := commitTree(t, s, 1, 1, tree)
	whole := s.logf.size
	w := s.NewWriter(s.NewLease())
	buildTree(t, w, 1, 2, fakeTree{map[string][]byte{"b": []byte("torn")}})
	require.NoError(t, w.Flush())
	path := s.logf.f.Name()
	end := s.logf.size
	require.NoError(t, s.Close())
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	for cut := whole; cut < end; cut++ {
		require.NoError(t, os.WriteFile(path, raw[:cut], 0o600))
		s := openTest(t, dir)
		requireTree(t, s, id, tree)
		size := s.logf.size
		if cut < whole+recordHead {
			require.Equal(t, whole, size, "nothing whole is in what was cut off")
		}
		s.Close()
		s = openTest(t, dir) // what was put back is not put back again
		require.Equal(t, size, s.logf.size)
		requireTree(t, s, id, tree)
		s.Close()
	}
}

// A record whose content is not what its identity says, that lacks its children or
// that promises too much is refused.
func TestPutRecordRefusesLies(t *testing.T) {
	s := openTest(t, t.TempDir())
	defer s.Close()
	w := s.NewWriter(s.NewLease())
	defer w.Close()
	env := object.Encode(nil, object.KindChunk, nil, []byte("honest"))
	good := appendRecord(nil, object.KindChunk, object.Sum(env), env)
	_, err := w.PutRecord(good)
	require.NoError(t, err)
	lie := appendRecord(nil, object.KindChunk, object.ID{9}, env)
	_, err = w.PutRecord(lie)
	require.ErrorIs(t, err, ErrDamaged)
	parent := object.Encode(nil, object.KindList, []object.ID{{5}}, nil)
	_, err = w.PutRecord(appendRecord(nil, object.KindList, object.Sum(parent), parent))
	require.ErrorIs(t, err, ErrNotClosed)
	other := appendRecord(nil, object.KindDir, object.Sum(env), env)
	_, err = w.PutRecord(other)
	require.True(t, errors.Is(err, ErrDamaged))
	for i := range good {
		bad := append([]byte(nil), good...)
		bad[i] ^= 0x40
		_, err := w.PutRecord(bad)
		require.Error(t, err)
	}
}

// What unpacks to more than its record says, or to more than any object may hold, is
// refused before it has been unpacked.
func TestBombs(t *testing.T) {
	s := openTest(t, t.TempDir())
	defer s.Close()
	w := s.NewWriter(s.NewLease())
	defer w.Close()
	zeros := make([]byte, 256<<20)
	enc, err := zstd.NewWriter(nil, zstd.WithWindowSize(8<<20))
	require.NoError(t, err)
	var stream bytes.Buffer // a frame that does not say how long it is
	enc.Reset(&stream)
	enc.Write(zeros)
	require.NoError(t, enc.Close())
	whole, packed := enc.EncodeAll(zeros, nil), s2.Encode(nil, zeros)
	id := object.Sum(zeros)
	zeros = nil
	for name, b := range map[string]struct {
		codec codec
		body  []byte
	}{"zstd": {codecZstd, whole}, "zstd without its size": {codecZstd, stream.Bytes()}, "s2": {codecS2, packed}} {
		for _, plain := range []int{len(b.body), object.MaxSize(object.KindChunk), 256 << 20, 1<<32 - 1} {
			raw := finishRecord(make([]byte, recordHead, recordHead+len(b.body)), 0, object.KindChunk, id, b.codec, plain,
				b.body)
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := w.PutRecord(raw)
			runtime.ReadMemStats(&after)
			require.ErrorIs(t, err, ErrDamaged, "%s said to hold %d", name, plain)
			require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(64<<20), "%s said to hold %d", name, plain)
		}
	}
	require.Zero(t, s.Usage().Objects)
}

// memoryDir prefers a filesystem in memory: the model makes thousands of commits.
func memoryDir() string {
	if st, err := os.Stat("/dev/shm"); err == nil && st.IsDir() {
		return "/dev/shm"
	}
	return ""
}
