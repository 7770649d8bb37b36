package failover

import (
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"
)

// above is the nearest directory over a path that is there.
func above(path string) string {
	for {
		if _, err := os.Stat(path); err == nil || path == "/" {
			return path
		}
		path = filepath.Dir(path)
	}
}

func (s *Service) sameFilesystem(a, b string) bool {
	var x, y syscall.Stat_t
	if syscall.Stat(above(a), &x) != nil || syscall.Stat(above(b), &y) != nil {
		return false
	}
	return x.Dev == y.Dev
}

func (s *Service) roomAt(path string) (free, total int64) {
	var st unix.Statfs_t
	if unix.Statfs(above(path), &st) != nil {
		return 0, 0
	}
	return int64(st.Bavail) * st.Bsize, int64(st.Blocks) * st.Bsize
}
