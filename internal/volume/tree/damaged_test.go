package tree

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
)

// hurtSource is a store in which some objects are damaged.
type hurtSource struct {
	Source
	bad  map[object.ID]bool
	seen *sync.Map // what was asked for; nil: not noted
}

func (h *hurtSource) Get(id object.ID) (object.Envelope, error) {
	if h.seen != nil {
		h.seen.Store(id, true)
	}
	if h.bad[id] {
		return object.Envelope{}, fmt.Errorf("%w: object %s", store.ErrDamaged, id)
	}
	return h.Source.Get(id)
}

// readable tells, apart from the restore, whether a path and all its content can be read.
func (h *hurtSource) readable(root *object.Root, rel string) bool {
	e, err := Lookup(h.Get, root, rel)
	if err == nil && e.HasContent && e.Kind == object.File {
		err = object.WalkContent(h.Get, e.Content, 0, func(sp object.Span) error {
			if sp.Data == nil && !sp.Zero {
				_, err := h.Get(sp.Chunk)
				return err
			}
			return nil
		})
	}
	if err == nil && e.Kind == object.Dir {
		err = object.WalkDir(h.Get, e.Content, nil, func(object.Entry) error { return nil })
	}
	return err == nil
}

// Whatever is damaged in the store: all else comes back, what cannot is named and is left as it
// stands at the target, nothing is half, and nothing is removed from a directory of which not
// all is known.
func TestAllButTheDamagedComesBack(t *testing.T) {
	b := newBench(t)
	base := memoryDir(t)
	src := base + "/src"
	rng := rand.New(rand.NewPCG(uint64(os.Getpid()), 5))
	for i := range 300 {
		write(t, fmt.Sprintf("%s/d%d/e%d/f%d", src, i%5, i%3, i), noise(uint64(i), rng.IntN(9000)))
	}
	for i := range 1200 {
		write(t, fmt.Sprintf("%s/many/a file with a rather long name, so that this directory has pages %d", src, i),
			[]byte(fmt.Sprint(i)))
	}
	write(t, src+"/d1/large", noise(7, 3<<20))
	require.NoError(t, os.Link(src+"/d1/large", src+"/d2/large too"))
	write(t, src+"/d0/was a file before/in it", []byte("x"))
	root, _, _ := b.snapshot(src)
	all := &hurtSource{Source: b.st, seen: &sync.Map{}}
	b.restore(root, base+"/whole", func(o *RestoreOptions) { o.Source = all })
	var ids []object.ID
	all.seen.Range(func(id, _ any) bool { ids = append(ids, id.(object.ID)); return true })
	slices.SortFunc(ids, func(a, b object.ID) int { return strings.Compare(a.String(), b.String()) })
	for round := range 8 {
		h := &hurtSource{Source: b.st, bad: map[object.ID]bool{}}
		for range 1 + rng.IntN(6) {
			h.bad[ids[rng.IntN(len(ids))]] = true
		}
		live := fmt.Sprintf("%s/t%d", base, round)
		existing := round%2 == 1
		opt := RestoreOptions{Source: h, Root: root, Target: live, Beneath: base, OnConflict: Replace, Chunker: b.ck}
		if existing {
			for i := 0; i < 300; i += 2 {
				write(t, fmt.Sprintf("%s/d%d/e%d/f%d", live, i%5, i%3, i), []byte("old"))
			}
			write(t, live+"/d0/was a file before", []byte("old"))
			for _, dir := range []string{"", "/d1", "/d3/e2", "/many"} {
				write(t, live+dir+"/extra", []byte("not in the snapshot"))
			}
			opt.Safety, _, _ = b.snapshot(live)
			opt.Exact, opt.Live = true, true
		}
		res, err := Restore(context.Background(), opt)
		if h.bad[root.Top.Content] && !existing {
			require.ErrorIs(t, err, store.ErrDamaged)
			require.NoDirExists(t, live)
			continue
		}
		require.NoError(t, err)
		told := map[string]bool{}
		for _, m := range res.Remarks {
			told[string(m.Path)] = true
		}
		require.NoError(t, filepath.WalkDir(src, func(p string, d fs.DirEntry, err error) error {
			rel := strings.TrimPrefix(strings.TrimPrefix(p, src), "/")
			readable := h.readable(root, rel)
			named := false
			for at := rel; ; at = path.Dir(at) {
				if at == "." || at == "/" {
					at = ""
				}
				named = named || told[at]
				if at == "" {
					break
				}
			}
			require.True(t, readable || named, "%s cannot be restored and is not told", rel)
			if !d.Type().IsRegular() {
				return err
			}
			got, gerr := os.ReadFile(filepath.Join(live, rel))
			want, _ := os.ReadFile(p)
			switch {
			case readable && !(rel == "d0/was a file before/in it" && gerr != nil && told["d0/was a file before"]):
				require.NoError(t, gerr)
				require.True(t, string(want) == string(got), rel)
			case gerr == nil:
				require.Equal(t, "old", string(got), rel)
			}
			return err
		}))
		for _, dir := range []string{"", "d1", "d3/e2", "many"} {
			if existing {
				_, err := os.Lstat(path.Join(live, dir, "extra"))
				require.Equal(t, !h.readable(root, dir), err == nil, "in %q", dir)
			}
		}
		parts, err := exec.Command("find", base, "-name", tempPrefix+"*").Output()
		require.NoError(t, err)
		require.Empty(t, string(parts))
		_, err = Restore(context.Background(), RestoreOptions{Source: h, Root: root, Target: base + "/planned", Beneath: base,
			OnConflict: Replace, Chunker: b.ck, Plan: true})
		require.NoError(t, err, "a plan is made all the same")
		require.NoError(t, os.RemoveAll(live))
	}
}
