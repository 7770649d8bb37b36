package route

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"candidharbor/internal/beneath"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sys/unix"
)

// AdoptStandby makes the directory in which a copy is laid out the volume itself: where it lies, or, by one rename, at
// another path. It reports false when what lies there is not the snapshot and nothing else. Done again after a crash it
// finds what it did.
func (s *Service) AdoptStandby(ctx context.Context, v *catalog.Volume, row *catalog.Snapshot, to string) (path string,
	ok bool, err error) {
	if v.Standby != standbyExact || v.StandbyDir == "" {
		return "", false, nil
	}
	release, err := s.run.Hold(ctx, run.KeyStandby.Of(v.Name))
	if err != nil {
		return "", false, err
	}
	defer release()
	dir, root, err := s.Fixed(v.StandbyDir)
	if err != nil {
		return "", false, err
	}
	parent, active, _, _ := standbyNames(dir)
	at, err := beneath.Open(root, parent)
	if errors.Is(err, fs.ErrNotExist) {
		return "", false, nil
	} else if err != nil {
		return "", false, err
	}
	defer unix.Close(at)
	state, err := readStandby(at, active)
	if err != nil {
		return "", false, err
	}
	if to == "" {
		to = dir
	}
	to, toRoot, err := s.UnderRoot(to, false)
	if err != nil {
		return "", false, err
	}
	if to != dir {
		above, err := beneath.Open(toRoot, filepath.Dir(to))
		if err != nil {
			return "", false, err
		}
		defer unix.Close(above)
		if ino, err := inodeOf(above, filepath.Base(to)); err == nil && state[ino].id() == row.ID {
			return to, true, nil // before a crash
		}
		ok, err := s.asLaidOut(ctx, v, at, active, state, row)
		if err != nil || !ok {
			return "", false, err
		}
		// An empty directory makes room; anything else is in the way.
		if err := unix.Unlinkat(above, filepath.Base(to), unix.AT_REMOVEDIR); err != nil && !errors.Is(err, unix.ENOENT) {
			return "", false, &os.PathError{Op: "make room at", Path: to, Err: err}
		}
		err = unix.Renameat2(at, active, above, filepath.Base(to), unix.RENAME_NOREPLACE)
		if errors.Is(err, unix.EXDEV) {
			return "", false, nil // it is restored there
		}
		if err == nil {
			err = errors.Join(unix.Fsync(above), unix.Fsync(at))
		}
		if err != nil {
			return "", false, &os.PathError{Op: "move to", Path: to, Err: err}
		}
		return to, true, nil
	}
	ok, err = s.asLaidOut(ctx, v, at, active, state, row)
	return dir, ok, err
}

// EndStandby takes away what keeping a copy laid out needed, once its directory is the volume.
func (s *Service) EndStandby(v *catalog.Volume) error {
	if v.Standby == "" {
		return nil
	}
	if v.StandbyDir != "" {
		if err := s.removeIdle(v.StandbyDir); err != nil {
			return err
		}
	}
	return s.Catalog.SetStandby(v.Name, "", "", "")
}

// asLaidOut reports whether what lies in an open directory is a snapshot, and nobody wrote into it.
func (s *Service) asLaidOut(ctx context.Context, v *catalog.Volume, at int, active string, state standbyState,
	row *catalog.Snapshot) (bool, error) {
	ino, err := inodeOf(at, active)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil || state[ino].id() != row.ID {
		return false, err
	}
	lease := s.Store.NewLease()
	defer lease.Release()
	ck, err := capture.ChunkerOf(v)
	if err != nil {
		return false, err
	}
	look := tree.StraysOptions{Source: s.Store, Chunker: ck, Dir: at, Name: active, Since: state[ino].since(),
		Root: s.Leased(lease, row.ID)}
	if look.Root == nil {
		return false, nil
	}
	found, err := tree.Strays(ctx, look)
	if len(found) > 0 {
		s.Log.Warn("others wrote into a copy that is laid out; it is not taken as it is", "volume", v.Name, "paths",
			len(found), "first", found[0].Path)
	}
	return err == nil && len(found) == 0, err
}
