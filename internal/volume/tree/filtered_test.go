package tree

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"testing"

	"candidharbor/core/object"
	"candidharbor/core/rights"
	"candidharbor/core/treetest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// drawn is a tree with rights, as a person draws it up.
type drawn struct {
	entry object.Entry
	below map[string]*drawn // nil: no directory
}

func drawRights(t *rapid.T, depth int) *drawn {
	d := &drawn{entry: object.Entry{Kind: object.File, Mode: uint32(rapid.IntRange(0, 0o777).Draw(t, "mode")),
		UID: uint32(rapid.IntRange(1, 2).Draw(t, "uid")), GID: uint32(rapid.IntRange(1, 2).Draw(t, "gid"))}}
	switch kind := rapid.IntRange(0, 9).Draw(t, "kind"); {
	case depth == 0 || kind > 5 && depth < 4:
		d.entry.Kind, d.below = object.Dir, map[string]*drawn{}
		for i := range rapid.IntRange(0, 5).Draw(t, "names") {
			if depth < 4 {
				d.below[fmt.Sprintf("n%d", i)] = drawRights(t, depth+1)
			}
		}
	case kind == 0:
		d.entry.Kind, d.entry.Target = object.Symlink, []byte("somewhere")
	case kind == 1:
		d.entry.Kind = object.FIFO
	}
	return d
}

func (d *drawn) store(t require.TestingT, h *treetest.Heap) object.Entry {
	e := d.entry
	if d.below == nil {
		return e
	}
	b := object.NewDirBuilder(h.Put)
	var names []string
	for n := range d.below {
		names = append(names, n)
	}
	slices.Sort(names)
	for _, n := range names {
		one := d.below[n].store(t, h)
		one.Name = []byte(n)
		require.NoError(t, b.Add(one))
	}
	id, err := b.Finish()
	require.NoError(t, err)
	e.HasContent, e.Content = true, id
	return e
}

// expect lists what a person sees, by a reckoning of its own: within says that a granted
// folder which may be read reaches down to here.
func (d *drawn) expect(p *rights.Person, granted []string, at string, within bool, out *[]string) {
	sees := d.entry.Kind == object.Symlink || d.entry.Kind == object.File && p.May(&d.entry, rights.Read) ||
		d.entry.Kind == object.Dir && p.May(&d.entry, rights.Read|rights.Search)
	within = (within || slices.Contains(granted, at)) && sees
	onTheWay := d.below != nil && slices.ContainsFunc(granted, func(g string) bool {
		return at == "" || strings.HasPrefix(g, at+"/")
	})
	if !within && !onTheWay && at != "" {
		return
	}
	if at != "" {
		*out = append(*out, at)
	}
	for n, c := range d.below {
		c.expect(p, granted, path.Join(at, n), within, out)
	}
}

func listAll(t require.TestingT, get object.Getter, id object.ID, at string, out *[]string) {
	require.NoError(t, object.WalkDir(get, id, nil, func(e object.Entry) error {
		rel := path.Join(at, string(e.Name))
		*out = append(*out, rel)
		if e.Kind == object.Dir {
			listAll(t, get, e.Content, rel, out)
		}
		return nil
	}))
}

// A filtered tree shows exactly what was granted and may be read, whatever the tree: listed, and looked
// up by name; and the same twice.
func TestVeilShowsExactly(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := treetest.New()
		tree := drawRights(t, 0)
		root := &object.Root{Top: tree.store(t, h)}
		var all []string
		listAll(t, h.Get, root.Top.Content, "", &all)
		granted := []string{rapid.SampledFrom(append([]string{""}, all...)).Draw(t, "granted")}
		if rapid.Bool().Draw(t, "two") {
			granted = append(granted, rapid.SampledFrom(append([]string{"not/there"}, all...)).Draw(t, "also"))
		}
		who := rights.Person{UID: 1, GIDs: []uint32{uint32(rapid.IntRange(1, 3).Draw(t, "group"))}}
		v := NewFilteredTree(h.Get, who, granted)
		var want, got, again []string
		tree.expect(&who, granted, "", false, &want)
		seen := v.Root(root)
		listAll(t, v.Get, seen.Top.Content, "", &got)
		listAll(t, v.Get, v.Root(root).Top.Content, "", &again)
		slices.Sort(want)
		slices.Sort(got)
		require.Equal(t, want, got, "granted %q", granted)
		require.ElementsMatch(t, got, again)
		for _, p := range all {
			_, err := Lookup(v.Get, seen, p)
			require.Equal(t, slices.Contains(got, p), err == nil, p)
		}
	})
}

// A filtered directory of many pages has what may be seen of all of them, and does not tell how
// much there is besides.
func TestVeilOverManyPages(t *testing.T) {
	h := treetest.New()
	b := object.NewDirBuilder(h.Put)
	for i := range 20_000 {
		require.NoError(t, b.Add(object.Entry{Name: fmt.Appendf(nil, "f%06d", i), Kind: object.File, Mode: 0o600,
			UID: uint32(i % 10)}))
	}
	id, err := b.Finish()
	require.NoError(t, err)
	root := &object.Root{Top: object.Entry{Kind: object.Dir, Mode: 0o755, HasContent: true, Content: id}, HasLinks: true}
	v := NewFilteredTree(h.Get, rights.Person{UID: 3, GIDs: []uint32{3}}, []string{""})
	seen := v.Root(root)
	require.False(t, seen.HasLinks)
	var got []string
	listAll(t, v.Get, seen.Top.Content, "", &got)
	require.Len(t, got, 2000)
	n, err := object.CountDir(v.Get, seen.Top.Content)
	require.NoError(t, err)
	require.Zero(t, n)
	_, err = Lookup(v.Get, seen, "f000013")
	require.NoError(t, err)
	_, err = Lookup(v.Get, seen, "f000014")
	require.ErrorIs(t, err, ErrNoPath)
}
