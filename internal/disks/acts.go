package disks

import (
	"context"
	"errors"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/disk"
)

// Grow makes a disk larger. Clients see that when they connect anew.
func (s *Service) Grow(ctx context.Context, name string, size int64) (*api.Disk, error) {
	release, err := s.alone(ctx, name)
	if err != nil {
		return nil, err
	}
	defer release()
	v, is, err := s.find(name)
	if err != nil {
		return nil, err
	}
	if now := is.d.Size(); size < now || size%512 != 0 || size > disk.MaxSize {
		return nil, refusal.Badf("%s has %s and grows only, to a multiple of 512 bytes and at most %s", name,
			phrase.Size(now), phrase.Size(disk.MaxSize))
	}
	if err := is.d.Grow(ctx, size); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	s.run.Changed("volumes", name)
	return s.view(v), nil
}

// alone waits until nothing else is done with a disk as a whole: no snapshot is taken of it, and nobody else
// opens or closes it.
func (s *Service) alone(ctx context.Context, name string) (release func(), err error) {
	volume, err := s.run.Hold(ctx, run.KeyVolume.Of(name))
	if err != nil {
		return nil, err
	}
	own, err := s.run.Hold(ctx, run.KeyDisk.Of(name))
	if err != nil {
		volume()
		return nil, err
	}
	return func() {
		own()
		volume()
	}, nil
}

func (s *Service) find(name string) (*catalog.Volume, *served, error) {
	v, err := s.named(name)
	if err != nil {
		return nil, nil, err
	}
	is, err := s.served(name)
	return v, is, err
}

// named is the volume, or the clone, that clients know by a name.
func (s *Service) named(name string) (*catalog.Volume, error) {
	v, err := s.volume(name)
	if !errors.Is(err, catalog.ErrNone) {
		return v, err
	}
	if c, cerr := s.Catalog.Clone(name); cerr == nil && c.Dir == "" && !c.Ending {
		return s.clone(c), nil
	}
	return nil, err
}

// CloseDisk keeps clients from opening a disk. Those that are connected are disconnected when that is asked
// for; else it is refused.
func (s *Service) CloseDisk(ctx context.Context, name string, disconnect bool) (*api.Disk, error) {
	v, is, err := s.find(name)
	if err != nil {
		return nil, err
	}
	reopen, err := is.shutOut(ctx, disconnect)
	if err != nil {
		return nil, err
	}
	defer reopen()
	if err := s.setTerms(v, is, func(t *catalog.DiskTerms) { t.Closed = true }); err != nil {
		return nil, err
	}
	s.run.Changed("volumes", name)
	return s.view(v), nil
}

// OpenDisk lets clients open a disk; one that failed is opened anew, and one that was removed is served again.
// Of one that works it says that a person has looked at what a failed sync may have lost.
// Moved says that an image which is another file is a copy of the one that the disk was written to.
func (s *Service) OpenDisk(ctx context.Context, name string, moved bool) (*api.Disk, error) {
	release, err := s.alone(ctx, name)
	if err != nil {
		return nil, err
	}
	defer release()
	v, err := s.named(name)
	if err != nil {
		return nil, err
	}
	if up, err := s.isUp(v); err != nil {
		return nil, err
	} else if !up {
		return nil, refusal.Conflictf("the disk %s was served elsewhere since it was served here, and is brought up by a "+
			"failover: candid failover list shows it, candid runbook list the runbooks", name)
	}
	s.mu.Lock()
	is := s.open[name]
	s.mu.Unlock()
	switch {
	case is == nil:
		if err = s.openIt(v, moved); err != nil {
			err = &NotOpenError{name, err}
		}
	case is.d.Failed() != nil:
		if err := s.stop(ctx, name); err != nil {
			return nil, err
		}
		err = s.Open(v)
	default:
		err = is.d.Trust()
	}
	if err != nil {
		return nil, refusal.Wrap(refusal.Conflict, err)
	}
	if is, err = s.served(name); err != nil {
		return nil, err
	}
	if err := s.setTerms(v, is, func(t *catalog.DiskTerms) { t.Closed = false }); err != nil {
		return nil, err
	}
	if err := s.Catalog.SetProtected(name, true); err != nil {
		return nil, err
	}
	s.run.Changed("volumes", name)
	return s.view(v), nil
}

// setTerms changes how clients may use a disk, for good.
func (s *Service) setTerms(v *catalog.Volume, is *served, change func(*catalog.DiskTerms)) error {
	is.mu.Lock()
	defer is.mu.Unlock()
	t := &catalog.DiskTerms{Lineage: v.Lineage, Closed: is.closed, Shared: is.shared}
	was := *t
	if change(t); *t == was {
		return nil
	}
	if err := s.Catalog.PutDiskTerms(t); err != nil {
		return err
	}
	is.closed, is.shared = t.Closed, t.Shared
	return nil
}

// Share lets several clients write to a disk at once, as cluster filesystems do, or no longer.
func (s *Service) Share(ctx context.Context, name string, shared bool) (*api.Disk, error) {
	v, is, err := s.find(name)
	if err != nil {
		return nil, err
	}
	reopen, err := is.shutOut(ctx, false) // who is connected was promised something else
	if err != nil {
		return nil, err
	}
	defer reopen()
	if err := s.setTerms(v, is, func(t *catalog.DiskTerms) { t.Shared = shared }); err != nil {
		return nil, err
	}
	s.run.Changed("volumes", name)
	return s.view(v), nil
}

// Release ends the hold of a client that does not come back. What it may still have connected is cut, so
// that it writes nothing over what others write.
func (s *Service) Release(ctx context.Context, name string) (*api.Disk, error) {
	v, is, err := s.find(name)
	if err != nil {
		return nil, err
	}
	is.mu.Lock()
	free := is.holder == nil
	is.mu.Unlock()
	if free {
		return nil, refusal.Conflictf("nobody holds the disk %s", name)
	}
	reopen, err := is.shutOut(ctx, true)
	if err != nil {
		return nil, err
	}
	reopen()
	s.run.Changed("volumes", name)
	return s.view(v), nil
}

// GoBack has a disk be as a snapshot has it, once everything that it is has been stored and no client is
// connected. The caller holds the volume.
func (s *Service) GoBack(ctx context.Context, name string, to disk.Stored) error {
	_, is, err := s.find(name)
	if err != nil {
		return err
	}
	return is.d.GoBack(ctx, to)
}

// GoBackFar is GoBack to a snapshot of another site, with the nodes of its map that the store here lacks. What else it
// lacks comes when it is read, and by Arrive.
func (s *Service) GoBackFar(ctx context.Context, name string, to disk.Stored, from disk.From, nodes [][]byte) error {
	_, is, err := s.find(name)
	if err != nil {
		return err
	}
	return is.d.GoBackFar(ctx, to, from, nodes)
}

// Busy refuses what no client may have a disk open for.
func (s *Service) Busy(name string) error {
	is, err := s.served(name)
	if err != nil {
		return err
	}
	is.mu.Lock()
	defer is.mu.Unlock()
	return is.busy()
}

// busy is Busy for a caller that holds mu.
func (v *served) busy() error {
	if len(v.clients) == 0 {
		return nil
	}
	return refusal.Conflictf("%s connected to the disk %s, by %s: have it leave, or disconnect it (--disconnect)",
		phrase.ManyAre(len(v.clients), "client"), v.name, v.someone())
}

// Shut keeps clients away from a disk until reopen is called.
func (s *Service) Shut(ctx context.Context, name string, disconnect bool) (reopen func(), err error) {
	_, is, err := s.find(name)
	if err != nil {
		return nil, err
	}
	return is.shutOut(ctx, disconnect)
}

// shutOut keeps clients from opening the disk until reopen is called. Those that are connected are cut off,
// or it is refused while there are any.
func (v *served) shutOut(ctx context.Context, disconnect bool) (reopen func(), err error) {
	v.mu.Lock()
	if err := v.busy(); err != nil && !disconnect {
		v.mu.Unlock()
		return nil, err
	}
	v.away++
	var gone []<-chan struct{}
	for c := range v.clients {
		c.cancel()
		gone = append(gone, c.gone)
	}
	v.mu.Unlock()
	reopen = func() {
		v.mu.Lock()
		defer v.mu.Unlock()
		v.away--
	}
	for _, g := range gone {
		select {
		case <-g:
		case <-ctx.Done():
			reopen()
			return nil, ctx.Err()
		}
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if disconnect {
		v.holder = nil
	}
	return reopen, nil
}
