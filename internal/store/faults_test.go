package store

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// On a full disk a commit fails with a clear error and leaves nothing behind; removal
// and sweep still work and make room again.
func TestFullDisk(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("a small filesystem can be mounted only by root")
	}
	dir := t.TempDir()
	require.NoError(t, unix.Mount("tmpfs", dir, "tmpfs", 0, "size=160m"))
	t.Cleanup(func() { unix.Unmount(dir, unix.MNT_DETACH) })
	s := openTest(t, filepath.Join(dir, "s"))
	defer func() { s.Close() }()
	rng := rand.New(rand.NewPCG(4, 4))
	model := map[object.ID]fakeTree{}
	var full error
	var seq uint64
	for full == nil {
		tree := fakeTree{map[string][]byte{}}
		for i := range 12 {
			tree.files[fmt.Sprint(i)] = randomBytes(rng, 1<<20-object.Headroom)
		}
		seq++
		w := s.NewWriter(s.NewLease())
		func() {
			defer w.Close()
			root, err := tryBuild(w, seq, tree)
			if err == nil {
				var id object.ID
				if id, err = w.Commit(root); err == nil {
					model[id] = tree
				}
			}
			full = err
		}()
		require.Less(t, seq, uint64(40))
	}
	var fe *FullError
	require.ErrorAs(t, full, &fe)
	require.Contains(t, full.Error(), "nothing was changed")
	require.Greater(t, len(model), 3)
	for id, tree := range model {
		requireTree(t, s, id, tree)
	}
	n := 0
	for id := range model {
		if n++; n > 2 {
			break
		}
		require.NoError(t, s.RemoveRoots(id))
		delete(model, id)
	}
	res, err := s.Sweep(context.Background(), SweepOptions{})
	require.NoError(t, err)
	require.Greater(t, res.FreedBytes, int64(20<<20))
	id := commitTree(t, s, 1, 100, fakeTree{map[string][]byte{"a": []byte("room again")}})
	require.NoError(t, s.Close())
	s = openTest(t, filepath.Join(dir, "s"))
	requireTree(t, s, id, fakeTree{map[string][]byte{"a": []byte("room again")}})
	for id, tree := range model {
		requireTree(t, s, id, tree)
	}
	ver, err := s.Verify(context.Background(), VerifyOptions{})
	require.NoError(t, err)
	require.Empty(t, ver.Damage)
}

func tryBuild(w *Writer, seq uint64, tree fakeTree) (*object.Root, error) {
	d := object.NewDirBuilder(w.Put)
	for _, name := range sortedKeys(tree.files) {
		id, err := w.PutChunk(append(make([]byte, object.Headroom), tree.files[name]...))
		if err != nil {
			return nil, err
		}
		if err := d.Add(object.Entry{Name: []byte(name), Kind: object.File, Size: int64(len(tree.files[name])),
			HasContent: true, Content: id}); err != nil {
			return nil, err
		}
	}
	top, err := d.Finish()
	return &object.Root{Lineage: object.LineageID{1}, Sequence: seq, Top: object.Entry{Kind: object.Dir, HasContent: true,
		Content: top}}, err
}

// Durable steps do not grow with the number of files.
func TestSyncsAreConstant(t *testing.T) {
	steps := func(files int) int64 {
		s := openTest(t, t.TempDir())
		defer s.Close()
		tree := fakeTree{map[string][]byte{}}
		rng := rand.New(rand.NewPCG(1, uint64(files)))
		for i := range files {
			tree.files[fmt.Sprint(i)] = randomBytes(rng, 700)
		}
		commitTree(t, s, 1, 1, tree)
		return s.syncs.n.Load()
	}
	require.Equal(t, steps(10), steps(900), "small commits: the log and the root")
	require.LessOrEqual(t, steps(9000), steps(10)+4, "large ones: packs, manifest and the root")
}

// The census by edge counts equals a walk of the tree, whatever order snapshots are
// counted in.
func TestCensusEqualsWalk(t *testing.T) {
	s := openTest(t, t.TempDir())
	defer s.Close()
	rng := rand.New(rand.NewPCG(3, 3))
	var ids []object.ID
	for seq := range uint64(30) {
		tree := fakeTree{map[string][]byte{}}
		for range 120 {
			tree.files[fmt.Sprint(rng.IntN(150))] = randomBytes(rand.New(rand.NewPCG(uint64(rng.IntN(60)), 1)), 300)
		}
		ids = append(ids, commitTree(t, s, byte(seq%2), seq+1, tree))
	}
	rng.Shuffle(len(ids), func(i, j int) { ids[i], ids[j] = ids[j], ids[i] })
	for _, id := range ids {
		require.NoError(t, os.Remove(s.censusPath(id)))
	}
	for _, id := range ids {
		got, err := s.Census(id)
		require.NoError(t, err)
		root, _, err := s.Root(id)
		require.NoError(t, err)
		want := roaring.New()
		var walk func(object.ID)
		walk = func(id object.ID) {
			loc, err := s.ordinalOf(id)
			require.NoError(t, err)
			want.Add(loc.ordinal)
			require.NoError(t, s.eachChild(id, loc.kind, func(c object.ID) error { walk(c); return nil }))
		}
		walk(root.Tree())
		require.True(t, want.Equals(got))
	}
	// A missing census is never read as empty: the sweep makes it, or refuses.
	for _, id := range ids {
		require.NoError(t, os.Remove(s.censusPath(id)))
	}
	res, err := s.Sweep(context.Background(), SweepOptions{MinDead: 0.0001})
	require.NoError(t, err)
	require.Zero(t, res.Condemned)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, rootName(ids[0])), []byte("torn"), 0o600))
	require.NoError(t, os.Remove(s.censusPath(ids[0])))
	s.dropCensus(ids[0])
	other := commitTree(t, s, 7, 1, fakeTree{map[string][]byte{"later": []byte("than the damage")}})
	_, err = s.Sweep(context.Background(), SweepOptions{})
	require.NoError(t, err)
	last := commitTree(t, s, 7, 2, fakeTree{map[string][]byte{"latest": []byte("of all")}})
	require.NoError(t, s.RemoveRoots(append(ids[1:], other, last)...))
	res, err = s.Sweep(context.Background(), SweepOptions{MinDead: 0.0001})
	require.NoError(t, err)
	require.Equal(t, ids[:1], res.Blind)
	require.EqualValues(t, 2, res.Condemned, "what came after it was found out is swept, and nothing else")
}

// meddler does something as soon as a file was opened.
type meddler struct {
	Media
	opened func(name string)
}

func (m *meddler) Open(name string) (MediaReader, error) {
	r, err := m.Media.Open(name)
	m.opened(name)
	return r, err
}

// A snapshot is removed, or swept too, just as its census is taken. The answer says so, and
// what was counted of it never stands for the next snapshot of its volume, nor is held.
func TestCensusOfRemoved(t *testing.T) {
	for _, swept := range []bool{false, true} {
		var said bytes.Buffer
		s, err := Open(t.TempDir(), Options{Key: testKey,
			Logger: slog.New(slog.NewTextHandler(&said, &slog.HandlerOptions{Level: slog.LevelWarn}))})
		require.NoError(t, err)
		sweep := func() {
			_, err := s.Sweep(context.Background(), SweepOptions{MinDead: 0.0001})
			require.NoError(t, err)
		}
		tree := fakeTree{map[string][]byte{"a": []byte("one"), "b": []byte("two")}}
		id := commitTree(t, s, 1, 1, tree)
		s.dropCensus(id) // as when the service was killed before there was one
		m := &meddler{s.media, func(name string) {
			if name == rootName(id) {
				require.NoError(t, s.RemoveRoots(id))
				if swept {
					sweep()
				}
			}
		}}
		s.media = m
		_, err = s.Census(id)
		require.ErrorIs(t, err, ErrNoObject)
		require.ErrorContains(t, err, "was removed")
		require.NoFileExists(t, s.censusPath(id))
		s.media = m.Media
		sweep()
		require.Zero(t, s.Usage().Objects, "what was counted is held")
		tree.files["b"] = []byte("three")
		requireTree(t, s, commitTree(t, s, 1, 2, tree), tree)
		require.Empty(t, said.String())
		require.NoError(t, s.Close())
	}
}

func FuzzRecord(f *testing.F) {
	env := object.Encode(nil, object.KindChunk, nil, bytes.Repeat([]byte("text "), 50))
	rec := appendRecord(nil, object.KindChunk, object.Sum(env), env)
	f.Add(rec)
	small, _ := recompress(thorough(), rec)
	f.Add(small)
	f.Fuzz(func(t *testing.T, b []byte) {
		h, _ := parseHeader(b)
		if out, err := openRecord(nil, b, h.id); err == nil {
			require.Equal(t, h.id, object.Sum(out))
		}
	})
}

func FuzzBundle(f *testing.F) {
	var ids []object.ID
	var envelopes [][]byte
	for i := range 3 {
		envelopes = append(envelopes, object.Encode(nil, object.KindChunk, nil, bytes.Repeat([]byte("text "), 50+i)))
		ids = append(ids, object.Sum(envelopes[i]))
	}
	raw, _ := makeBundle(ids, envelopes)
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		b, err := verifyBundle(raw)
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			return
		}
		for _, m := range b.members {
			record, err := b.record(m.id, nil)
			require.NoError(t, err)
			require.NoError(t, verifyRecord(record, m.id))
		}
	})
}

func FuzzReadLog(f *testing.F) {
	dir := f.TempDir()
	s := openTest(f, dir)
	commitTree(f, s, 1, 1, fakeTree{map[string][]byte{"a": []byte("x")}})
	raw, err := os.ReadFile(s.logf.f.Name())
	require.NoError(f, err)
	s.Close()
	f.Add(raw)
	f.Fuzz(func(t *testing.T, b []byte) {
		bad, err := scanLog(b, func(_ uint32, entries []indexEntry) error {
			for i := range entries {
				require.LessOrEqual(t, int64(entries[i].offset)+entries[i].size(), int64(len(b)))
			}
			return nil
		})
		require.NoError(t, err)
		for _, part := range bad {
			require.Less(t, part.from, part.to)
			salvage(b[part.from:part.to], func(record []byte) { require.NotEmpty(t, record) })
		}
	})
}

// Invariant 2: the root record alone decides. Flushed objects without one are no
// snapshot and are swept; a record taken away ends the snapshot although everything
// else is there.
func TestRootRecordDecides(t *testing.T) {
	dir := t.TempDir()
	s := openTest(t, dir)
	w := s.NewWriter(s.NewLease())
	buildTree(t, w, 1, 1, fakeTree{map[string][]byte{"a": randomBytes(rand.New(rand.NewPCG(1, 1)), 500_000)}})
	require.NoError(t, w.Flush())
	require.NoError(t, s.Close()) // as after a crash before the root record
	s = openTest(t, dir)
	require.Empty(t, s.Roots())
	res, err := s.Sweep(context.Background(), SweepOptions{})
	require.NoError(t, err)
	require.EqualValues(t, 2, res.Condemned)
	tree := fakeTree{map[string][]byte{"b": []byte("kept")}}
	id := commitTree(t, s, 1, 2, tree)
	raw, err := s.RootRecord(id)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	path := filepath.Join(dir, rootName(id))
	require.NoError(t, os.Remove(path))
	s = openTest(t, dir)
	require.False(t, s.HasRoot(id))
	require.NoError(t, s.Close())
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	s = openTest(t, dir)
	defer s.Close()
	requireTree(t, s, id, tree)
}

// A thorough place stores at once what another one stores after a sweep.
func TestThorough(t *testing.T) {
	var stored [2]int64
	for i := range stored {
		s, err := Open(t.TempDir(), Options{Key: testKey, Thorough: i == 1})
		require.NoError(t, err)
		w := s.NewWriter(s.NewLease())
		rng, words := rand.New(rand.NewPCG(1, 2)), strings.Fields("Quercus faginea suber leaf bark verso recto sheet "+
			"collected near the river by hand in spring")
		var text []byte
		for range 20_000 {
			text = append(append(text, words[rng.IntN(len(words))]...), ' ')
		}
		for k := range 3 {
			_, err := w.PutChunk(append(append(make([]byte, object.Headroom), text...), byte(k)))
			require.NoError(t, err)
		}
		require.NoError(t, w.Flush())
		_, stored[i], _ = w.Stats()
		require.NoError(t, s.Close())
	}
	require.Less(t, stored[1], stored[0]*3/4)
}
