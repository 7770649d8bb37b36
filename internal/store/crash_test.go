package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// image is what lay on the medium at one instant, with what was promised by then.
type image struct {
	at    string // the step it was taken at
	dir   string
	must  map[object.ID]fakeTree // acknowledged and not being removed
	never map[object.ID]bool     // removal acknowledged
}

// imaging takes an image before and after each step of the media.
type imaging struct {
	Media
	mu     sync.Mutex // packs are finished side by side; an image is of one instant
	t      *testing.T
	dir    string
	images []image
	must   map[object.ID]fakeTree
	never  map[object.ID]bool
}

func (m *imaging) take(at string) {
	dir := filepath.Join(filepath.Dir(m.dir), fmt.Sprint("image", len(m.images)))
	require.NoError(m.t, exec.Command("cp", "-a", m.dir, dir).Run())
	img := image{at: at, dir: dir, must: map[object.ID]fakeTree{}, never: map[object.ID]bool{}}
	for id, tree := range m.must {
		img.must[id] = tree
	}
	for id := range m.never {
		img.never[id] = true
	}
	m.images = append(m.images, img)
}

type imagingWriter struct {
	MediaWriter
	m    *imaging
	name string
}

func (w imagingWriter) Commit() error {
	w.m.mu.Lock()
	defer w.m.mu.Unlock()
	w.m.take("before " + w.name)
	err := w.MediaWriter.Commit()
	w.m.take("after " + w.name)
	return err
}

func (m *imaging) Create(name string) (MediaWriter, error) {
	w, err := m.Media.Create(name)
	return imagingWriter{w, m, name}, err
}

func (m *imaging) Remove(names ...string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.take("before removing " + strings.Join(names, " "))
	err := m.Media.Remove(names...)
	m.take("after removing " + strings.Join(names, " "))
	return err
}

// A snapshot exists if and only if its root record does, whole, at every instant: the
// store is opened anew from what lay on the medium before and after each step of
// commits, removals, seals and sweeps.
func TestEveryInstant(t *testing.T) {
	base, err := os.MkdirTemp(memoryDir(), "instants")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	dir := filepath.Join(base, "store")
	s := openTest(t, dir)
	defer func() { s.Close() }()
	m := &imaging{Media: s.media, t: t, dir: dir, must: map[object.ID]fakeTree{}, never: map[object.ID]bool{}}
	s.media = m
	rng := rand.New(rand.NewPCG(7, 7))
	shared := randomBytes(rng, 5000)
	var ids []object.ID
	commit := func(n int, large bool) {
		tree := fakeTree{map[string][]byte{"shared": shared, "own": randomBytes(rng, 300+n)}}
		for i := range 3 {
			tree.files[fmt.Sprint("s", i)] = shared[:1000*(i+1)]
		}
		if large { // goes to packs at once
			for i := range 40 {
				tree.files[fmt.Sprint("large", i)] = randomBytes(rng, 500_000)
			}
		}
		id := commitTree(t, s, 1, uint64(n), tree)
		m.must[id] = tree
		ids = append(ids, id)
		require.NoError(t, s.PutMark(&object.Mark{Kind: object.MarkNote, Root: id, Text: fmt.Sprint("note ", n)}))
	}
	remove := func(id object.ID) {
		delete(m.must, id) // from here on either outcome is right
		require.NoError(t, s.RemoveRoots(id))
		m.never[id] = true
	}
	commit(1, false)
	commit(2, true)
	commit(3, false)
	remove(ids[1])
	_, err = s.Sweep(context.Background(), SweepOptions{Settle: true})
	require.NoError(t, err)
	commit(4, true)
	remove(ids[0])
	_, err = s.Sweep(context.Background(), SweepOptions{})
	require.NoError(t, err)
	commit(5, false)
	require.Greater(t, len(m.images), 30)

	for _, img := range m.images {
		s := openTest(t, img.dir)
		listed := s.Roots()
		for id, tree := range img.must {
			require.Contains(t, listed, id, img.at)
			requireTree(t, s, id, tree)
		}
		for _, id := range listed {
			require.False(t, img.never[id], "%s: a removed snapshot came back", img.at)
			root, _, err := s.Root(id)
			require.NoError(t, err, img.at)
			require.NoError(t, wholeBelow(s, root.Tree()), "%s: a listed snapshot is not whole", img.at)
		}
		// And it goes on from there without any repair.
		tree := fakeTree{map[string][]byte{"shared": shared, "next": randomBytes(rng, 50)}}
		id := commitTree(t, s, 1, 100, tree)
		_, err := s.Sweep(context.Background(), SweepOptions{})
		require.NoError(t, err, img.at)
		requireTree(t, s, id, tree)
		res, err := s.Verify(context.Background(), VerifyOptions{})
		require.NoError(t, err)
		require.Empty(t, res.Damage, img.at)
		require.False(t, s.Rebuilt(), "%s: opening took a rebuild", img.at)
		left := slices.Clone(s.Roots())
		require.NoError(t, s.RemoveRoots(left...))
		_, err = s.Sweep(context.Background(), SweepOptions{Settle: true})
		require.NoError(t, err)
		require.Zero(t, s.Usage().Objects, "%s: something was left that no sweep finds", img.at)
		require.NoError(t, s.Close())
		require.NoError(t, os.RemoveAll(img.dir))
	}
}

func wholeBelow(s *Store, id object.ID) error {
	env, err := s.Get(id)
	if err != nil {
		return err
	}
	for i := range env.NumChildren() {
		if err := wholeBelow(s, env.Child(i)); err != nil {
			return err
		}
	}
	return nil
}
