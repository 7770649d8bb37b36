package disks

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/disk"
)

// NewLineage makes the identity of the history of a disk.
func NewLineage() string {
	var b [16]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// clone is a clone as if it were a volume: it lies with the site's own data.
func (s *Service) clone(c *catalog.Clone) *catalog.Volume {
	v := &catalog.Volume{Name: c.Name, Lineage: c.Lineage, Kind: catalog.KindBlock, Origin: s.Name(), Protected: true,
		Path: filepath.Join(s.home(c.Lineage), "image")}
	s.mu.Lock()
	defer s.mu.Unlock()
	if is := s.open[c.Name]; is != nil {
		v.ChunkAvg = int(is.d.Block())
	}
	return v
}

// canName refuses a name under which clients know another disk.
func (s *Service) canName(name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[name] != nil || s.closed[name] != nil {
		return refusal.Conflictf("clients know another disk as %s: choose another name", name)
	}
	return nil
}

// MakeClone makes a disk that is as a snapshot has it, takes room for what is written, and is open to
// clients under its name.
func (s *Service) MakeClone(ctx context.Context, c *catalog.Clone, of disk.Stored, block uint32) error {
	release, err := s.run.Hold(ctx, run.KeyDisk.Of(c.Name))
	if err != nil {
		return err
	}
	defer release()
	if err := s.canName(c.Name); err != nil {
		return err
	}
	v := s.clone(c)
	if err := s.Create(v, disk.Shape{Size: of.Size, Block: block, Origin: of}, nil); err != nil {
		return err
	}
	return s.Open(v)
}

// EndClone takes a clone away with what was written. With anyway clients that have it open are disconnected;
// else it is refused while there are any.
func (s *Service) EndClone(ctx context.Context, c *catalog.Clone, anyway bool) error {
	if c.Lineage == "" {
		return fmt.Errorf("the clone %s has no lineage yet: it gets one when the service starts anew", c.Name)
	}
	release, err := s.run.Hold(ctx, run.KeyDisk.Of(c.Name))
	if err != nil {
		return err
	}
	defer release()
	if is, err := s.served(c.Name); err == nil {
		if _, err := is.shutOut(ctx, anyway); err != nil {
			return err
		}
	}
	if err := s.stop(ctx, c.Name); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.closed, c.Name)
	s.mu.Unlock()
	s.hostsMu.Lock() // who is let in meanwhile is not let into another clone of this name
	err = s.Catalog.ForgetDisk(c.Lineage, c.Name)
	s.hostsMu.Unlock()
	if err != nil {
		return err
	}
	return s.destroy(s.clone(c))
}

// ShowClone tells of a clone: how it stands, and the bytes that it takes itself.
func (s *Service) ShowClone(c *catalog.Clone) (d *api.Disk, own int64) {
	s.mu.Lock()
	is := s.open[c.Name]
	s.mu.Unlock()
	if is != nil {
		own = is.d.Allocated()
	}
	return s.view(s.clone(c)), own
}

// Become makes a clone a volume of its name, where it is and at once: its clients go on. What it reads from its
// snapshot stays in the store as long as it does.
func (s *Service) Become(ctx context.Context, name string, labels map[string]string) (*catalog.Volume, error) {
	release, err := s.alone(ctx, name)
	if err != nil {
		return nil, err
	}
	defer release()
	c, err := s.Catalog.Clone(name)
	if err != nil {
		return nil, err
	}
	if _, err := s.served(name); err != nil {
		return nil, err
	}
	if c.Ending {
		return nil, refusal.Conflictf("the clone %s is being discarded", name)
	}
	if _, err := s.Catalog.Volume(name); !errors.Is(err, catalog.ErrNone) {
		return nil, errors.Join(refusal.Conflictf("volume %s is there already: the clone of that name cannot become one, "+
			"but be discarded", name), err)
	}
	v := s.clone(c)
	v.Added, v.ScheduledUntil = catalog.At(s.Clock.Now()), catalog.At(s.Clock.Now())
	v.Labels.V, v.Excludes.V = labels, []string{}
	return v, s.Catalog.Atomically(func(t *catalog.Catalog) error {
		if err := t.PutVolume(v); err != nil {
			return err
		}
		return t.RemoveClone(name)
	})
}

// openClone opens a clone that was there when the service ended. The first ones had no lineage, and lay under
// their names.
func (s *Service) openClone(c *catalog.Clone) error {
	if c.Lineage == "" {
		c.Lineage = NewLineage()
		if err := s.Catalog.PutClone(c); err != nil {
			return err
		}
	}
	home := s.home(c.Lineage)
	if _, err := os.Lstat(home); errors.Is(err, os.ErrNotExist) {
		err := os.Rename(s.home("clone-"+c.Name), home)
		if err == nil {
			err = store.SyncDir(filepath.Dir(home))
		}
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	if c.Ending {
		return nil
	}
	return s.Open(s.clone(c))
}
