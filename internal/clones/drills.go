package clones

import (
	"errors"
	"io/fs"
	"path/filepath"

	"candidharbor/api"
	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	shown "candidharbor/internal/views"

	"golang.org/x/sys/unix"
)

// DrillHome is where directories of drills lie for which a runbook names no other place.
func (s *Service) DrillHome() string { return filepath.Join(s.Path, "drills") }

// free returns a clone that belongs to no drill.
func (s *Service) free(name string) (*catalog.Clone, error) {
	c, err := s.clone(name)
	if err == nil && c.Drill != "" {
		return nil, refusal.Conflictf("the clone %s belongs to the drill %s, and goes with it: candid drill end %s", name,
			c.Drill, c.Drill)
	}
	return c, err
}

// MakeForDrill makes a clone of a snapshot that goes with a drill: of a directory at dir, which lies beneath root and
// is made; of a disk as an export of the clone's name.
func (s *Service) MakeForDrill(drill, name, volume, snapshot, dir, root, by string) error {
	ask := api.CloneAsk{Name: name, Volume: volume, At: snapshot, Dir: dir}
	if dir != "" {
		fd, err := beneath.MakeAll(root, dir, 0o755)
		if err != nil {
			return err
		}
		unix.Close(fd)
	}
	_, err := s.makeClone(ask, by, drill, root)
	s.run.Tell("clones")
	return err
}

// OfDrill are the clones of a drill.
func (s *Service) OfDrill(drill string) (own []*catalog.Clone, err error) {
	all, err := s.Catalog.Clones()
	for _, c := range all {
		if c.Drill == drill {
			own = append(own, c)
		}
	}
	return own, err
}

// EndDrill takes all clones of a drill away, from whoever is in them.
func (s *Service) EndDrill(drill string) error {
	own, err := s.OfDrill(drill)
	if err != nil {
		return err
	}
	for _, c := range own {
		if isDisk(c) {
			s.mu.Lock()
			derr := s.endDiskClone(c, true)
			s.mu.Unlock()
			err = errors.Join(err, derr)
		} else if eerr := s.endForGood(c); eerr != nil {
			err = errors.Join(err, eerr)
		}
	}
	s.run.Tell("clones")
	return err
}

// endForGood takes a clone of a directory away, also what a service that was killed left mounted of it.
func (s *Service) endForGood(c *catalog.Clone) error {
	if err := s.endClone(c, true); err != nil {
		return err
	}
	spot, err := s.spotAgain(c.Dir)
	if err == nil {
		err = shown.ClearClone(s.CloneHome(c.Name), spot)
		spot.Close()
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return s.forgetClone(c.Name)
}
