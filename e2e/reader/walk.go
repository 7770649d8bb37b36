package reader

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// Walk describes a directory as List describes a snapshot of it, by the filesystem alone.
func Walk(dir string) (map[string]Entry, error) {
	out := map[string]Entry{}
	err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || p == dir {
			return err
		}
		rel, err := filepath.Rel(dir, p)
		if err != nil {
			return err
		}
		st, err := os.Lstat(p)
		if err != nil {
			return err
		}
		sys := st.Sys().(*syscall.Stat_t)
		e := Entry{Path: rel, Mode: sys.Mode & 0o7777, UID: sys.Uid, GID: sys.Gid, MTime: sys.Mtim.Nano()}
		switch st.Mode().Type() {
		case 0:
			raw, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			sum := sha256.Sum256(raw)
			e.Kind, e.Size, e.SHA256 = 1, st.Size(), hex.EncodeToString(sum[:])
		case fs.ModeDir:
			e.Kind = 2
		case fs.ModeSymlink:
			e.Kind = 3
			if e.Target, err = os.Readlink(p); err != nil {
				return err
			}
		case fs.ModeNamedPipe:
			e.Kind = 4
		case fs.ModeSocket:
			e.Kind = 5
		default:
			e.Kind = 6
			if st.Mode()&fs.ModeCharDevice == 0 {
				e.Kind = 7
			}
		}
		out[rel] = e
		return nil
	})
	return out, err
}

// Differ says where two descriptions differ first; empty when they do not.
func Differ(a, b map[string]Entry) string {
	for path, x := range a {
		y, ok := b[path]
		if !ok {
			return path + " is in the first alone"
		}
		if x.Kind != 1 {
			x.Size, y.Size = 0, 0 // of a directory or a link the filesystem has its own
		}
		if x.Kind == 3 {
			x.Mode, y.Mode = 0, 0
		}
		if x != y {
			return fmt.Sprintf("%s: %+v and %+v", path, x, y)
		}
	}
	for path := range b {
		if _, ok := a[path]; !ok {
			return path + " is in the second alone"
		}
	}
	return ""
}
