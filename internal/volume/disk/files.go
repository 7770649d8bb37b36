package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"candidharbor/internal/store"

	"golang.org/x/sys/unix"
)

// File is an image, or a file of maps.
type File interface {
	io.ReaderAt
	io.WriterAt
	// Sync makes what was written durable.
	Sync() error
	// Punch gives the room of a stretch back; it reads as zeros then.
	Punch(off, n int64) error
	// Resize sets the length. With allocate the room is there for good, so that no write fails for want
	// of it.
	Resize(size int64, allocate bool) error
	ID() (imageID, error)
	Close() error
}

// Files are those that a disk keeps beside its image.
type Files interface {
	Open(name string) (File, error)
	Read(name string) ([]byte, error) // fs.ErrNotExist when there is none
	Replace(name string, data []byte) error
	Remove(name string) error
	// Temp makes a file without a name, which goes with its closing.
	Temp() (File, error)
}

// Dir is a directory on disk as Files.
type Dir string

func (d Dir) path(name string) string { return filepath.Join(string(d), name) }

// Open opens a file, making it when it is not there.
func (d Dir) Open(name string) (File, error) {
	_, err := os.Lstat(d.path(name))
	fresh := errors.Is(err, fs.ErrNotExist)
	f, err := os.OpenFile(d.path(name), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if fresh {
		if err := syncDir(string(d)); err != nil {
			f.Close()
			return nil, err
		}
	}
	return Image(f), nil
}

// Read reads a small file.
func (d Dir) Read(name string) ([]byte, error) { return os.ReadFile(d.path(name)) }

// Replace puts a file in place of another, durably.
func (d Dir) Replace(name string, data []byte) error { return store.ReplaceFile(d.path(name), data) }

// Remove takes a file away.
func (d Dir) Remove(name string) error {
	if err := os.Remove(d.path(name)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Temp makes a file without a name.
func (d Dir) Temp() (File, error) {
	f, err := os.CreateTemp(string(d), "aside")
	if err != nil {
		return nil, err
	}
	return Image(f), os.Remove(f.Name())
}

func syncDir(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

type osFile struct {
	*os.File
	memory bool // what is read lies in memory always
}

// Image is an open file as an image.
func Image(f *os.File) File {
	var st unix.Statfs_t
	return &osFile{f, unix.Fstatfs(int(f.Fd()), &st) == nil && st.Type == unix.TMPFS_MAGIC}
}

func (f *osFile) fd() int { return int(f.Fd()) }

func (f *osFile) Sync() error {
	for {
		if err := unix.Fdatasync(f.fd()); !errors.Is(err, unix.EINTR) {
			return err
		}
	}
}

func (f *osFile) Punch(off, n int64) error {
	err := unix.Fallocate(f.fd(), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, off, n)
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOSYS) {
		return nil // the room stays used; what is read there is what the maps say
	}
	return err
}

func (f *osFile) Resize(size int64, allocate bool) error {
	if err := f.Truncate(size); err != nil || !allocate {
		return err
	}
	err := unix.Fallocate(f.fd(), 0, 0, size)
	if errors.Is(err, unix.EOPNOTSUPP) {
		return nil
	}
	return err
}

func (f *osFile) ID() (imageID, error) { return identify(f.File) }

// ReadNoWait reads what the page cache has and gives up at what it has not.
func (f *osFile) ReadNoWait(p []byte, off int64) (int, error) {
	if f.memory {
		return f.ReadAt(p, off)
	}
	return unix.Preadv2(f.fd(), [][]byte{p}, off, unix.RWF_NOWAIT)
}

// NextData is where the next bytes are that are no hole, and where they end.
func (f *osFile) NextData(off int64) (from, to int64, err error) {
	size, err := f.Stat()
	if err != nil {
		return 0, 0, err
	}
	from, err = unix.Seek(f.fd(), off, unix.SEEK_DATA)
	if errors.Is(err, unix.ENXIO) {
		return size.Size(), size.Size(), nil
	}
	if err != nil {
		return 0, 0, err
	}
	to, err = unix.Seek(f.fd(), from, unix.SEEK_HOLE)
	return from, to, err
}

// Allocated is the room that the file takes.
func (f *osFile) Allocated() int64 {
	var st unix.Stat_t
	if unix.Fstat(f.fd(), &st) != nil {
		return 0
	}
	return st.Blocks * 512
}
