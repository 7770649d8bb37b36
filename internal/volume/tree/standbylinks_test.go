package tree

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A list of hard links that leads through a symbolic link of the same snapshot makes no name
// of a file outside, and takes none away there.
func TestStandbyLinksStayWithin(t *testing.T) {
	b := newBench(t)
	base := memoryDir(t)
	outside := filepath.Join(base, "outside")
	write(t, filepath.Join(outside, "secret"), []byte("of the host"))
	for _, paths := range [][]string{{"a/secret", "b"}, {"b", "c/../a/secret"}, {"a/secret", "a/secret2"},
		{"../outside/secret", "b"}, {"b", "../outside/secret"}} {
		w := b.st.NewWriter(b.st.NewLease())
		id, err := w.PutChunk(append(make([]byte, object.Headroom), []byte("harmless")...))
		require.NoError(t, err)
		d := object.NewDirBuilder(w.Put)
		require.NoError(t, d.Add(object.Entry{Name: []byte("a"), Kind: object.Symlink, Target: []byte(outside)}))
		require.NoError(t, d.Add(object.Entry{Name: []byte("b"), Kind: object.File, Mode: 0o644, Size: 8, HasContent: true,
			Content: id}))
		top, err := d.Finish()
		require.NoError(t, err)
		l := object.NewLinksBuilder(w.Put)
		require.NoError(t, l.Add([][]byte{[]byte(paths[0]), []byte(paths[1])}))
		links, has, err := l.Finish()
		require.NoError(t, err)
		root := &object.Root{Lineage: object.LineageID{1}, Volume: "v", Term: 1, Sequence: 1, Links: links, HasLinks: has,
			Top: object.Entry{Kind: object.Dir, Mode: 0o755, HasContent: true, Content: top}}
		_, err = w.Commit(root)
		require.NoError(t, err)
		stand, err := os.MkdirTemp(base, "standby")
		require.NoError(t, err)
		at, err := unix.Open(stand, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		require.NoError(t, err)
		defer unix.Close(at)
		res, err := LayOut(context.Background(), StandbyOptions{Source: b.st, Root: root, Dir: at, Idle: "idle",
			Active: "active"})
		require.NoError(t, err)
		require.NotZero(t, res.RemarkCount, paths)
		raw, err := os.ReadFile(filepath.Join(outside, "secret"))
		require.NoError(t, err)
		require.Equal(t, "of the host", string(raw))
		var st unix.Stat_t
		require.NoError(t, unix.Stat(filepath.Join(outside, "secret"), &st))
		require.EqualValues(t, 1, st.Nlink, paths)
		require.Len(t, must1(os.ReadDir(outside)), 1, paths)
	}
}

func must1[T any](v T, _ error) T { return v }
