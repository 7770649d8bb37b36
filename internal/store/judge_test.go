package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// bigTree is a tree of n files whose bytes follow from a seed.
func bigTree(seed uint64, n, size int) fakeTree {
	rng := rand.New(rand.NewPCG(seed, 1))
	tree := fakeTree{map[string][]byte{}}
	for i := range n {
		tree.files[fmt.Sprintf("f%04d", i)] = randomBytes(rng, size)
	}
	return tree
}

// readTree is requireTree that returns what cannot be read; what can must be right.
func readTree(t require.TestingT, s *Store, id object.ID, want fakeTree) error {
	root, _, err := s.Root(id)
	if err != nil {
		return err
	}
	return object.WalkDir(s.Get, root.Tree(), nil, func(e object.Entry) error {
		var data []byte
		if e.HasContent {
			if err := object.WalkContent(s.Get, e.Content, 0, func(sp object.Span) error {
				data = append(data, sp.Data...)
				return nil
			}); err != nil {
				return err
			}
		}
		require.Equal(t, string(want.files[string(e.Name)]), string(data), "%s has other content", e.Name)
		return nil
	})
}

// judge opens a store that something happened to. Every snapshot of the model must come
// back as it was, or be named by a verification; nothing may come back otherwise. Sweeping
// must not be stopped and must take nothing from what is whole; and whatever is damaged
// must be healed from a store that has it.
func judge(t *testing.T, dir string, model map[object.ID]fakeTree, peer *Store, what string) {
	s, err := Open(dir, Options{Key: testKey})
	require.NoError(t, err, what)
	defer func() { s.Close() }()
	ctx := context.Background()
	read := func() (bad map[object.ID]error) {
		bad = map[object.ID]error{}
		for id, tree := range model {
			require.True(t, s.HasRoot(id), "%s: snapshot %s is not listed", what, id)
			if err := readTree(t, s, id, tree); err != nil {
				bad[id] = err
			}
		}
		return bad
	}
	bad := read()
	res, err := s.Verify(ctx, VerifyOptions{})
	require.NoError(t, err, what)
	named := map[object.ID]bool{}
	for _, d := range res.Damage {
		for _, sn := range d.Snapshots {
			named[sn.ID] = true
		}
	}
	for _, r := range res.Records {
		named[r.Snapshot] = true
	}
	for id, err := range bad {
		require.True(t, named[id], "%s: snapshot %s cannot be read (%v), and verify does not say so", what, id, err)
	}
	require.Less(t, len(bad), len(model), "%s: all is gone", what)
	require.NoError(t, s.Close())
	s = openTest(t, dir)
	again := commitTree(t, s, 77, 1, bigTree(77, 5, 3000))
	for range 2 {
		_, err = s.Sweep(ctx, SweepOptions{MinDead: 0.0001})
		require.NoError(t, err, what)
	}
	for id, err := range read() {
		require.Contains(t, bad, id, "%s: whole before the sweep, not after it: %v", what, err)
	}
	var todo []object.ID
	for _, d := range res.Damage {
		if !d.Object.IsZero() {
			todo = append(todo, d.Object)
		}
	}
	for _, r := range res.Records {
		if r.Root {
			record, err := peer.RootRecord(r.Snapshot)
			require.NoError(t, err)
			_, err = s.HealRoot(record)
			require.NoError(t, err, what)
		}
	}
	fetch := recordsOf(peer)
	_, err = s.Heal(ctx, todo, fetch)
	require.NoError(t, err, what)
	// A record that was unreadable hid what lies below it.
	res, err = s.Verify(ctx, VerifyOptions{})
	require.NoError(t, err, what)
	todo = nil
	for _, d := range res.Damage {
		if !d.Object.IsZero() {
			todo = append(todo, d.Object)
		}
	}
	_, err = s.Heal(ctx, todo, fetch)
	require.NoError(t, err, what)
	require.Empty(t, read(), "%s: healed from a store that has all", what)
	_, err = s.Sweep(ctx, SweepOptions{MinDead: 0.0001, Settle: true})
	require.NoError(t, err, what)
	require.NoError(t, s.Close())
	s = openTest(t, dir)
	require.Empty(t, read(), "%s: after healing, a sweep and a restart", what)
	requireTree(t, s, again, bigTree(77, 5, 3000))
}

// recordsOf fetches records as from another site.
func recordsOf(peer *Store) func(context.Context, []object.ID) ([][]byte, error) {
	return func(_ context.Context, ids []object.ID) (out [][]byte, err error) {
		for _, id := range ids {
			if raw, err := peer.Record(id, nil); err == nil {
				out = append(out, append([]byte(nil), raw...))
			}
		}
		return out, nil
	}
}

func copyDir(t *testing.T, from, to string) {
	require.NoError(t, os.RemoveAll(to))
	require.NoError(t, exec.Command("cp", "-a", from, to).Run())
}

func filesOf(t *testing.T, dir string) (names []string) {
	require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			rel, _ := filepath.Rel(dir, p)
			names = append(names, rel)
		}
		return err
	}))
	return names
}

// lived is a store with a history that leaves something in every kind of file, and copies
// of its directory from the way.
type lived struct {
	dir    string
	model  map[object.ID]fakeTree
	images []string
	peer   *Store // has all of it, whole
}

func live(t *testing.T) *lived {
	base, err := os.MkdirTemp(memoryDir(), "lived")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	l := &lived{dir: filepath.Join(base, "store"), model: map[object.ID]fakeTree{}}
	l.peer = openTest(t, filepath.Join(base, "peer"))
	t.Cleanup(func() { l.peer.Close() })
	s := openTest(t, l.dir)
	commit := func(s *Store, lin byte, seq uint64, tree fakeTree) object.ID { return commitTree(t, s, lin, seq, tree) }
	both := func(lin byte, seq uint64, tree fakeTree) object.ID {
		id := commit(s, lin, seq, tree)
		require.Equal(t, id, commit(l.peer, lin, seq, tree))
		l.model[id] = tree
		require.NoError(t, s.PutMark(&object.Mark{Kind: object.MarkKeep, Root: id, At: int64(seq), Text: "evidence"}))
		return id
	}
	image := func() {
		to := filepath.Join(base, fmt.Sprint("image", len(l.images)))
		copyDir(t, l.dir, to)
		l.images = append(l.images, to)
	}
	both(1, 1, bigTree(1, 60, 30_000)) // in packs
	image()
	gone := both(1, 2, bigTree(2, 60, 30_000))
	both(2, 1, bigTree(3, 5, 400)) // in the log
	image()
	both(7, 1, bigTree(7, 90, 900)) // in bundles
	require.NoError(t, s.RemoveRoots(gone))
	delete(l.model, gone)
	_, err = s.Sweep(context.Background(), SweepOptions{MinDead: 0.0001, Settle: true})
	require.NoError(t, err)
	image()
	both(2, 2, bigTree(4, 5, 400))
	for i := range 4 {
		both(3, uint64(i+1), bigTree(uint64(10+i), 3, 900))
	}
	image()
	both(1, 3, bigTree(1, 61, 30_000))
	gone = both(6, 1, bigTree(6, 2, 300))
	require.NoError(t, s.RemoveRoots(gone))
	delete(l.model, gone)
	both(4, 1, bigTree(9, 4, 500))
	lease, err := s.DurableLease("carry")
	require.NoError(t, err)
	w := s.NewWriter(lease)
	buildTree(t, w, 5, 1, bigTree(20, 3, 300))
	require.NoError(t, w.Flush())
	w.Close()
	_, _, err = s.condemn(context.Background())
	require.NoError(t, err)
	require.NoError(t, s.Close())
	return l
}

// Any flipped bit of any file of a store concerns few snapshots, is told, and is healed.
func TestFlipsInEveryFile(t *testing.T) {
	l := live(t)
	rng := rand.New(rand.NewPCG(3, uint64(long)))
	work := l.dir + "-work"
	kinds := map[string]int{}
	for _, name := range filesOf(t, l.dir) {
		good, err := os.ReadFile(filepath.Join(l.dir, name))
		require.NoError(t, err)
		kind, _, _ := cutDir(name)
		if len(good) == 0 || name == "reserve" || kinds[kind] >= flipsPerKind*long {
			continue
		}
		for range flipsPerFile(kind) * long {
			kinds[kind]++
			at := rng.IntN(len(good))
			bad := append([]byte(nil), good...)
			bad[at] ^= 1 << rng.IntN(8)
			copyDir(t, l.dir, work)
			require.NoError(t, os.WriteFile(filepath.Join(work, name), bad, 0o600))
			judge(t, work, l.model, l.peer, fmt.Sprintf("%s, byte %d", name, at))
		}
	}
	for _, kind := range []string{"packs", "log", "roots", "marks", "index", "census", "leases", "manifest", "condemned"} {
		require.NotZero(t, kinds[kind], kind)
	}
}

const flipsPerKind = 40

// long is how many times longer than in a plain test run the long ones take.
var long = func() int {
	n, _ := strconv.Atoi(os.Getenv("CANDID_LONG"))
	return max(1, n)
}()

func cutDir(name string) (kind, rest string, ok bool) {
	for i := range name {
		if name[i] == '/' {
			return name[:i], name[i+1:], true
		}
	}
	return name, "", false
}

func flipsPerFile(kind string) int {
	switch kind {
	case "log":
		return 40
	case "packs", "manifest", "index":
		return 12
	}
	return 3
}

// An older version of any file is put back: a restored backup, or a rename that did not
// outlive a power cut.
func TestOlderFiles(t *testing.T) {
	l := live(t)
	work := l.dir + "-work"
	for i, image := range l.images {
		for _, name := range filesOf(t, image) {
			old, err := os.ReadFile(filepath.Join(image, name))
			require.NoError(t, err)
			now, err := os.ReadFile(filepath.Join(l.dir, name))
			if name == "reserve" || (err == nil && string(now) == string(old)) {
				continue
			}
			if kind, _, _ := cutDir(name); kind == "roots" && err != nil {
				continue // a snapshot that was removed: a root record decides
			}
			copyDir(t, l.dir, work)
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(work, name)), 0o700))
			require.NoError(t, os.WriteFile(filepath.Join(work, name), old, 0o600))
			judge(t, work, l.model, l.peer, fmt.Sprintf("%s of image %d", name, i))
		}
	}
	for _, name := range filesOf(t, l.dir) { // and any file is lost
		if kind, _, _ := cutDir(name); kind == "roots" || kind == "marks" || name == "reserve" {
			continue
		}
		copyDir(t, l.dir, work)
		require.NoError(t, os.Remove(filepath.Join(work, name)))
		judge(t, work, l.model, l.peer, name+" is lost")
	}
}

// A durable lease holds after a restart what it met in the store too, not only what it
// brought.
func TestDurableLeaseHoldsWhatItMet(t *testing.T) {
	dir := t.TempDir()
	s := openTest(t, dir)
	shared := bigTree(1, 5, 900)
	own := commitTree(t, s, 1, 1, shared)
	lease, err := s.DurableLease("crate")
	require.NoError(t, err)
	w := s.NewWriter(lease)
	buildTree(t, w, 2, 1, shared) // all of it is here
	require.NoError(t, w.Flush())
	w.Close()
	require.NoError(t, s.Close())
	s = openTest(t, dir)
	defer func() { s.Close() }()
	require.NoError(t, s.RemoveRoots(own))
	_, err = s.Sweep(context.Background(), SweepOptions{MinDead: 0.0001})
	require.NoError(t, err)
	lease, err = s.DurableLease("crate")
	require.NoError(t, err)
	w = s.NewWriter(lease)
	defer w.Close()
	more := bigTree(1, 6, 900)
	id, err := w.Commit(buildTree(t, w, 2, 1, more))
	require.NoError(t, err)
	_, stored, objects := w.Stats()
	require.EqualValues(t, 2, objects, "only the further file and the directory are new: %d bytes", stored)
	requireTree(t, s, id, more)
}
