package tree

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"

	"candidharbor/core/object"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// brittle is a filesystem that takes so many changes and then none: what is there then is what a restore
// leaves that is killed between two of them.
type brittle struct {
	*fs.LoopbackNode
	takes *atomic.Int64
}

func (b *brittle) WrapChild(_ context.Context, ops fs.InodeEmbedder) fs.InodeEmbedder {
	return &brittle{ops.(*fs.LoopbackNode), b.takes}
}

func (b *brittle) cut() bool { return b.takes.Add(-1) < 0 }

func (b *brittle) Create(ctx context.Context, name string, flags, mode uint32, out *fuse.EntryOut) (*fs.Inode,
	fs.FileHandle, uint32, syscall.Errno) {
	if b.cut() {
		return nil, nil, 0, syscall.EIO
	}
	in, fh, f, errno := b.LoopbackNode.Create(ctx, name, flags, mode, out)
	return in, &brittleFile{spoils{fh}, b}, f | fuse.FOPEN_DIRECT_IO, errno
}

func (b *brittle) Mkdir(ctx context.Context, name string, mode uint32, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if b.cut() {
		return nil, syscall.EIO
	}
	return b.LoopbackNode.Mkdir(ctx, name, mode, out)
}

func (b *brittle) Mknod(ctx context.Context, name string, mode, rdev uint32, out *fuse.EntryOut) (*fs.Inode,
	syscall.Errno) {
	if b.cut() {
		return nil, syscall.EIO
	}
	return b.LoopbackNode.Mknod(ctx, name, mode, rdev, out)
}

func (b *brittle) Symlink(ctx context.Context, target, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if b.cut() {
		return nil, syscall.EIO
	}
	return b.LoopbackNode.Symlink(ctx, target, name, out)
}

func (b *brittle) Link(ctx context.Context, to fs.InodeEmbedder, name string, out *fuse.EntryOut) (*fs.Inode,
	syscall.Errno) {
	if b.cut() {
		return nil, syscall.EIO
	}
	return b.LoopbackNode.Link(ctx, to.(*brittle).LoopbackNode, name, out)
}

func (b *brittle) Rename(ctx context.Context, name string, to fs.InodeEmbedder, newName string,
	flags uint32) syscall.Errno {
	if b.cut() {
		return syscall.EIO
	}
	return b.LoopbackNode.Rename(ctx, name, to, newName, flags)
}

func (b *brittle) Unlink(ctx context.Context, name string) syscall.Errno {
	if b.cut() {
		return syscall.EIO
	}
	return b.LoopbackNode.Unlink(ctx, name)
}

func (b *brittle) Rmdir(ctx context.Context, name string) syscall.Errno {
	if b.cut() {
		return syscall.EIO
	}
	return b.LoopbackNode.Rmdir(ctx, name)
}

func (b *brittle) Setattr(ctx context.Context, _ fs.FileHandle, in *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	if b.cut() {
		return syscall.EIO
	}
	return b.LoopbackNode.Setattr(ctx, nil, in, out)
}

func (b *brittle) Setxattr(ctx context.Context, attr string, data []byte, flags uint32) syscall.Errno {
	if b.cut() {
		return syscall.EIO
	}
	return b.LoopbackNode.Setxattr(ctx, attr, data, flags)
}

func (b *brittle) Removexattr(ctx context.Context, attr string) syscall.Errno {
	if b.cut() {
		return syscall.EIO
	}
	return b.LoopbackNode.Removexattr(ctx, attr)
}

type brittleFile struct {
	spoils
	b *brittle
}

func (f *brittleFile) Write(ctx context.Context, data []byte, off int64) (uint32, syscall.Errno) {
	if f.b.cut() {
		return 0, syscall.EIO
	}
	return f.FileHandle.(fs.FileWriter).Write(ctx, data, off)
}

// cutCase makes what a restore brings back, or what it finds: each path differs in another way.
func cutCase(t *testing.T, dir string, wanted bool) {
	pick := func(a, b string) string {
		if wanted {
			return a
		}
		return b
	}
	mode := func(path string, a, b os.FileMode) {
		if !wanted {
			a = b
		}
		require.NoError(t, os.Chmod(path, a))
	}
	write(t, dir+"/same/file", []byte("same"))
	write(t, dir+"/content", []byte(pick("wanted", "found")))
	write(t, dir+"/styled/time", []byte("x"))
	write(t, dir+"/styled/mode", []byte("x"))
	mode(dir+"/styled/mode", 0o640, 0o600)
	write(t, dir+"/styled/all", []byte("x"))
	mode(dir+"/styled/all", 0o4755, 0o600)
	require.NoError(t, unix.Setxattr(dir+"/styled/all", "user.a", []byte(pick("1", "2")), 0))
	require.NoError(t, unix.Setxattr(dir+"/styled/all", pick("user.b", "user.c"), []byte("x"), 0))
	mode(dir+"/styled", 0o750, 0o701)
	write(t, dir+"/owner/file", []byte("x"))
	require.NoError(t, os.Chown(dir+"/owner/file", 7, len(pick("7", "77"))))
	require.NoError(t, os.Chown(dir+"/owner", 8, len(pick("7", "77"))))
	write(t, dir+pick("/made/by/restore/here", "/extra/to/go/there"), []byte("x"))
	write(t, dir+pick("/file to dir/a", "/file to dir"), []byte("x"))
	write(t, dir+pick("/dir to file", "/dir to file/a"), []byte("x"))
	require.NoError(t, os.Symlink(pick("a", "b"), dir+"/link"))
	require.NoError(t, unix.Mkfifo(dir+"/"+pick("pipe", "other pipe"), 0o600))
	write(t, dir+"/one", []byte("of three names"))
	require.NoError(t, os.Link(dir+"/one", dir+"/"+pick("two", "file's name")))
	write(t, dir+"/three", []byte("of three names"))
	if wanted {
		require.NoError(t, os.Remove(dir+"/three"))
		require.NoError(t, os.Link(dir+"/one", dir+"/three"))
	}
	n := int64(0)
	require.NoError(t, filepath.WalkDir(dir, func(p string, _ os.DirEntry, _ error) error {
		n++
		at := unix.NsecToTimespec(1_700_000_000_000_000_000 + n*1_000_000_123 + int64(len(pick("1", "22")))*3600e9)
		return unix.UtimesNanoAt(unix.AT_FDCWD, p, []unix.Timespec{at, at}, unix.AT_SYMLINK_NOFOLLOW)
	}))
}

// A restore in place, or its undo, is killed between any two changes: what goes on with it leads to
// exactly what it was to lead to.
func TestCutShortAnywhere(t *testing.T) {
	needsRoot(t)
	b := newBench(t)
	base := memoryDir(t)
	under, at := base+"/under", t.TempDir()
	require.NoError(t, os.Mkdir(under, 0o755))
	cutCase(t, base+"/wanted", true)
	cutCase(t, base+"/found", false)
	wanted, _, _ := b.snapshot(base + "/wanted")
	found, _, _ := b.snapshot(base + "/found")
	differs := func(real string) string { // for people
		list := `find . -printf '%P %y %m %U:%G %s %T@ %l\n' | sort`
		out, _ := exec.Command("bash", "-c", fmt.Sprintf("diff <(cd %s/wanted; %s) <(cd %s; %s)", base, list, real,
			list)).Output()
		return string(out)
	}
	takes := &atomic.Int64{}
	data := &fs.LoopbackRoot{Path: under}
	top := &brittle{&fs.LoopbackNode{RootData: data}, takes}
	data.RootNode = top
	srv, err := fs.Mount(at, top, &fs.Options{MountOptions: fuse.MountOptions{DirectMountStrict: true}})
	require.NoError(t, err)
	defer srv.Unmount()
	left := func(rel string) (*object.Entry, error) {
		e, err := Lookup(b.st.Get, found, rel)
		if errors.Is(err, ErrNoPath) {
			return nil, nil
		}
		return &e, err
	}
	whole := func(real string) string { return digest(t, real) }
	made := func(real string) string { return digest(t, real+"/made") }
	for _, c := range []struct {
		name   string
		change func(o *RestoreOptions)
		is     func(real string) string
	}{
		{"exact", func(*RestoreOptions) {}, whole},
		{"undo", func(o *RestoreOptions) { o.Left = left }, whole},
		{"skip", func(o *RestoreOptions) { o.Exact, o.OnConflict = false, Skip }, made},
	} {
		want := c.is(base + "/wanted")
		for n, done := int64(0), false; !done; n++ {
			live := fmt.Sprintf("%s/%s%d", at, c.name, n)
			real := under + "/" + filepath.Base(live)
			require.NoError(t, exec.Command("cp", "-a", base+"/found", real).Run())
			restore := func(most int64, safety *object.Root) (*Restored, error) {
				opt := RestoreOptions{Source: b.st, Root: wanted, Target: live, Beneath: at, OnConflict: Replace, Exact: true,
					Live: true, Safety: safety, Chunker: b.ck}
				c.change(&opt)
				takes.Store(most)
				return Restore(context.Background(), opt)
			}
			_, err := restore(n, found)
			if done = takes.Load() >= 0; done {
				require.NoError(t, err)
			}
			takes.Store(1 << 40)
			_, err = RemoveParts(context.Background(), at, live)
			require.NoError(t, err)
			safety, _, _ := b.snapshot(real)
			res, err := restore(1<<40, safety)
			require.NoError(t, err)
			require.Zero(t, res.Others, "%s, cut after %d changes", c.name, n)
			if c.is(real) != want {
				t.Errorf("%s, cut after %d changes:\n%s", c.name, n, differs(real))
			}
			require.NoError(t, os.RemoveAll(real))
		}
	}
}
