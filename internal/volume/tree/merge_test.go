package tree

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"
)

// node is one entry of a plain description of a tree.
type node struct {
	kind string // dir, file, link
	text string
	age  int // minutes, of files
}

type plainTree map[string]node

var epoch = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func drawTree(t *rapid.T, label string) plainTree {
	tree := plainTree{}
	names := []string{"a", "b", "c.txt"}
	var fill func(dir string, depth int)
	fill = func(dir string, depth int) {
		for _, n := range names {
			p := path.Join(dir, n)
			switch rapid.SampledFrom([]string{"", "", "file", "file", "dir", "link"}).Draw(t, label+" "+p) {
			case "file":
				tree[p] = node{"file", rapid.SampledFrom([]string{"", "one", "two", "three\n"}).Draw(t, "text"),
					rapid.IntRange(0, 3).Draw(t, "age")}
			case "link":
				tree[p] = node{kind: "link", text: rapid.SampledFrom([]string{"a", "../b"}).Draw(t, "to")}
			case "dir":
				tree[p] = node{kind: "dir"}
				if depth < 3 {
					fill(p, depth+1)
				}
			}
		}
	}
	fill("", 1)
	return tree
}

func (tree plainTree) make(t require.TestingT, dir string) {
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for _, p := range slices.Sorted(maps.Keys(tree)) {
		full := filepath.Join(dir, p)
		switch n := tree[p]; n.kind {
		case "dir":
			require.NoError(t, os.Mkdir(full, 0o755))
		case "link":
			require.NoError(t, os.Symlink(n.text, full))
		case "file":
			require.NoError(t, os.WriteFile(full, []byte(n.text), 0o644))
			at := epoch.Add(-time.Duration(n.age) * time.Minute)
			require.NoError(t, os.Chtimes(full, at, at))
		}
	}
}

func readTree(t require.TestingT, dir string) plainTree {
	tree := plainTree{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || p == dir {
			return err
		}
		rel, _ := filepath.Rel(dir, p)
		switch {
		case d.IsDir():
			tree[rel] = node{kind: "dir"}
		case d.Type() == fs.ModeSymlink:
			to, err := os.Readlink(p)
			tree[rel] = node{kind: "link", text: to}
			return err
		default:
			b, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			info, err := d.Info()
			tree[rel] = node{"file", string(b), int(epoch.Sub(info.ModTime()) / time.Minute)}
			return err
		}
		return nil
	}))
	return tree
}

func below(p, dir string) bool { return p == dir || strings.HasPrefix(p, dir+"/") }

func (tree plainTree) drop(dir string) {
	maps.DeleteFunc(tree, func(p string, _ node) bool { return below(p, dir) })
}

func picked(p string, paths []string) bool {
	return len(paths) == 0 || slices.ContainsFunc(paths, func(d string) bool { return below(p, d) })
}

// merged says what a restore of the picked part of snap into live must leave behind.
func merged(snap, live plainTree, paths []string, choice Conflict) plainTree {
	out := maps.Clone(live)
	put := func(p, as string, withFiles bool) {
		out[as] = snap[p]
		for q, n := range snap {
			if withFiles && q != p && below(q, p) && (picked(q, paths) || n.kind == "dir" && slices.ContainsFunc(paths,
				func(d string) bool {
					return below(d, q)
				})) {
				out[as+q[len(p):]] = n
			}
		}
	}
	var blocked []string
	for _, p := range slices.Sorted(maps.Keys(snap)) {
		s := snap[p]
		wanted := picked(p, paths) || (s.kind == "dir" && slices.ContainsFunc(paths, func(d string) bool {
			return below(d, p)
		}))
		if !wanted || slices.ContainsFunc(blocked, func(d string) bool { return below(p, d) }) {
			continue
		}
		l, there := live[p]
		switch {
		case !there:
			put(p, p, true)
			blocked = append(blocked, p)
		case s.kind == "dir" && l.kind == "dir":
		case s.kind == l.kind && s.text == l.text:
			if s.kind == "file" && choice == Replace { // only the time differs
				out[p] = s
			}
		case choice == Skip:
			blocked = append(blocked, p)
		case choice == KeepBoth:
			blocked = append(blocked, p)
			if as := path.Join(path.Dir(p), withSuffix(path.Base(p), ".as-of")); live[as] == (node{}) {
				put(p, as, true)
			}
		default:
			out.drop(p)
			put(p, p, true)
			blocked = append(blocked, p)
		}
	}
	return out
}

// Restoring any part into any directory with any conflict choice leaves what a plain
// description of the choices says, the plan counts what is then done, and the exact
// restore of the whole is the snapshot.
func TestMergeAgainstDescription(t *testing.T) {
	b := newBench(t)
	base, n := memoryDir(t), 0
	rapid.Check(t, func(rt *rapid.T) {
		n++
		src, live := fmt.Sprintf("%s/src%d", base, n), fmt.Sprintf("%s/live%d", base, n)
		snap, was := drawTree(rt, "snapshot"), drawTree(rt, "live")
		snap.make(rt, src)
		was.make(rt, live)
		root, _, _ := b.snapshot(src)
		var paths []string
		if len(snap) > 0 {
			paths = rapid.SliceOfN(rapid.SampledFrom(slices.Sorted(maps.Keys(snap))), 0, 3).Draw(rt, "paths")
		}
		choice := rapid.SampledFrom([]Conflict{Skip, Replace, KeepBoth}).Draw(rt, "choice")
		want := merged(snap, was, paths, choice)
		set := func(o *RestoreOptions) { o.OnConflict, o.Paths = choice, paths }
		plan := b.restore(root, live, func(o *RestoreOptions) { set(o); o.Plan = true })
		require.Equal(rt, was, readTree(rt, live), "a plan changes nothing")
		done := b.restore(root, live, set)
		require.Equal(rt, want, readTree(rt, live))
		require.Equal(rt, [6]int64{plan.Created, plan.Replaced, plan.Removed, plan.Skipped, plan.Kept, plan.Adjusted},
			[6]int64{done.Created, done.Replaced, done.Removed, done.Skipped, done.Kept, done.Adjusted}, "the plan was right")
		require.Empty(rt, done.Remarks)
		again := b.restore(root, live, set)
		require.Equal(rt, want, readTree(rt, live), "doing it again changes nothing")
		require.Zero(rt, again.Created+again.Replaced+again.Removed)

		if len(paths) == 0 && choice == Replace {
			safety, _, _ := b.snapshot(live)
			b.restore(root, live, inPlace(live, safety))
			require.Equal(rt, snap, readTree(rt, live), "exactly the snapshot")
		}
		require.NoError(rt, os.RemoveAll(src))
		require.NoError(rt, os.RemoveAll(live))
	})
}

// What is newer than the snapshot's is left, what is older is replaced.
func TestOlder(t *testing.T) {
	b := newBench(t)
	base := t.TempDir()
	plainTree{"same": {"file", "s", 1}, "newer": {"file", "s", 1}, "older": {"file", "s", 1}}.make(t, base+"/src")
	root, _, _ := b.snapshot(base + "/src")
	plainTree{"same": {"file", "l", 1}, "newer": {"file", "l", 0}, "older": {"file", "l", 2}}.make(t, base+"/live")
	r := b.restore(root, base+"/live", func(o *RestoreOptions) { o.OnConflict = Older })
	require.Equal(t, plainTree{"same": {"file", "l", 1}, "newer": {"file", "l", 0}, "older": {"file", "s", 1}},
		readTree(t, base+"/live"))
	require.EqualValues(t, 2, r.Skipped)
}

// An archive of any part holds exactly the picked entries and what leads to them.
func TestTarOfParts(t *testing.T) {
	b := newBench(t)
	base, n := memoryDir(t), 0
	rapid.Check(t, func(rt *rapid.T) {
		n++
		src := fmt.Sprintf("%s/src%d", base, n)
		snap := drawTree(rt, "snapshot")
		if len(snap) == 0 {
			rt.Skip()
		}
		snap.make(rt, src)
		root, _, _ := b.snapshot(src)
		paths := rapid.SliceOfN(rapid.SampledFrom(slices.Sorted(maps.Keys(snap))), 1, 3).Draw(rt, "paths")
		var out bytes.Buffer
		require.NoError(rt, WriteTar(context.Background(), &out, b.st.Get, root, paths))
		got := plainTree{}
		for r := tar.NewReader(&out); ; {
			h, err := r.Next()
			if err == io.EOF {
				break
			}
			require.NoError(rt, err)
			name := strings.TrimSuffix(h.Name, "/")
			text, err := io.ReadAll(r)
			require.NoError(rt, err)
			switch h.Typeflag {
			case tar.TypeDir:
				got[name] = node{kind: "dir"}
			case tar.TypeSymlink:
				got[name] = node{kind: "link", text: h.Linkname}
			default:
				got[name] = node{"file", string(text), int(epoch.Sub(h.ModTime) / time.Minute)}
			}
		}
		require.Equal(rt, merged(snap, plainTree{}, paths, Replace), got)
		require.NoError(rt, os.RemoveAll(src))
	})
}

// A glob without a slash leaves out names anywhere, one with a slash a path from the
// top; what is left out is not in the snapshot, with all below it.
func TestExcludes(t *testing.T) {
	b := newBench(t)
	base, n := memoryDir(t), 0
	rapid.Check(t, func(rt *rapid.T) {
		n++
		src := fmt.Sprintf("%s/src%d", base, n)
		tree := drawTree(rt, "tree")
		tree.make(rt, src)
		globs := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "*.txt", "a/b", "?", "b/*", "/a", "a/*/c.txt", "[ab]",
			"nothing"}), 0, 3).Draw(rt, "globs")
		want := maps.Clone(tree)
		for p := range tree {
			for _, g := range globs {
				subject := path.Base(p)
				if strings.Contains(g, "/") {
					subject = p
				}
				if ok, _ := path.Match(strings.TrimPrefix(g, "/"), subject); ok {
					want.drop(p)
				}
			}
		}
		root, _, _ := b.snapshot(src, globs...)
		b.restore(root, src+".out", nil)
		require.Equal(rt, want, readTree(rt, src+".out"))
		require.NoError(rt, os.RemoveAll(src))
		require.NoError(rt, os.RemoveAll(src+".out"))
	})
	for _, bad := range []string{"[a", "a/[", ""} {
		require.Error(t, CheckExcludes([]string{bad}), bad)
	}
}

// Paths are cleaned, never followed out of the volume.
func TestCleanPath(t *testing.T) {
	for in, want := range map[string]string{"": "", "/": "", ".": "", "a/b": "a/b", "/a//b/": "a/b", "./a/./b": "a/b",
		"a/..b": "a/..b", "…": "…", "a\nb": "a\nb"} {
		got, err := CleanPath(in)
		require.NoError(t, err, in)
		require.Equal(t, want, got)
	}
	for _, in := range []string{"..", "../x", "a/../b", "/..", "a/..", "a\x00b"} {
		_, err := CleanPath(in)
		require.Error(t, err, in)
	}
}

// Names of one file stay names of one file, but never become names of something else:
// what was left as it was lends its content to nobody.
func TestLinksAndConflicts(t *testing.T) {
	b := newBench(t)
	base := t.TempDir()
	write(t, base+"/src/a", []byte("right"))
	for _, n := range []string{"b", "c", "d"} {
		require.NoError(t, os.Link(base+"/src/a", base+"/src/"+n))
	}
	root, _, _ := b.snapshot(base + "/src")
	for _, x := range []struct {
		choice Conflict
		want   plainTree
		same   []string // names of one file afterwards
	}{
		{Skip, plainTree{"a": {kind: "file", text: "mine"}, "b": {kind: "file", text: "right"},
			"c": {kind: "file", text: "right"}, "d": {kind: "file", text: "right"}}, []string{"c", "d"}},
		{KeepBoth, plainTree{"a": {kind: "file", text: "mine"}, "a.as-of": {kind: "file", text: "right"},
			"b": {kind: "file", text: "right"}, "c": {kind: "file", text: "right"}, "d": {kind: "file", text: "right"}},
			[]string{"a.as-of", "c", "d"}},
		{Older, plainTree{"a": {kind: "file", text: "mine"}, "b": {kind: "file", text: "right"},
			"c": {kind: "file", text: "right"}, "d": {kind: "file", text: "right"}}, []string{"b", "c", "d"}},
		{Replace, plainTree{"a": {kind: "file", text: "right"}, "b": {kind: "file", text: "right"},
			"c": {kind: "file", text: "right"}, "d": {kind: "file", text: "right"}}, []string{"a", "b", "c", "d"}},
	} {
		live := filepath.Join(base, "live-"+string(x.choice))
		write(t, live+"/a", []byte("mine"))
		write(t, live+"/b", []byte("right"))
		r := b.restore(root, live, func(o *RestoreOptions) { o.OnConflict = x.choice })
		require.Empty(t, r.Remarks)
		got := readTree(t, live)
		for p, n := range got {
			n.age = 0
			got[p] = n
		}
		require.Equal(t, x.want, got, x.choice)
		inodes := map[uint64]bool{}
		for _, n := range x.same {
			var st unix.Stat_t
			require.NoError(t, unix.Stat(filepath.Join(live, n), &st))
			inodes[st.Ino] = true
			require.EqualValues(t, len(x.same), st.Nlink, "%s %s", x.choice, n)
		}
		require.Len(t, inodes, 1)
	}
}
