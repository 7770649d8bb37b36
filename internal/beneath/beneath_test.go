package beneath

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A path that leads through a link is not entered: it was resolved before.
func TestNoLinkIsFollowed(t *testing.T) {
	base := t.TempDir()
	root := base + "/root"
	require.NoError(t, os.MkdirAll(root+"/in/deep", 0o755))
	require.NoError(t, os.Mkdir(base+"/out", 0o755))
	require.NoError(t, os.WriteFile(base+"/out/secret", nil, 0o600))
	require.NoError(t, os.WriteFile(root+"/in/file", nil, 0o600))
	require.NoError(t, os.Symlink("../out", root+"/way-out"))
	require.NoError(t, os.Symlink("in", root+"/way-in"))
	require.NoError(t, os.Symlink("in/file", root+"/to-file"))
	require.NoError(t, unix.Mkfifo(root+"/pipe", 0o600))
	for _, ok := range []string{"/root", "/root/in/deep"} {
		fd, err := Open(root, base+ok)
		require.NoError(t, err, ok)
		unix.Close(fd)
	}
	for _, no := range []string{"/out", "/root/way-out", "/root/way-in/deep", "/root/../out", "/root/none", "/rootless",
		"/root/in/file"} {
		_, err := Open(root, base+no)
		require.Error(t, err, no)
		if no != "/root/none" {
			_, err = MakeAll(root, base+no, 0o755)
			require.Error(t, err, no)
		}
	}
	f, err := File(root, root+"/in/file")
	require.NoError(t, err)
	f.Close()
	for _, no := range []string{"/out/secret", "/root/way-out/secret", "/root/to-file", "/root/pipe", "/root/in",
		"/root/none"} {
		_, err := File(root, base+no)
		require.Error(t, err, no)
	}
	for _, made := range []string{"/new/and/new", "/in/new", ""} {
		fd, err := MakeAll(root, root+made, 0o755)
		require.NoError(t, err)
		unix.Close(fd)
		require.DirExists(t, root+made)
	}
	_, err = MakeAll(root, root+"/way-out/new", 0o755)
	require.ErrorIs(t, err, ErrLink)
	require.NoDirExists(t, base+"/out/new")
}

// Resolving is as the kernel's, but that links of others are not followed.
func TestResolve(t *testing.T) {
	base := t.TempDir()
	require.NoError(t, os.MkdirAll(base+"/a/b/c", 0o755))
	for name, to := range map[string]string{"up": "a/../a/b", "abs": base + "/a", "a/b/back": "../..", "loop": "loop",
		"file/x": ""} {
		if to == "" {
			require.NoError(t, os.WriteFile(base+"/file", nil, 0o600))
			continue
		}
		require.NoError(t, os.Symlink(to, base+"/"+name))
	}
	require.NoError(t, os.Symlink(filepath.Base(base)+"/a", base+"-beside"))
	t.Cleanup(func() { os.Remove(base + "-beside") })
	for _, in := range []string{"", "/a", "/up", "/up/c", "/abs/b", "/abs/b/back/up/c", "/a/../up", "/../" +
		filepath.Base(base) + "/a", "/loop", "/file/x", "-beside", "-beside/b"} {
		want, werr := filepath.EvalSymlinks(base + in)
		got, rest, err := Resolve(base + in)
		if werr != nil {
			require.Error(t, err, in)
			continue
		}
		require.NoError(t, err, in)
		require.Empty(t, rest, in)
		require.Equal(t, want, got, in)
	}
	got, rest, err := Resolve(base + "/abs/none/deeper")
	require.NoError(t, err)
	require.Equal(t, []string{base + "/a", "none/deeper"}, []string{got, rest})
	if os.Geteuid() != 0 {
		t.Skip("needs root")
	}
	require.NoError(t, os.Lchown(base+"/abs", 4321, 4321))
	_, _, err = Resolve(base + "/abs/b")
	var foreign *ForeignLink
	require.ErrorAs(t, err, &foreign)
	require.Equal(t, ForeignLink{base + "/abs", 4321}, *foreign)
}
