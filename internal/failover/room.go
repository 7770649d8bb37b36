package failover

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"candidharbor/internal/beneath"

	"golang.org/x/sys/unix"
)

// above opens the nearest directory over a path that is there.
func (s *Service) above(path string) (fd int, err error) {
	dir, root, err := s.Fixed(path)
	if err != nil {
		return -1, err
	}
	for {
		fd, err := beneath.Open(root, dir)
		if !errors.Is(err, fs.ErrNotExist) || dir == root {
			return fd, err
		}
		dir = filepath.Dir(dir)
	}
}

// sameFilesystem reports whether a rename leads from one path to another.
func (s *Service) sameFilesystem(a, b string) bool {
	var devices [2]uint64
	for i, path := range []string{a, b} {
		fd, err := s.above(path)
		if err != nil {
			return false
		}
		var st unix.Stat_t
		err = unix.Fstat(fd, &st)
		unix.Close(fd)
		if err != nil {
			return false
		}
		devices[i] = st.Dev
	}
	return devices[0] == devices[1]
}

// roomAt is how many bytes are free where a path is to lie; 0: it is not known.
func (s *Service) roomAt(path string) int64 {
	fd, err := s.above(path)
	if err != nil {
		return 0
	}
	defer unix.Close(fd)
	var st unix.Statfs_t
	if unix.Fstatfs(fd, &st) != nil {
		return 0
	}
	return int64(st.Bavail) * st.Bsize
}

// isThere finds whether there is something at a path below a root; nothing of it is opened.
func (o *act) isThere(path string) error {
	dir, root, err := o.fileOf(path)
	if err != nil {
		return err
	}
	fd, err := beneath.Open(root, filepath.Dir(dir))
	if err == nil {
		var st unix.Stat_t
		err = unix.Fstatat(fd, filepath.Base(dir), &st, unix.AT_SYMLINK_NOFOLLOW)
		unix.Close(fd)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s is not there", path)
	}
	return err
}
