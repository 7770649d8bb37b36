package disks

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/disk"

	"golang.org/x/sys/unix"
)

// IsOpen reports whether a disk is open.
func (s *Service) IsOpen(name string) bool {
	_, err := s.served(name)
	return err == nil
}

// Anew begins a disk that cannot be opened anew, as a snapshot has it, and returns where what was left of it
// is now. The caller holds the volume.
func (s *Service) Anew(ctx context.Context, name string, to disk.Stored, block uint32) (aside string, err error) {
	release, err := s.run.Hold(ctx, run.KeyDisk.Of(name))
	if err != nil {
		return "", err
	}
	defer release()
	v, err := s.volume(name)
	if err != nil {
		return "", err
	}
	if s.IsOpen(name) {
		return "", refusal.Conflictf("the disk %s can be opened: go back without beginning it anew (--anew)", name)
	}
	if aside, err = s.putAside(v); err != nil {
		return "", err
	}
	if err := s.Create(v, disk.Shape{Size: to.Size, Block: block, Origin: to}, nil); err != nil {
		return aside, err
	}
	return aside, s.Open(v)
}

// putAside gives the image and the records of a disk, what there is of them, other names. It returns that of
// the directory with the records, empty when there was none.
func (s *Service) putAside(v *catalog.Volume) (string, error) {
	mark := ".aside-" + s.Clock.Now().UTC().Format("20060102T150405.000000000Z")
	if v.Path != filepath.Join(s.home(v.Lineage), "image") {
		path, root, err := s.Fixed(v.Path)
		if err != nil {
			return "", err
		}
		dir, err := beneath.Open(root, filepath.Dir(path))
		if err != nil {
			return "", err
		}
		defer unix.Close(dir)
		name := filepath.Base(path)
		err = unix.Renameat2(dir, name, dir, name+mark, unix.RENAME_NOREPLACE)
		if err != nil && !errors.Is(err, unix.ENOENT) {
			return "", &os.PathError{Op: "rename", Path: path, Err: err}
		}
		if err := unix.Fsync(dir); err != nil {
			return "", err
		}
	}
	home := s.home(v.Lineage)
	err := os.Rename(home, home+mark)
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	return home + mark, store.SyncDir(filepath.Dir(home))
}
