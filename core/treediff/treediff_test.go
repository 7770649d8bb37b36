package treediff

import (
	"fmt"
	"maps"
	"path"
	"strings"
	"testing"

	"candidharbor/core/object"
	"candidharbor/core/treetest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func say(r *Result) (out []string) {
	for _, c := range r.Changes {
		line := string(c.What) + " " + c.Path
		if c.From != "" {
			line += " from " + c.From
		}
		out = append(out, line)
	}
	return out
}

func TestCompare(t *testing.T) {
	for name, c := range map[string]struct {
		a, b treetest.Files
		want []string
	}{
		"nothing": {treetest.Files{"a": "1"}, treetest.Files{"a": "1"}, nil},
		"added, removed and changed": {treetest.Files{"a": "1", "b": "2"}, treetest.Files{"a": "9", "c": "3"},
			[]string{"changed a", "removed b", "added c"}},
		"only rights": {treetest.Files{"a": "1"}, treetest.Files{"a": "x:1"}, []string{"adjusted a"}},
		"a file renamed": {treetest.Files{"d/a": "1"}, treetest.Files{"e/b": "1"},
			[]string{"removed d", "added e", "renamed e/b from d/a"}},
		"a directory renamed": {treetest.Files{"d/a": "1", "d/e/b": "2"}, treetest.Files{"new/a": "1",
			"new/e/b": "2"}, []string{"renamed new from d"}},
		"one within another renamed": {treetest.Files{"d/e/a": "1", "d/x": "0"}, treetest.Files{"f/g/a": "1", "f/y": "7"},
			[]string{"removed d", "removed d/x", "added f", "renamed f/g from d/e", "added f/y"}},
		"the name decides among twins": {treetest.Files{"a/k": "1", "b/l": "1", "b/z": "9"}, treetest.Files{"c/l": "1",
			"d/m": "1"}, []string{"removed a", "removed b", "removed b/z", "added c", "renamed c/l from b/l", "added d",
			"renamed d/m from a/k"}},
		"empty files are not renamed": {treetest.Files{"a": ""}, treetest.Files{"b": ""}, []string{"removed a", "added b"}},
		"a file becomes a directory": {treetest.Files{"a": "1"}, treetest.Files{"a/b": "1"},
			[]string{"added a", "renamed a/b from a"}},
	} {
		h := treetest.New()
		r, err := Compare(h.Get, h.Store(t, c.a), h.Store(t, c.b), 0)
		require.NoError(t, err)
		require.Equal(t, c.want, say(r), name)
	}
}

// Whatever was done to a tree, the differences applied to what it was give what it is.
func TestDifferenceLeadsThere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := treetest.New()
		names := rapid.SampledFrom([]string{"a", "b", "c", "d/a", "d/b", "d/e/a", "d/e/b", "f/a", "f/g/h/a", "f/g/h/b", "z"})
		contents := rapid.SampledFrom([]string{"", "1", "2", "x:1", "3"})
		tree := rapid.MapOf(names, contents)
		fa, fb := treetest.Files(tree.Draw(t, "a")), treetest.Files(tree.Draw(t, "b"))
		a, b := h.Store(t, fa), h.Store(t, fb)
		got := maps.Clone(fa)
		require.NoError(t, Walk(h.Get, a, b, func(p string, old, new *object.Entry) error {
			require.False(t, old != nil && new != nil && old.Equal(new))
			if new == nil {
				require.True(t, old.Kind == object.Dir || got[p] == fa[p])
				delete(got, p)
			} else if new.Kind == object.File {
				got[p] = fb[p]
			} else if old != nil && old.Kind == object.File {
				delete(got, p)
			}
			return nil
		}))
		require.Equal(t, fb, got)

		r, err := Compare(h.Get, a, b, 0)
		require.NoError(t, err)
		there := maps.Clone(fa)
		moved := treetest.Files{}
		for _, c := range r.Changes {
			switch c.What {
			case Removed:
				delete(there, c.Path)
			case Renamed:
				for p, v := range fa {
					if rel, ok := strings.CutPrefix(p+"/", c.From+"/"); ok {
						delete(there, p)
						moved[strings.TrimSuffix(c.Path+"/"+rel, "/")] = v
					}
				}
			}
		}
		for _, c := range r.Changes {
			if c.What != Removed && c.What != Renamed && c.New.Kind == object.File {
				there[c.Path] = fb[c.Path]
			}
		}
		for p, v := range moved {
			if strings.TrimPrefix(v, "x:") == strings.TrimPrefix(fb[p], "x:") {
				v = fb[p] // rights may have changed along with the name
			}
			there[p] = v
		}
		require.Equal(t, fb, there, "%v → %v: %v", fa, fb, say(r))
	})
}

// One name changed among many costs a few reads, however many there are.
func TestCostGrowsWithTheDifference(t *testing.T) {
	reads := func(n int) int {
		h := treetest.New()
		f := treetest.Files{}
		for i := range n {
			f[fmt.Sprintf("%03d/%06d", i%10, i)] = "1"
		}
		a := h.Store(t, f)
		f[path.Join("005", fmt.Sprintf("%06d", n/2/10*10+5))] = "2"
		delete(f, "003/000003")
		b := h.Store(t, f)
		h.Read = 0
		r, err := Compare(h.Get, a, b, 0)
		require.NoError(t, err)
		require.Equal(t, map[What]int64{Changed: 1, Removed: 1}, r.Counts)
		return h.Read
	}
	require.Less(t, reads(100_000), 3*reads(1_000))
}
