package hostdirs

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func made(t *testing.T, root string, files map[string]int) {
	for name, size := range files {
		p := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, make([]byte, size), 0o644))
	}
}

// What is told of a directory is what lies in it: no link is followed, and a directory with more than is looked at is
// told as holding at least so much.
func TestList(t *testing.T) {
	root := t.TempDir()
	made(t, root, map[string]int{"a/b/c": 1000, "a/d": 24, "e": 7, "z/one": 1, "shut/in": 5})
	require.NoError(t, os.Symlink("/", filepath.Join(root, "z", "out")))
	require.NoError(t, os.Symlink("a", filepath.Join(root, "link")))
	all, more, err := List(context.Background(), root, root, time.Minute)
	require.NoError(t, err)
	require.False(t, more)
	require.Equal(t, []Entry{{Name: "a", Dir: true, Files: 2, Bytes: 1024}, {Name: "e", Files: 1, Bytes: 7},
		{Name: "shut", Dir: true, Files: 1, Bytes: 5}, {Name: "z", Dir: true, Files: 2, Bytes: 1},
		{Name: "link", Files: 1}}, all)
	_, _, err = List(context.Background(), root, filepath.Join(root, "link"), time.Minute)
	require.Error(t, err)

	for i := range mostEntries + 10 {
		require.NoError(t, os.WriteFile(filepath.Join(root, "z", fmt.Sprint(i)), []byte("x"), 0o644))
	}
	all, _, err = List(context.Background(), root, root, time.Minute)
	require.NoError(t, err)
	require.Equal(t, "z", all[0].Name)
	require.True(t, all[0].AtLeast)
	require.LessOrEqual(t, all[0].Files, int64(mostEntries))
	all, _, err = List(context.Background(), root, root, 0) // out of time: names are told, sizes are not
	require.NoError(t, err)
	require.Len(t, all, 5)
	ended, end := context.WithCancel(context.Background())
	end()
	_, _, err = List(ended, root, root, time.Minute)
	require.ErrorIs(t, err, context.Canceled)
}

func TestWithin(t *testing.T) {
	for _, c := range []struct {
		path, dir string
		is        bool
	}{{"/a/b", "/a", true}, {"/a", "/a", true}, {"/ab", "/a", false}, {"/a", "/", true}, {"/", "/a", false}} {
		require.Equal(t, c.is, Within(c.path, c.dir), c)
	}
}
