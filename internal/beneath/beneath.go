// Package beneath opens what lies below a root once. From then on only what is open counts:
// others may rename what they own, or put links in its place, and change nothing by it.
package beneath

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// ErrLink says that a link stands where none did when a path was resolved.
var ErrLink = errors.New("a link that was put on the way there since is not followed: put back what was meant, or " +
	"name the path that it leads to")

// Open opens a directory that lies below root, or is root itself. The path was resolved before:
// what is a link on it now was put there since.
func Open(root, path string) (fd int, err error) {
	return open(root, path, unix.O_RDONLY|unix.O_DIRECTORY, 0)
}

// File opens a regular file that lies below root to read it. It waits for nobody: of a pipe it
// is refused.
func File(root, path string) (*os.File, error) {
	fd, err := open(root, path, unix.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return file(fd, path)
}

// FileAt is File of a name in an open directory.
func FileAt(dir int, name string) (*os.File, error) {
	fd, err := At(dir, name, unix.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: name, Err: err}
	}
	return file(fd, name)
}

func file(fd int, path string) (*os.File, error) {
	f := os.NewFile(uintptr(fd), path)
	if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
		f.Close()
		return nil, &os.PathError{Op: "open", Path: path, Err: errors.Join(err, errors.New("it is no file"))}
	}
	return f, nil
}

// Root opens a directory that lies below root, for work on what lies below itself.
func Root(root, path string) (*os.Root, error) {
	fd, err := Open(root, path)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	return os.OpenRoot(Name(fd))
}

// MakeAll opens a directory that lies below root, making what lacks of it.
func MakeAll(root, path string, mode uint32) (fd int, err error) {
	rel, err := filepath.Rel(root, path)
	if err != nil || !filepath.IsLocal(rel) {
		return -1, fmt.Errorf("%s is not below %s", path, root)
	}
	if fd, err = Open(root, root); err != nil || rel == "." {
		return fd, err
	}
	for _, name := range strings.Split(rel, "/") {
		err := unix.Mkdirat(fd, name, mode)
		next := -1
		if err == nil || errors.Is(err, unix.EEXIST) {
			next, err = At(fd, name, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		}
		unix.Close(fd)
		if err != nil {
			return -1, &os.PathError{Op: "make", Path: path, Err: err}
		}
		fd = next
	}
	return fd, nil
}

func open(root, path string, flags, mode uint64) (int, error) {
	rel, err := filepath.Rel(root, path)
	if err != nil || !filepath.IsLocal(rel) {
		return -1, fmt.Errorf("%s is not below %s", path, root)
	}
	top, err := unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, &os.PathError{Op: "open", Path: root, Err: err}
	}
	defer unix.Close(top)
	fd, err := At(top, rel, flags, mode)
	if err != nil {
		return -1, &os.PathError{Op: "open", Path: path, Err: err}
	}
	return fd, nil
}

// At opens a name or path below an open directory, by no link.
func At(dir int, name string, flags, mode uint64) (int, error) {
	how := &unix.OpenHow{Flags: flags | unix.O_CLOEXEC, Mode: mode, Resolve: unix.RESOLVE_BENEATH |
		unix.RESOLVE_NO_SYMLINKS}
	for try := 0; ; try++ {
		fd, err := unix.Openat2(dir, name, how)
		if errors.Is(err, unix.ELOOP) || errors.Is(err, unix.EXDEV) {
			return -1, ErrLink
		}
		// openat2(2) fails so when something on the way was renamed meanwhile.
		if again := errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EINTR); !again || try == 100 {
			return fd, err
		}
	}
}

// Name is a path of this process that leads to what is open, for calls that take paths alone.
func Name(fd int) string { return fmt.Sprintf("/proc/self/fd/%d", fd) }
