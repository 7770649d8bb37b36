package recovery

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/internal/beneath"
	"candidharbor/internal/datadir"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/visible"
	"candidharbor/internal/volume/disk"

	"golang.org/x/sys/unix"
)

// isThere reports whether there is anything at a path below a root.
func isThere(root, path string) (bool, error) {
	dir, err := beneath.Open(root, filepath.Dir(path))
	if errors.Is(err, unix.ENOENT) {
		return false, nil
	}
	if err != nil {
		return false, refusal.Badf("%s cannot be made: %s", path, datadir.Plain(err))
	}
	defer unix.Close(dir)
	var st unix.Stat_t
	return unix.Fstatat(dir, filepath.Base(path), &st, unix.AT_SYMLINK_NOFOLLOW) == nil, nil
}

// write writes the bytes into a new file, with holes where there are zeros.
func (o *diskRestore) write(ctx context.Context) (any, string, error) {
	size := o.root.Top.Size
	var done atomic.Int64
	o.j.Begin(func() api.Progress { return api.Progress{DoneBytes: done.Load(), TotalBytes: size} })
	o.j.Say("writing the image")
	dir, err := beneath.MakeAll(o.under, filepath.Dir(o.target), 0o755)
	if err != nil {
		return nil, "", err
	}
	defer unix.Close(dir)
	if err := o.writeNew(ctx, dir, filepath.Base(o.target), &done); err != nil {
		return nil, "", err
	}
	out := o.result()
	out.Created, out.Bytes, out.Summary = 1, size, "1 file created"
	return out, fmt.Sprintf("%s as of %s%s is in %s, a raw image of %s, in %s. Use it with any client, such as: qemu-img "+
		"info -f raw %s", o.v.Name, phrase.Stamp(o.row.Began.Time), o.whence(), o.target, phrase.Size(size),
		phrase.Ago(time.Since(o.begun)), visible.Word(o.target)), unix.Fsync(dir)
}

// whence tells from where a snapshot came that is not here.
func (o *diskRestore) whence() string {
	switch {
	case o.far == nil:
		return ""
	case o.arrives != 0:
		return ", from " + o.far.peer.Name
	}
	return fmt.Sprintf(", from %s (%s fetched)", o.far.peer.Name, phrase.Size(o.far.Fetched.Load()))
}

// writeNew writes a file that gets its name when it is whole, where the filesystem can do that.
func (o *diskRestore) writeNew(ctx context.Context, dir int, name string, done *atomic.Int64) error {
	fd, err := beneath.At(dir, ".", unix.O_WRONLY|unix.O_TMPFILE, 0o600)
	named := err != nil
	if named {
		fd, err = beneath.At(dir, name, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL, 0o600)
	}
	if err != nil {
		return refusal.Conflictf("%s cannot be made: %s", o.target, datadir.Plain(err))
	}
	f := os.NewFile(uintptr(fd), o.target)
	err = o.copy(ctx, f, done)
	if err == nil {
		err = f.Sync()
	}
	if err == nil && !named {
		err = unix.Linkat(unix.AT_FDCWD, beneath.Name(fd), dir, name, unix.AT_SYMLINK_FOLLOW)
	}
	if err = errors.Join(err, f.Close()); err != nil && named {
		err = errors.Join(err, unix.Unlinkat(dir, name, 0))
	}
	return err
}

func (o *diskRestore) copy(ctx context.Context, f *os.File, done *atomic.Int64) error {
	size := o.root.Top.Size
	if err := f.Truncate(size); err != nil {
		return err
	}
	view, err := disk.OpenView(o.s.Store, o.stored(), o.root.Block)
	if err != nil {
		return err
	}
	defer view.Close()
	buf := make([]byte, 1<<20)
	for off := int64(0); off < size; {
		if err := ctx.Err(); err != nil {
			return err
		}
		extents, err := view.Extents(off, size-off)
		if err != nil {
			return err
		}
		for _, e := range extents {
			end := off + e.Length
			for !e.Zero && off < end {
				p := buf[:min(int64(len(buf)), end-off)]
				if err := view.ReadAt(p, off); err != nil {
					return err
				}
				if _, err := f.WriteAt(p, off); err != nil {
					return err
				}
				off += int64(len(p))
				done.Store(off)
			}
			off = end
			done.Store(off)
		}
	}
	return nil
}
