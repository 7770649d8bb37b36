package store

import (
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// reserveBytes are held back so that removal and sweep work on a full disk.
const reserveBytes = 16 << 20

func freeBytes(dir string) int64 {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil {
		return 0
	}
	return int64(st.Bavail) * st.Bsize
}

// keepReserve allocates the reserve when there is room to spare.
func (s *Store) keepReserve() {
	path := filepath.Join(s.dir, "reserve")
	if st, err := os.Stat(path); err == nil && st.Size() == reserveBytes {
		return
	}
	if freeBytes(s.dir) < 8*reserveBytes {
		return
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return
	}
	defer f.Close()
	if unix.Fallocate(int(f.Fd()), 0, 0, reserveBytes) != nil {
		os.Remove(path)
	}
}

// MakeRoom gives the reserve up when the disk is nearly full, so that removing and sweeping
// can write what they must. The next sweep that finds room takes it again.
func (s *Store) MakeRoom() {
	if freeBytes(s.dir) < 2*reserveBytes {
		os.Remove(filepath.Join(s.dir, "reserve"))
	}
}
