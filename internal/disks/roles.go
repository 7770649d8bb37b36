package disks

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"

	"candidharbor/internal/catalog"
	"candidharbor/internal/volume/disk"
)

// StandBack keeps clients from a disk; those that are connected are disconnected. The disk stays open, so that what was
// written and nobody has can be stored.
func (s *Service) StandBack(ctx context.Context, v *catalog.Volume) error {
	release, err := s.alone(ctx, v.Name)
	if err != nil {
		return err
	}
	defer release()
	return s.shut(ctx, v)
}

// Leave is StandBack for a disk that another site is active of, whatever is left of it here. It reports whether it has
// something of its own: an image that follows what arrives has not, and what cannot be read as that disk is put aside.
// Where its records are then is aside.
func (s *Service) Leave(ctx context.Context, v *catalog.Volume) (has bool, aside string, err error) {
	release, err := s.alone(ctx, v.Name)
	if err != nil {
		return false, "", err
	}
	defer release()
	if !s.IsOpen(v.Name) && s.standby(v.Lineage) != nil {
		return false, "", nil
	}
	err = s.shut(ctx, v)
	if errors.Is(err, disk.ErrOtherImage) && s.sameSize(v) {
		// It was put back, with its records or without. All of it is read anew, and no client gets at it.
		if _, err = s.enterDisk(v, true); err == nil {
			err = s.shut(ctx, v)
		}
	}
	if errors.Is(err, disk.ErrOtherImage) || errors.Is(err, disk.ErrDamaged) {
		aside, err = s.putAside(v)
		return false, aside, err
	}
	return err == nil, "", err
}

// sameSize reports whether an image has the size that the records of its disk say.
func (s *Service) sameSize(v *catalog.Volume) bool {
	image, err := s.openImage(v.Path, v.Lineage, false)
	if err != nil {
		return false
	}
	defer image.Close()
	st, err := image.Stat()
	shape, serr := disk.ShapeOf(s.options(v, image).Files)
	return err == nil && serr == nil && st.Size() == shape.Size
}

// ShutNow is StandBack that waits for no snapshot which is being taken.
func (s *Service) ShutNow(ctx context.Context, v *catalog.Volume) error {
	if !s.IsOpen(v.Name) {
		return nil
	}
	return s.shut(ctx, v)
}

func (s *Service) shut(ctx context.Context, v *catalog.Volume) error {
	s.mu.Lock()
	is := s.open[v.Name]
	s.mu.Unlock()
	if is == nil {
		if b := s.standby(v.Lineage); b != nil {
			return nil // it follows already
		}
		if _, err := s.enterDisk(v, false); err != nil {
			return err
		}
		if is, _ = s.served(v.Name); is == nil {
			return &NotOpenError{v.Name, nil}
		}
	}
	is.mu.Lock()
	shut := is.away > 0 && len(is.clients) == 0
	is.mu.Unlock()
	if shut {
		return nil
	}
	_, err := is.shutOut(ctx, true) // nobody lets them in again but Serves
	return err
}

// ServeAgain lets clients in again, after StandBack of a disk that this site is active of after all. One that is served
// stays as it is.
func (s *Service) ServeAgain(ctx context.Context, v *catalog.Volume) error {
	release, err := s.alone(ctx, v.Name)
	if err != nil {
		return err
	}
	defer release()
	s.mu.Lock()
	is := s.open[v.Name]
	s.mu.Unlock()
	if is != nil {
		is.mu.Lock()
		serves := is.away == 0
		is.mu.Unlock()
		if serves {
			return nil
		}
	}
	if err := s.stop(ctx, v.Name); err != nil {
		return err
	}
	return s.openActive(ctx, v)
}

// openActive opens a disk, and shuts it again where another site has become active of it meanwhile: who told of that
// may have found it closed.
func (s *Service) openActive(ctx context.Context, v *catalog.Volume) error {
	if err := s.Open(v); err != nil {
		return err
	}
	now, err := s.Catalog.VolumeOfLineage(v.Lineage)
	if err == nil && !now.ActiveAt(s.Name()) {
		err = errNotActive
	}
	if err != nil {
		return errors.Join(err, s.shut(ctx, v))
	}
	return nil
}

// errNotActive is of serving what another site is active of.
var errNotActive = errors.New("another site has become active of the disk")

// Yield has the image of a disk follow what arrives from the site that is active now. All that is in it is stored.
func (s *Service) Yield(ctx context.Context, v *catalog.Volume) error {
	release, err := s.alone(ctx, v.Name)
	if err != nil {
		return err
	}
	defer release()
	if err := s.stop(ctx, v.Name); err != nil {
		return err
	}
	if _, err := s.begin(v); err != nil {
		return err
	}
	return s.Catalog.SetFilledCopy(v.Lineage, true)
}

// TakeUp serves a disk as a snapshot has it, at once: from the image that followed it, from the one that it had here
// before, or from a new one that reads from the store. Up makes it durable that the disk is this site's again: it is
// called before any client writes, so that what one wrote is not gone back over after a power cut.
func (s *Service) TakeUp(ctx context.Context, v *catalog.Volume, row *catalog.Snapshot, up func() error) error {
	release, err := s.alone(ctx, v.Name)
	if err != nil {
		return err
	}
	defer release()
	s.mu.Lock()
	is, b := s.open[v.Name], s.follow[v.Lineage]
	s.mu.Unlock()
	if is != nil {
		is.mu.Lock()
		serving := is.away == 0
		is.mu.Unlock()
		if serving {
			return up()
		}
		if err := s.stop(ctx, v.Name); err != nil {
			return err
		}
	}
	if b != nil {
		select {
		case b.turn <- struct{}{}:
		case <-ctx.Done():
			return ctx.Err()
		}
		defer func() { <-b.turn }()
		if err := b.close(); err != nil {
			s.Log.Warn("the image of a copy was not closed well", "volume", v.Name, "error", err)
		}
	}
	to, block, err := s.storedDisk(row)
	if err != nil {
		return err
	}
	own := s.imageOfCopy(v)
	if err := s.beAs(ctx, own, to, block); err != nil {
		return err
	}
	if err := s.Catalog.SetPath(v.Name, own.Path); err != nil {
		return err
	}
	if err := s.Catalog.SetFilledCopy(v.Lineage, false); err != nil {
		return err
	}
	s.mu.Lock()
	if s.follow[v.Lineage] == b {
		delete(s.follow, v.Lineage)
	}
	s.mu.Unlock()
	if b != nil {
		b.mu.Lock()
		b.ended = true
		b.mu.Unlock()
	}
	if err := up(); err != nil {
		return err
	}
	return s.openActive(ctx, own)
}

// beAs has an image that is closed be as a snapshot has the disk. What cannot become that is put aside, not removed.
func (s *Service) beAs(ctx context.Context, v *catalog.Volume, to disk.Stored, block uint32) error {
	d, err := s.openDisk(v, false)
	if err == nil {
		if d.Base() != to || d.Size() != to.Size || d.ChangedBlocks() > 0 {
			if err = errOtherBlocks; d.Block() == block {
				err = d.GoBack(ctx, to)
			}
		}
		err = errors.Join(err, d.Close())
	}
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
	case errors.Is(err, disk.ErrDamaged), errors.Is(err, disk.ErrOtherImage), errors.Is(err, disk.ErrChanged),
		errors.Is(err, errOtherBlocks):
		aside, aerr := s.putAside(v)
		if aerr != nil {
			return aerr
		}
		s.Log.Warn("what an image had is put aside", "volume", v.Name, "aside", aside, "cause", err)
	default:
		return err
	}
	return s.Create(v, disk.Shape{Size: to.Size, Block: block, Origin: to}, nil)
}

// imageOf is where the image of a disk lies at a site that is not active of it.
func (s *Service) imageOf(v *catalog.Volume) string {
	if v.Origin == s.Name() {
		return v.Path
	}
	return filepath.Join(s.home(v.Lineage), "image")
}
