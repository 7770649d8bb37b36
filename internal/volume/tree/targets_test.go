package tree

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// worse is a filesystem such as are found on foreign disks: it takes no name with a colon,
// keeps times to two seconds, forgets some modes and attributes without a word, and spoils one
// file.
type worse struct{ *fs.LoopbackNode }

func (w *worse) WrapChild(_ context.Context, ops fs.InodeEmbedder) fs.InodeEmbedder {
	return &worse{ops.(*fs.LoopbackNode)}
}

func illegal(name string) bool { return strings.Contains(name, ":") }

func (w *worse) Create(ctx context.Context, name string, flags, mode uint32, out *fuse.EntryOut) (*fs.Inode,
	fs.FileHandle, uint32, syscall.Errno) {
	if illegal(name) {
		return nil, nil, 0, syscall.EINVAL
	}
	in, fh, f, errno := w.LoopbackNode.Create(ctx, name, flags, mode, out)
	return in, &spoils{fh}, f | fuse.FOPEN_DIRECT_IO, errno
}

func (w *worse) Mkdir(ctx context.Context, name string, mode uint32, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if illegal(name) {
		return nil, syscall.EINVAL
	}
	return w.LoopbackNode.Mkdir(ctx, name, mode, out)
}

func (w *worse) Rename(ctx context.Context, name string, to fs.InodeEmbedder, newName string,
	flags uint32) syscall.Errno {
	if illegal(newName) {
		return syscall.EINVAL
	}
	return w.LoopbackNode.Rename(ctx, name, to, newName, flags)
}

func (w *worse) Setattr(ctx context.Context, f fs.FileHandle, in *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	if mode, ok := in.GetMode(); ok && mode&0o777 == 0o604 {
		in.Mode = mode&^0o777 | 0o644
	}
	in.Mtime, in.Mtimensec = in.Mtime&^1, 0
	return w.LoopbackNode.Setattr(ctx, nil, in, out)
}

func (w *worse) Setxattr(ctx context.Context, attr string, data []byte, flags uint32) syscall.Errno {
	if attr == "user.dropped" {
		return 0
	}
	return w.LoopbackNode.Setxattr(ctx, attr, data, flags)
}

type spoils struct{ fs.FileHandle }

func (s *spoils) Write(ctx context.Context, data []byte, off int64) (uint32, syscall.Errno) {
	n := len(data)
	if strings.HasPrefix(string(data), "spoil me") {
		data = append([]byte("spoiled "), data[8:]...)
	}
	_, errno := s.FileHandle.(fs.FileWriter).Write(ctx, data, off)
	return uint32(n), errno
}

func (s *spoils) Read(ctx context.Context, dest []byte, off int64) (fuse.ReadResult, syscall.Errno) {
	return s.FileHandle.(fs.FileReader).Read(ctx, dest, off)
}

func (s *spoils) Release(ctx context.Context) syscall.Errno {
	return s.FileHandle.(fs.FileReleaser).Release(ctx)
}

func needsRoot(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("needs root")
	}
}

// What a target cannot hold, or changes without a word, is listed by name; all else comes
// back, whether the target is new or has something already.
func TestTargetThatTakesNotEverything(t *testing.T) {
	needsRoot(t)
	b := newBench(t)
	base := t.TempDir()
	src, under, at := base+"/src", base+"/under", base+"/at"
	write(t, src+"/12:30 notes", []byte("a name that is illegal there"))
	write(t, src+"/dir:name/below", []byte("x"))
	write(t, src+"/good", []byte("hello"))
	write(t, src+"/sub/spoiled", []byte("spoil me, please"))
	write(t, src+"/mode", []byte("x"))
	require.NoError(t, os.Chmod(src+"/mode", 0o604))
	require.NoError(t, unix.Setxattr(src+"/good", "user.dropped", []byte("1"), 0))
	require.NoError(t, unix.Setxattr(src+"/good", "user.kept", []byte("1"), 0))
	even := time.Unix(1_700_000_000, 0)
	require.NoError(t, filepath.WalkDir(src, func(p string, _ os.DirEntry, _ error) error {
		return os.Chtimes(p, even, even)
	}))
	require.NoError(t, os.Chtimes(src+"/sub", even, even.Add(1500*time.Millisecond)))
	require.NoError(t, os.Chtimes(src, even, even))
	root, _, _ := b.snapshot(src)
	require.NoError(t, os.Mkdir(under, 0o755))
	require.NoError(t, os.Mkdir(at, 0o755))
	data := &fs.LoopbackRoot{Path: under}
	top := &worse{&fs.LoopbackNode{RootData: data}}
	data.RootNode = top
	srv, err := fs.Mount(at, top, &fs.Options{MountOptions: fuse.MountOptions{DirectMountStrict: true}})
	require.NoError(t, err)
	defer srv.Unmount()
	want := map[string]string{
		"12:30 notes": "not restored: invalid argument", "dir:name": "not restored: invalid argument",
		"sub/spoiled": "not restored: what was read back is not what was written: the target's filesystem or disk " +
			"is at fault",
		"mode": "mode 0604 could not be set, it is 0644: although setting it was not refused",
		"good": "attribute user.dropped could not be set: although setting it was not refused",
		"sub": "time 2023-11-14 22:13:21.500000000 could not be set, it is 2023-11-14 22:13:20.000000000: " +
			"although setting it was not refused",
	}
	for _, target := range []string{at + "/new", at + "/old"} {
		if target == at+"/old" {
			write(t, target+"/sub/spoiled", []byte("what was there"))
			write(t, target+"/mode", []byte("other"))
		}
		r := b.restore(root, target, nil)
		told := map[string]string{}
		for _, m := range r.Remarks {
			told[string(m.Path)] += m.What
		}
		require.Equal(t, want, told, target)
		require.Equal(t, int64(len(want)), r.RemarkCount)
		require.Equal(t, int64(3), r.Failed)
		require.Equal(t, map[string][3]int64{at + "/new": {3, 0, 6}, at + "/old": {1, 1, 6}}[target],
			[3]int64{r.Created, r.Replaced, r.Bytes}, target)
		got, err := os.ReadFile(target + "/good")
		require.NoError(t, err)
		require.Equal(t, "hello", string(got))
		got, _ = os.ReadFile(target + "/sub/spoiled")
		require.Equal(t, map[string]string{at + "/new": "", at + "/old": "what was there"}[target], string(got))
		parts, err := exec.Command("find", under, "-name", tempPrefix+"*").Output()
		require.NoError(t, err)
		require.Empty(t, string(parts))
	}
}

// A target that fills up meanwhile, in the middle of a restore: each file there is the old or
// the new one, nothing unfinished is left, and with room again the same restore completes.
func TestTargetFillsUp(t *testing.T) {
	needsRoot(t)
	b := newBench(t)
	base := t.TempDir()
	src, small := base+"/src", base+"/small"
	want := map[string]string{}
	for i := range 60 {
		name := fmt.Sprintf("/d%d/f%d", i%7, i)
		data := noise(uint64(i), 100_000)
		write(t, src+name, data)
		want[name] = string(data)
	}
	root, _, _ := b.snapshot(src)
	require.NoError(t, os.Mkdir(small, 0o755))
	require.NoError(t, unix.Mount("tmpfs", small, "tmpfs", 0, "size=8m"))
	t.Cleanup(func() { unix.Unmount(small, unix.MNT_DETACH) })
	write(t, small+"/others", noise(99, 5<<20))
	fails := func(target string, words ...string) {
		_, err := Restore(context.Background(), RestoreOptions{Source: b.st, Root: root, Target: target, Beneath: small,
			OnConflict: Replace, Chunker: b.ck})
		for _, w := range words {
			require.ErrorContains(t, err, w)
		}
		parts, err := exec.Command("find", small, "-name", tempPrefix+"*").Output()
		require.NoError(t, err)
		require.Empty(t, string(parts))
	}
	fails(small+"/new", "no room left at the target while writing d", "nothing of it was left there")
	require.NoDirExists(t, small+"/new")
	for name := range want {
		write(t, small+"/old"+name, []byte("old"))
	}
	fails(small+"/old", "no room left", "what was restored before it is whole")
	fresh := 0
	for name, text := range want {
		got, err := os.ReadFile(small + "/old" + name)
		require.NoError(t, err)
		if string(got) != "old" {
			require.True(t, string(got) == text, name)
			fresh++
		}
	}
	require.Positive(t, fresh, "it filled up before anything was written")
	require.Less(t, fresh, len(want))

	require.NoError(t, unix.Mount("", small, "", unix.MS_REMOUNT|unix.MS_RDONLY, ""))
	require.True(t, ReadOnly(small+"/old/not/there"))
	require.False(t, ReadOnly(base+"/not/there"))
	fails(small+"/old", "takes no more writes")
	require.NoError(t, unix.Mount("", small, "", unix.MS_REMOUNT, "size=8m"))
	require.NoError(t, os.Remove(small+"/others"))
	r := b.restore(root, small+"/old", nil)
	require.Equal(t, int64(len(want)-fresh), r.Replaced, "what was whole already is not written again")
	requireSame(t, src, small+"/old")
}

// As someone who is not root, what can be restored is, and what cannot is listed.
func TestRestoreWithoutRights(t *testing.T) {
	if dir := os.Getenv("CANDID_TEST_AS_OTHER"); dir != "" {
		restoreAsOther(t, dir)
		return
	}
	needsRoot(t)
	base := memoryDir(t)
	require.NoError(t, os.Chmod(base, 0o777))
	src := base + "/src"
	require.NoError(t, os.Mkdir(src, 0o755))
	write(t, src+"/mine", []byte("hello"))
	write(t, src+"/of-root", []byte("x"))
	write(t, src+"/group/setgid", []byte("x"))
	require.NoError(t, unix.Mknod(src+"/null", unix.S_IFCHR|0o666, int(unix.Mkdev(1, 3))))
	require.NoError(t, unix.Setxattr(src+"/of-root", "trusted.note", []byte("1"), 0))
	for _, p := range []string{"", "/mine", "/group", "/group/setgid"} {
		require.NoError(t, os.Chown(src+p, 4321, 4321))
	}
	require.NoError(t, os.Chown(src+"/group/setgid", 4321, 77))
	require.NoError(t, unix.Chmod(src+"/group/setgid", 0o2755))
	require.NoError(t, os.MkdirAll(base+"/at/locked", 0o755))
	require.NoError(t, os.Chown(base+"/at", 4321, 4321))
	write(t, src+"/locked/file", []byte("new"))
	write(t, base+"/at/locked/file", []byte("old"))
	then := time.Unix(1_700_000_000, 0)
	require.NoError(t, os.Chtimes(src+"/locked", then, then))
	require.NoError(t, os.Chtimes(base+"/at/locked", then, then.Add(time.Hour)))
	self, err := os.Executable()
	require.NoError(t, err)
	binary := base + "/test"
	raw, err := os.ReadFile(self)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(binary, raw, 0o755))
	cmd := exec.Command(binary, "-test.run=^TestRestoreWithoutRights$", "-test.v")
	cmd.Dir = base
	cmd.Env = append(os.Environ(), "CANDID_TEST_AS_OTHER="+base, "TMPDIR="+base)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 4321, Gid: 4321}}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	var told map[string][]string
	raw, err = os.ReadFile(base + "/told")
	require.NoError(t, err, string(out))
	require.NoError(t, json.Unmarshal(raw, &told))
	require.Equal(t, map[string][]string{
		"null":    {"not restored: operation not permitted"},
		"of-root": {"owner 0:0 could not be set, it is 4321:4321: operation not permitted"},
		"group/setgid": {"owner 4321:77 could not be set, it is 4321:4321: operation not permitted",
			"mode 2755 could not be set, it is 0755: it would run as another than it did"},
		"locked": {"time 2023-11-14 22:13:20.000000000 could not be set, it is 2023-11-14 23:13:20.000000000: " +
			"operation not permitted"},
		"locked/file": {"not restored: permission denied"},
	}, told)
	for path, want := range map[string]string{"mine": "hello", "of-root": "x", "group/setgid": "x", "locked/file": "old"} {
		got, err := os.ReadFile(base + "/at/" + path)
		require.NoError(t, err)
		require.Equal(t, want, string(got))
	}
}

func restoreAsOther(t *testing.T, dir string) {
	b := newBench(t)
	root, _, _ := b.snapshot(dir + "/src")
	r := b.restore(root, dir+"/at", nil)
	require.Equal(t, int64(2), r.Failed)
	told := map[string][]string{}
	for _, m := range r.Remarks {
		told[string(m.Path)] = append(told[string(m.Path)], m.What)
	}
	raw, err := json.Marshal(told)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/told", raw, 0o644))
}
