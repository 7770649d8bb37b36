package disks

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/disk"
)

// standby is the image of a copy of another site's disk, which follows each arrival. Nobody writes to it. It stays as
// it is while a client reads from it.
type standby struct {
	v    *catalog.Volume
	turn chan struct{} // whoever holds what is in it works on the disk

	mu      sync.Mutex
	d       *disk.Disk        // nil: not yet, or it cannot be opened
	is      *catalog.Snapshot // what the disk is; nil: not known
	moving  bool              // it becomes another one
	ended   bool
	readers int
	why     error // it does not get on
}

func newStandby(v *catalog.Volume) *standby { return &standby{v: v, turn: make(chan struct{}, 1)} }

// sliceOfFilling is how long one copy is filled before another has its turn, and before it is looked whether something
// newer has arrived.
const sliceOfFilling = 5 * time.Second

// imageOfCopy is the volume as its image is kept here: with the site's own data, or, where the history began here,
// where it was.
func (s *Service) imageOfCopy(v *catalog.Volume) *catalog.Volume {
	own := *v
	own.Path = s.imageOf(v)
	return &own
}

func (s *Service) standbys() (all []*standby) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, b := range s.follow {
		all = append(all, b)
	}
	return all
}

// standby is the image of a copy; nil: it has none.
func (s *Service) standby(lineage string) *standby {
	s.mu.Lock()
	defer s.mu.Unlock()
	if b := s.follow[lineage]; b != nil && !b.over() {
		return b
	}
	return nil
}

// openStandbys opens the images of copies. It adds their owners to those that are known.
func (s *Service) openStandbys(known map[string]bool) error {
	lineages, err := s.Catalog.FilledCopies()
	if err != nil {
		return err
	}
	for _, lineage := range lineages {
		v, err := s.Catalog.VolumeOfLineage(lineage)
		if err == nil && !s.isCopy(v) { // this site has become active of it, and serves it from that image once it is up
			if up, err := s.isUp(v); err != nil {
				return err
			} else if !up {
				continue
			}
			if err := s.Catalog.SetFilledCopy(lineage, false); err != nil {
				return err
			}
			continue
		}
		if errors.Is(err, catalog.ErrNone) {
			err = s.Catalog.SetFilledCopy(lineage, false)
			v = nil
		}
		if err != nil {
			return err
		}
		if v == nil { // nobody needs it any more
			if err := s.destroy(s.imageOfCopy(&catalog.Volume{Lineage: lineage})); err != nil {
				return err
			}
			continue
		}
		known[owner(lineage)] = true
		if _, err := s.begin(v); err != nil {
			return err
		}
	}
	return nil
}

// adoptStandby goes on with an image of a copy of which the catalogue does not know that it is filled, or removes one
// of which there is no copy.
func (s *Service) adoptStandby(lineage string, ended bool) error {
	v, err := s.Catalog.VolumeOfLineage(lineage)
	switch {
	case err == nil && !s.isCopy(v): // this site has become active of it
		return s.Open(s.imageOfCopy(v))
	case errors.Is(err, catalog.ErrNone) || err == nil && ended:
		return s.destroy(s.imageOfCopy(&catalog.Volume{Lineage: lineage}))
	case err != nil:
		return err
	}
	if _, err := s.begin(v); err != nil {
		return err
	}
	return s.Catalog.SetFilledCopy(lineage, true)
}

// begin has a copy be followed.
func (s *Service) begin(v *catalog.Volume) (*standby, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	b := s.follow[v.Lineage]
	if b != nil && b.over() {
		return nil, refusal.Conflictf("%s has an image that is to go once nobody reads from it: have its clients leave first",
			v.Name)
	}
	if b == nil {
		b = newStandby(s.imageOfCopy(v))
		s.follow[v.Lineage] = b
	}
	return b, nil
}

// followEvery is how often it is looked whether something has arrived.
const followEvery = 5 * time.Second

// Follow has the images of copies follow what arrives, until the context ends.
func (s *Service) Follow(ctx context.Context) {
	t := time.NewTicker(followEvery)
	defer t.Stop()
	for {
		busy := false
		for _, b := range s.standbys() {
			more, err := s.advance(ctx, b, func(int64) {})
			if ctx.Err() != nil {
				return
			}
			busy = busy || more
			b.trouble(s, err)
		}
		if busy {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// trouble notes why a copy does not get on.
func (b *standby) trouble(s *Service, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err != nil && (b.why == nil || b.why.Error() != err.Error()) {
		s.Log.Error("a copy of a disk cannot be filled", "volume", b.v.Name, "error", err)
	}
	b.why = err
}

// advance has a copy's image be as the newest snapshot that arrived, and fills it for a while. It reports whether there
// is more to do at once.
func (s *Service) advance(ctx context.Context, b *standby, progress func(int64)) (more bool, err error) {
	select {
	case b.turn <- struct{}{}:
	case <-ctx.Done():
		return false, ctx.Err()
	}
	defer func() { <-b.turn }()
	if b.over() {
		return false, nil
	}
	v, err := s.Catalog.VolumeOfLineage(b.v.Lineage)
	if errors.Is(err, catalog.ErrNone) {
		return false, s.endStandby(b)
	}
	if err == nil && !s.isCopy(v) { // this site has become active of it: TakeUp goes on
		return false, nil
	}
	if err != nil {
		return false, err
	}
	row, err := s.Catalog.LastSnapshot(s.Place(), b.v.Lineage)
	if row == nil || err != nil {
		return false, err
	}
	to, block, err := s.storedDisk(row)
	if err != nil {
		return false, err
	}
	if err := s.become(ctx, b, row, to, block); err != nil {
		return false, err
	}
	d, at := b.now()
	if d.Unfilled() == 0 {
		_, err := d.LetOriginGo(ctx)
		return false, errors.Join(err, d.Tick(ctx))
	}
	slice, cancel := context.WithTimeout(ctx, sliceOfFilling)
	defer cancel()
	f, err := d.Fill(slice, progress)
	switch {
	case err != nil && ctx.Err() == nil && slice.Err() != nil:
		return true, d.Tick(ctx)
	case errors.Is(err, disk.ErrNoRoom):
		return false, refusal.Wrap(refusal.Full, err)
	case errors.Is(err, disk.ErrFailed): // what is in the image is not sure any more
		return false, errors.Join(err, b.close(), s.destroy(b.v))
	case err != nil:
		return false, err
	case f.Unreadable > 0:
		return false, fmt.Errorf("%d blocks of snapshot %s cannot be read, because the store is damaged there", f.Unreadable,
			at.ID[:12])
	}
	_, err = d.LetOriginGo(ctx)
	s.run.Changed("volumes", v.Name)
	return false, errors.Join(err, d.Flush(ctx), d.Tick(ctx))
}

// storedDisk is what a snapshot has of a disk.
func (s *Service) storedDisk(row *catalog.Snapshot) (disk.Stored, uint32, error) {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return disk.Stored{}, 0, err
	}
	root, _, err := s.Store.Root(id)
	if err != nil {
		return disk.Stored{}, 0, err
	}
	if !root.IsDisk() {
		return disk.Stored{}, 0, fmt.Errorf("snapshot %s is of no disk", row.ID[:12])
	}
	return disk.Stored{Map: root.Tree(), Size: root.Top.Size}, root.Block, nil
}

// become has the image be as a snapshot, unless a client reads what it is. It is derived: what cannot be opened, or
// does not become that, is made anew.
func (s *Service) become(ctx context.Context, b *standby, row *catalog.Snapshot, to disk.Stored, block uint32) error {
	d, is := b.now()
	if d == nil {
		var err error
		d, err = s.openDisk(b.v, false)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return s.makeStandby(b, row, to, block)
		case errors.Is(err, disk.ErrDamaged), errors.Is(err, disk.ErrOtherImage):
			s.Log.Warn("the image of a copy is made anew", "volume", b.v.Name, "cause", err)
			return s.makeStandby(b, row, to, block)
		case err != nil:
			return err
		}
		b.set(d, nil)
	}
	if is != nil && is.ID == row.ID {
		return nil
	}
	if !b.move() {
		return nil
	}
	defer b.moved()
	if d.Base() != to || d.Size() != to.Size || d.Block() != block {
		err := errOtherBlocks
		if d.Block() == block {
			err = d.GoBack(ctx, to)
		}
		if errors.Is(err, errOtherBlocks) || errors.Is(err, disk.ErrChanged) {
			s.Log.Warn("the image of a copy is made anew", "volume", b.v.Name, "cause", err)
			if err := b.close(); err != nil {
				s.Log.Warn("the image of a copy was not closed well", "volume", b.v.Name, "error", err)
			}
			return s.makeStandby(b, row, to, block)
		}
		if err != nil {
			return err
		}
	}
	b.set(d, row)
	return nil
}

// errOtherBlocks is of a copy whose blocks have another size than those of its image.
var errOtherBlocks = errors.New("the blocks have another size")

// makeStandby makes the image of a copy.
func (s *Service) makeStandby(b *standby, row *catalog.Snapshot, to disk.Stored, block uint32) error {
	if err := s.destroy(b.v); err != nil {
		return err
	}
	if err := s.Create(b.v, disk.Shape{Size: to.Size, Block: block, Origin: to}, nil); err != nil {
		return err
	}
	d, err := s.openDisk(b.v, false)
	if err == nil {
		b.set(d, row)
	}
	return err
}

func (b *standby) over() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.ended
}

func (b *standby) now() (*disk.Disk, *catalog.Snapshot) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.d, b.is
}

func (b *standby) set(d *disk.Disk, is *catalog.Snapshot) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.d, b.is = d, is
}

// move keeps readers away while the disk becomes another one. It reports false when there are any.
func (b *standby) move() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.moving = b.readers == 0
	return b.moving
}

func (b *standby) moved() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.moving = false
}

// close closes the disk, if it is open.
func (b *standby) close() error {
	b.mu.Lock()
	d := b.d
	b.d, b.is = nil, nil
	b.mu.Unlock()
	if d == nil {
		return nil
	}
	return d.Close()
}
