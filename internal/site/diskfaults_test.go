package site

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"candidharbor/api"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/disk"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// faults are what a filesystem has, by operation.
type faults struct {
	mu sync.Mutex
	is map[string]syscall.Errno
	at map[string]int64 // only from this offset on
}

func (f *faults) set(op string, errno syscall.Errno, from int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.is[op], f.at[op] = errno, from
}

func (f *faults) of(op string, off int64) syscall.Errno {
	f.mu.Lock()
	defer f.mu.Unlock()
	if off < f.at[op] {
		return 0
	}
	return f.is[op]
}

// faultyNode is a file of a directory that lies elsewhere, with faults.
type faultyNode struct {
	fs.LoopbackNode
	f *faults
}

// WrapChild has all below be faulty too.
func (n *faultyNode) WrapChild(_ context.Context, _ fs.InodeEmbedder) fs.InodeEmbedder {
	return &faultyNode{fs.LoopbackNode{RootData: n.RootData}, n.f}
}

func (n *faultyNode) Open(ctx context.Context, flags uint32) (fs.FileHandle, uint32, syscall.Errno) {
	h, how, errno := n.LoopbackNode.Open(ctx, flags)
	if errno != 0 {
		return nil, 0, errno
	}
	return &faultyFile{h, n.f}, how | fuse.FOPEN_DIRECT_IO, 0 // nothing is answered by the kernel's memory
}

func (n *faultyNode) Create(ctx context.Context, name string, flags, mode uint32, out *fuse.EntryOut) (*fs.Inode,
	fs.FileHandle, uint32, syscall.Errno) {
	in, h, how, errno := n.LoopbackNode.Create(ctx, name, flags, mode, out)
	if errno != 0 {
		return nil, nil, 0, errno
	}
	return in, &faultyFile{h, n.f}, how | fuse.FOPEN_DIRECT_IO, 0
}

type faultyFile struct {
	is fs.FileHandle
	f  *faults
}

func (h *faultyFile) Read(ctx context.Context, p []byte, off int64) (fuse.ReadResult, syscall.Errno) {
	if errno := h.f.of("read", off); errno != 0 {
		return nil, errno
	}
	return h.is.(fs.FileReader).Read(ctx, p, off)
}

func (h *faultyFile) Write(ctx context.Context, p []byte, off int64) (uint32, syscall.Errno) {
	if errno := h.f.of("write", off); errno != 0 {
		return 0, errno
	}
	return h.is.(fs.FileWriter).Write(ctx, p, off)
}

func (h *faultyFile) Fsync(ctx context.Context, flags uint32) syscall.Errno {
	if errno := h.f.of("sync", 0); errno != 0 {
		return errno
	}
	return h.is.(fs.FileFsyncer).Fsync(ctx, flags)
}

func (h *faultyFile) Allocate(ctx context.Context, off, size uint64, mode uint32) syscall.Errno {
	return h.is.(fs.FileAllocater).Allocate(ctx, off, size, mode)
}

func (h *faultyFile) Lseek(ctx context.Context, off uint64, whence uint32) (uint64, syscall.Errno) {
	return h.is.(fs.FileLseeker).Lseek(ctx, off, whence)
}

func (h *faultyFile) Release(ctx context.Context) syscall.Errno {
	return h.is.(fs.FileReleaser).Release(ctx)
}

// faulty mounts a filesystem of the test's own.
func (w *world) faulty() (dir string, f *faults) {
	if os.Getuid() != 0 {
		w.t.Skip("only root mounts")
	}
	f = &faults{is: map[string]syscall.Errno{}, at: map[string]int64{}}
	behind := filepath.Join(w.t.TempDir(), "behind")
	dir = filepath.Join(w.dir, "faulty")
	require.NoError(w.t, os.Mkdir(behind, 0o700))
	require.NoError(w.t, os.Mkdir(dir, 0o700))
	data := &fs.LoopbackRoot{Path: behind}
	root := &faultyNode{fs.LoopbackNode{RootData: data}, f}
	data.RootNode = root
	server, err := fs.Mount(dir, root, &fs.Options{MountOptions: fuse.MountOptions{DirectMount: true}})
	if err != nil {
		w.t.Skipf("this kernel does not mount: %v", err)
	}
	w.t.Cleanup(func() {
		require.NoError(w.t, unix.Unmount(dir, unix.MNT_DETACH))
		server.Wait()
	})
	return dir, f
}

// A filesystem that is full, cannot be read, written or synced, is told to the client and to people as what it is; what
// was promised stands, and no snapshot has what the disk never had.
func TestDiskOnAFaultyFilesystem(t *testing.T) {
	w := newWorld(t)
	dir, f := w.faulty() // first, so that it ends last
	s := w.open("here")
	ask := api.VolumeAdd{Name: "db", SizeBytes: diskSize, Image: filepath.Join(dir, "db.img"),
		Import: filepath.Join(w.dir, "raw")}
	holds, r := make([]byte, diskSize), rand.New(rand.NewPCG(9, 9))
	for i := range holds {
		holds[i] = byte(r.Uint32())
	}
	require.NoError(t, os.WriteFile(ask.Import, holds, 0o600))
	for op, errno := range map[string]syscall.Errno{"write": unix.ENOSPC, "sync": unix.EIO} { // it cannot be made
		f.set(op, errno, 1<<20)
		if op == "sync" {
			f.set(op, errno, 0)
		}
		_, err := s.Capture.AddVolume(w.ctx, ask)
		require.ErrorContains(t, err, errno.Error())
		require.NotEqual(t, refusal.Internal, refusal.ClassOf(err), "%s", err)
		require.Empty(t, must(os.ReadDir(dir)))
		require.Empty(t, must(s.Catalog.Volumes()))
		f.set(op, 0, 0)
	}
	_, err := s.Capture.AddVolume(w.ctx, ask)
	require.NoError(t, err)
	d := must(s.Disks.Disk("db"))
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))

	// No room: that client is told, and goes on where there is some.
	f.set("write", unix.ENOSPC, 1<<20)
	require.Equal(t, unix.ENOSPC, disk.Errno(d.WriteAt(w.ctx, []byte("there is no room"), 2<<20, false)))
	require.NoError(t, d.WriteAt(w.ctx, []byte("here it is"), 1000, true))
	copy(holds[1000:], "here it is")
	f.set("write", 0, 0)
	require.NoError(t, d.WriteAt(w.ctx, []byte("there is room again"), 2<<20, false))
	copy(holds[2<<20:], "there is room again")
	require.True(t, bytes.Equal(holds, w.diskBytes(s, "db")))
	require.NoError(t, d.Failed())

	// Unreadable bytes are an error to who asks for them, and no snapshot is taken without them.
	before := len(w.rows(s, "db"))
	f.set("read", unix.EIO, 2<<20)
	require.Equal(t, unix.EIO, disk.Errno(d.ReadAt(make([]byte, 512), 2<<20)))
	require.NoError(t, d.ReadAt(make([]byte, 512), 0))
	run := must(s.Run.Wait(w.ctx, must(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test")).ID))
	require.Equal(t, api.RunFailed, run.State)
	require.Contains(t, run.Outcome, "input/output error")
	require.Len(t, w.rows(s, "db"), before)
	// A write of after an instant that cannot keep what was there goes on: the snapshot is given up.
	in, err := disk.Freeze(d)
	require.NoError(t, err)
	require.NoError(t, d.WriteAt(w.ctx, []byte("goes on"), 2<<20, false))
	copy(holds[2<<20:], "goes on")
	_, err = in[0].Harvest(w.ctx, s.Store.NewWriter(s.Store.NewLease()), nil)
	require.ErrorIs(t, err, disk.ErrGivenUp)
	require.NoError(t, in[0].GiveUp())
	f.set("read", 0, 0)
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	require.True(t, bytes.Equal(holds, w.imageOf(s, "db", "latest")))

	// A sync that fails ends what can be promised, and says so until a person has looked.
	require.NoError(t, d.WriteAt(w.ctx, []byte("promised"), 5000, true))
	copy(holds[5000:], "promised")
	f.set("sync", unix.EIO, 0)
	require.NoError(t, d.WriteAt(w.ctx, []byte("not promised"), 6000, false))
	require.Equal(t, unix.EIO, disk.Errno(d.Flush(w.ctx)))
	f.set("sync", 0, 0)
	require.ErrorIs(t, d.WriteAt(w.ctx, []byte("x"), 0, false), disk.ErrFailed)
	require.ErrorIs(t, d.Flush(w.ctx), disk.ErrFailed)
	require.Equal(t, api.DiskFailed, must(s.Disks.Show("db")).State)
	shown := must(s.Disks.OpenDisk(w.ctx, "db", false))
	require.NotNil(t, shown.Suspect)
	require.Contains(t, shown.Sentence, "A sync of it failed")
	shown = must(s.Disks.OpenDisk(w.ctx, "db", false))
	require.Nil(t, shown.Suspect)
	copy(holds[6000:], "not promised") // the kernel went on, so it is there
	require.True(t, bytes.Equal(holds, w.diskBytes(s, "db")))
	w.done(s)(s.Capture.TakeSnapshot("db", api.SnapshotTake{}, "test"))
	require.True(t, bytes.Equal(holds, w.imageOf(s, "db", "latest")))
	require.NoError(t, s.Close())
}
