package disks

import (
	"context"
	"path/filepath"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/disk"
)

// clone is a clone as if it were a volume: it lies with the site's own data.
func (s *Service) clone(name string, block uint32) *catalog.Volume {
	lineage := "clone-" + name
	return &catalog.Volume{Name: name, Lineage: lineage, Kind: catalog.KindBlock, ChunkAvg: int(block),
		Path: filepath.Join(s.home(lineage), "image")}
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
func (s *Service) MakeClone(ctx context.Context, name string, of disk.Stored, block uint32) error {
	release, err := s.run.Hold(ctx, run.KeyDisk.Of(name))
	if err != nil {
		return err
	}
	defer release()
	if err := s.canName(name); err != nil {
		return err
	}
	v := s.clone(name, block)
	if err := s.Create(v, disk.Shape{Size: of.Size, Block: block, Origin: of}, nil); err != nil {
		return err
	}
	return s.Open(v)
}

// EndClone takes a clone away with what was written. With anyway clients that have it open are disconnected;
// else it is refused while there are any.
func (s *Service) EndClone(ctx context.Context, name string, anyway bool) error {
	release, err := s.run.Hold(ctx, run.KeyDisk.Of(name))
	if err != nil {
		return err
	}
	defer release()
	if is, err := s.served(name); err == nil {
		if _, err := is.shutOut(ctx, anyway); err != nil {
			return err
		}
	}
	if err := s.stop(ctx, name); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.closed, name)
	s.mu.Unlock()
	v := s.clone(name, 0)
	if err := s.Catalog.ForgetDisk(v.Lineage, name); err != nil {
		return err
	}
	return s.destroy(v)
}

// ShowClone tells of a clone: how it stands, and the bytes that it takes itself.
func (s *Service) ShowClone(name string) (d *api.Disk, own int64) {
	v := s.clone(name, 0)
	s.mu.Lock()
	is := s.open[name]
	s.mu.Unlock()
	if is != nil {
		v.ChunkAvg, own = int(is.d.Block()), is.d.Allocated()
	}
	return s.view(v), own
}
