package clones

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/recovery"
	"candidharbor/internal/refusal"
	shown "candidharbor/internal/views"
	"candidharbor/internal/visible"
)

// Mount shows a volume's snapshots as a filesystem on this host, also after the service
// starts anew.
func (s *Service) Mount(ask api.MountAsk, by string) (*api.Mount, error) {
	if v, err := s.Catalog.Volume(ask.Volume); err != nil {
		return nil, err
	} else if err := recovery.FilesOf(v); err != nil {
		return nil, err
	}
	dir, root, err := s.UnderRoot(ask.Dir, true)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if m, ok := s.mounted[dir]; ok {
		return nil, refusal.Conflictf("the snapshots of %s are mounted at %s already: candid mount --end %s takes that away",
			m.view.Volume, dir, visible.Word(dir))
	}
	spot, err := emptySpot(root, dir)
	if err != nil {
		return nil, err
	}
	m := api.Mount{Volume: ask.Volume, Dir: dir, Since: s.Clock.Now(), By: by}
	if err := s.mount(m, spot); err != nil {
		return nil, err
	}
	if err := s.Catalog.PutMount(&catalog.Mount{Dir: m.Dir, Volume: m.Volume, Since: catalog.At(m.Since),
		MadeBy: m.By}); err != nil {
		return nil, errors.Join(err, s.mounted[dir].fs.End(true))
	}
	s.run.Tell("mounts")
	return &m, nil
}

type mountedView struct {
	view api.Mount
	fs   *shown.Mounted
}

// makeSpot makes the directory for a mount when it is not there; the one that it lies in has to be.
func makeSpot(root, dir string) (made bool, err error) {
	if dir == root {
		return false, nil
	}
	parent, err := beneath.Root(root, filepath.Dir(dir))
	if err != nil {
		return false, refusal.Badf("%s cannot be made: %s", dir, datadir.Plain(err))
	}
	defer parent.Close()
	switch err := parent.Mkdir(filepath.Base(dir), 0o755); {
	case err == nil:
		return true, nil
	case errors.Is(err, fs.ErrExist):
		return false, nil
	default:
		return false, refusal.Badf("%s cannot be made: %s", dir, datadir.Plain(err))
	}
}

// removeSpot takes a directory away that was made for a mount, unless something is in it.
func removeSpot(root, dir string) {
	if parent, err := beneath.Root(root, filepath.Dir(dir)); err == nil {
		_ = parent.Remove(filepath.Base(dir))
		parent.Close()
	}
}

// emptySpot opens a directory to be mounted on, in which nothing is.
func emptySpot(root, dir string) (*shown.Spot, error) {
	spot, err := shown.OpenSpot(root, dir)
	if err != nil {
		return nil, refusal.Badf("%s cannot be mounted on: %s", dir, datadir.Plain(err))
	}
	empty, err := spot.Empty()
	switch {
	case err != nil:
		err = refusal.Badf("%s cannot be mounted on: %s", dir, datadir.Plain(err))
	case !empty:
		err = refusal.Badf("%s is not empty: what is in it would be hidden; make a new directory", dir)
	}
	if err != nil {
		spot.Close()
		return nil, err
	}
	return spot, nil
}

// spotAgain opens a directory that was mounted on before, and takes away what is left there.
func (s *Service) spotAgain(dir string) (*shown.Spot, error) {
	root := s.DrillHome()
	if !strings.HasPrefix(dir, root+"/") {
		var err error
		if dir, root, err = s.Fixed(dir); err != nil {
			return nil, err
		}
	}
	spot, err := shown.OpenSpot(root, dir)
	if err != nil {
		return nil, err
	}
	if err := spot.Clear(); err != nil {
		spot.Close()
		return nil, err
	}
	return spot, nil
}

// staging is where mounts are put together.
func (s *Service) staging() string { return filepath.Join(s.Path, "mounting") }

// mount mounts at a spot, and closes it when that fails.
func (s *Service) mount(m api.Mount, at *shown.Spot) error {
	fs, err := shown.Mount(s.recovery.Views(), m.Volume, at, s.staging(), s.Log)
	if err != nil {
		at.Close()
		return refusal.Conflictf("the snapshots of %s cannot be mounted at %s: %s. The service needs the right to mount "+
			"and /dev/fuse; WebDAV at /dav shows the same without", m.Volume, m.Dir, err)
	}
	s.mounted[m.Dir] = mountedView{m, fs}
	return nil
}

// Mounts lists what is mounted, by directory.
func (s *Service) Mounts() []api.Mount {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Mount{}
	for _, m := range s.mounted {
		out = append(out, m.view)
	}
	slices.SortFunc(out, func(a, b api.Mount) int { return strings.Compare(a.Dir, b.Dir) })
	return out
}

// EndMount takes a mount away.
func (s *Service) EndMount(dir string, anyway bool) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	m, ok := s.mounted[dir]
	if !ok {
		return "", refusal.Missingf("nothing is mounted at %s by this service: candid mount --list shows what is", dir)
	}
	if err := m.fs.End(anyway); err != nil {
		return "", refusal.Conflictf("%s is in use: someone has a file or directory in it open (%s); with --anyway it "+
			"goes as soon as they have left", dir, err)
	}
	delete(s.mounted, dir)
	if err := s.Catalog.RemoveMount(dir); err != nil {
		return "", err
	}
	s.run.Tell("mounts")
	return fmt.Sprintf("The snapshots of %s are not at %s any more.", m.view.Volume, dir), nil
}

// MountAgain mounts what was mounted when the service ended.
func (s *Service) MountAgain() error {
	all, err := s.Catalog.Mounts()
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, row := range all {
		m := api.Mount{Volume: row.Volume, Dir: row.Dir, Since: row.Since.Time, By: row.MadeBy}
		spot, err := s.spotAgain(m.Dir)
		if err == nil {
			err = s.mount(m, spot)
		}
		if err != nil {
			s.Log.Warn("what was mounted is not any more", "directory", m.Dir, "error", err)
		}
	}
	return nil
}

// EndMounts takes all mounts away when the service ends; the next start brings them back.
func (s *Service) EndMounts() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for dir, m := range s.mounted {
		if err := m.fs.Stop(); err != nil {
			s.Log.Warn("a mount could not be taken away", "directory", dir, "error", err)
		}
		delete(s.mounted, dir)
	}
}
