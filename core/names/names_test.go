package names

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"maps"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"candidharbor/core/object"
	"candidharbor/core/treetest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func at(i int) time.Time { return time.Unix(int64(i)*3600, 0) }

// Whatever happened to a tree, and whichever snapshots were removed since, what is found
// is what going through all kept snapshots one by one finds.
func TestFindsWhatWalkingFinds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h, x := treetest.New(), New()
		names := rapid.SampledFrom([]string{"a", "b", "Report.txt", "d/a", "d/report.TXT", "d/e/b", "f/g/old report", "z"})
		tree := rapid.MapOf(names, rapid.SampledFrom([]string{"", "1", "22", "x:1", "333"}))
		var trees []treetest.Files
		kept := map[object.ID]bool{}
		n := rapid.IntRange(1, 6).Draw(t, "snapshots")
		for i := range n {
			f := treetest.Files(tree.Draw(t, "tree"))
			trees = append(trees, f)
			id := object.ID{byte(i + 1)}
			require.NoError(t, x.Add(h.Get, Snap{id, at(i)}, h.Store(t, f)))
			kept[id] = rapid.Bool().Draw(t, "kept")
			if rapid.Bool().Draw(t, "written and read") {
				x = again(t, x)
			}
		}
		text := rapid.SampledFrom([]string{"report", "*", "*.txt", "d/*", "/a", "/*/a", "B", "e/b"}).Draw(t, "pattern")
		pat, err := ParsePattern(text)
		require.NoError(t, err)
		from, to := rapid.IntRange(0, n).Draw(t, "since"), rapid.IntRange(0, n).Draw(t, "until")
		q := Query{Match: pat, Since: at(from), Until: at(to), Kind: object.File,
			MinSize: int64(rapid.IntRange(0, 2).Draw(t, "min")), Deleted: rapid.Bool().Draw(t, "deleted"), Limit: 100}

		want := map[string]string{}
		newest := -1
		for i := range trees {
			if kept[object.ID{byte(i + 1)}] {
				newest = i
			}
		}
		for i, f := range trees {
			if !kept[object.ID{byte(i + 1)}] || i < from || i > to {
				continue
			}
			for p, content := range f {
				size := int64(len(strings.TrimPrefix(content, "x:")))
				_, there := trees[newest][p]
				if !naive(text, p) || size < q.MinSize || q.Deleted && there {
					continue
				}
				want[p] = fmt.Sprintf("%d bytes, last in %d, there %v", size, i, there)
			}
		}
		found, total := x.Find(q, func(id object.ID) bool { return kept[id] })
		got := map[string]string{}
		for _, f := range found {
			got[f.Path] = fmt.Sprintf("%d bytes, last in %d, there %v", f.Size, int(f.Last.ID[0])-1, f.There)
			require.Contains(t, trees[f.First.ID[0]-1], f.Path)
		}
		require.Equal(t, want, got)
		require.Equal(t, len(want), total)

		// Page by page it is the same, nothing twice.
		q.Limit = 2
		var paged []string
		for {
			part, all := x.Find(q, func(id object.ID) bool { return kept[id] })
			require.Equal(t, total, all)
			for _, f := range part {
				paged = append(paged, f.Path)
				q.After = f.Cursor
			}
			if len(part) < 2 {
				break
			}
		}
		require.ElementsMatch(t, slices.Collect(maps.Keys(want)), paged)
	})
}

// again is an index as it is read after it was written.
func again(t require.TestingT, x *Index) *Index {
	var b bytes.Buffer
	require.NoError(t, x.Write(&b))
	y, err := Read(b.Bytes())
	require.NoError(t, err)
	require.Equal(t, x.Lives(), y.Lives())
	return y
}

// An index of which a byte is another, or some are lacking, is not read.
func TestTornIndex(t *testing.T) {
	h, x := treetest.New(), New()
	require.NoError(t, x.Add(h.Get, Snap{object.ID{1}, at(1)}, h.Store(t, treetest.Files{"a": "1", "d/e/b": "2"})))
	var b bytes.Buffer
	require.NoError(t, x.Write(&b))
	for i := range b.Len() {
		torn := bytes.Clone(b.Bytes())
		torn[i] ^= 0x10
		_, err := Read(torn)
		require.ErrorIs(t, err, errNotWhole)
		_, err = Read(b.Bytes()[:i])
		require.ErrorIs(t, err, errNotWhole)
	}
	require.True(t, again(t, x).Has("d/e/b", func(object.ID) bool { return true }))
	require.Equal(t, New().Lives(), again(t, New()).Lives())
}

// FuzzRead: whatever is read is refused or can be searched.
func FuzzRead(f *testing.F) {
	h, x := treetest.New(), New()
	require.NoError(f, x.Add(h.Get, Snap{object.ID{1}, at(1)}, h.Store(f, treetest.Files{"a": "1", "d/e/b": "2"})))
	var b bytes.Buffer
	require.NoError(f, x.Write(&b))
	f.Add(b.Bytes()[:b.Len()-4])
	pat, err := ParsePattern("*")
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, body []byte) {
		y, err := Read(binary.LittleEndian.AppendUint32(bytes.Clone(body), crc32.Checksum(body, castagnoli)))
		if err == nil {
			y.Find(Query{Match: pat, Limit: 9}, func(object.ID) bool { return true })
			y.Has("d/e/b", func(object.ID) bool { return true })
		}
	})
}

// naive compares a path with a pattern in another way.
func naive(pattern, p string) bool {
	pattern, p = strings.ToLower(pattern), strings.ToLower(p)
	if !strings.ContainsAny(pattern, "*/") {
		return strings.Contains(path.Base(p), pattern)
	}
	for cut := p; ; {
		whole := len(cut) == len(p)
		if ok, _ := path.Match(strings.TrimPrefix(pattern, "/"), cut); ok && (whole || pattern[0] != '/') {
			return true
		}
		_, rest, more := strings.Cut(cut, "/")
		if !more {
			return false
		}
		cut = rest
	}
}

func TestVersionsOfAPath(t *testing.T) {
	h, x := treetest.New(), New()
	for i, f := range []treetest.Files{{"a": "1"}, {"a": "1"}, {"a": "22"}, {"b": "0"}, {"a": "22"}, {"a": "x:22"}} {
		require.NoError(t, x.Add(h.Get, Snap{object.ID{byte(i)}, at(i)}, h.Store(t, f)))
	}
	require.Equal(t, 4, x.Lives(), "a twice, b, and a again")
	pat, err := ParsePattern("A")
	require.NoError(t, err)
	found, _ := x.Find(Query{Match: pat, Limit: 9}, func(object.ID) bool { return true })
	require.Len(t, found, 1)
	require.Equal(t, []any{3, at(0), at(5), true}, []any{found[0].Versions, found[0].First.Taken, found[0].Last.Taken,
		found[0].There})
	found, _ = x.Find(Query{Match: pat, Until: at(1), Limit: 9}, func(object.ID) bool { return true })
	require.Equal(t, []any{int64(1), at(1)}, []any{found[0].Size, found[0].Last.Taken})
}

func TestBadPatterns(t *testing.T) {
	for _, s := range []string{"", "/", "[a", "a/[", `x\`} {
		_, err := ParsePattern(s)
		require.Error(t, err, s)
	}
}

// BenchmarkAdd is the index of one snapshot of a million names.
func BenchmarkAdd(b *testing.B) {
	h, top := million(b)
	for b.Loop() {
		x := New()
		x.Expect(1_000_000)
		require.NoError(b, x.Add(h.Get, Snap{}, top))
	}
}

// BenchmarkRead reads the index of a million names.
func BenchmarkRead(b *testing.B) {
	h, top := million(b)
	x := New()
	require.NoError(b, x.Add(h.Get, Snap{}, top))
	var raw bytes.Buffer
	require.NoError(b, x.Write(&raw))
	b.SetBytes(int64(raw.Len()))
	for b.Loop() {
		_, err := Read(raw.Bytes())
		require.NoError(b, err)
	}
}

func million(b *testing.B) (*treetest.Heap, object.ID) {
	h, f := treetest.New(), treetest.Files{}
	for i := range 1_000_000 {
		f[fmt.Sprintf("sheets/%03d/%02d/specimen-%07d.tif", i%500, i/500%40, i)] = "1"
	}
	return h, h.Store(b, f)
}

// BenchmarkFind searches a thousand snapshots of a million names.
func BenchmarkFind(b *testing.B) {
	h, top := million(b)
	x := New()
	for i := range 1000 {
		require.NoError(b, x.Add(h.Get, Snap{object.ID{byte(i), byte(i >> 8)}, at(i)}, top))
	}
	for _, text := range []string{"0712345", "*12345.tif", "/sheets/345/*/specimen-*", "*"} {
		pat, err := ParsePattern(text)
		require.NoError(b, err)
		b.Run(strings.ReplaceAll(text, "/", ":"), func(b *testing.B) {
			for b.Loop() {
				x.Find(Query{Match: pat, Limit: 100}, func(object.ID) bool { return true })
			}
		})
	}
}
