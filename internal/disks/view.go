package disks

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"sort"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/disk"
)

// Disks lists the disks of this site by name.
func (s *Service) Disks() ([]api.Disk, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	hosts, err := s.Catalog.DiskHosts()
	if err != nil {
		return nil, err
	}
	out := []api.Disk{}
	for _, v := range vols {
		if s.isCopy(v) {
			d, err := s.copyView(v)
			if err != nil {
				return nil, err
			}
			d.Hosts = hostsOf(v.Name, hosts)
			out = append(out, *d)
		} else if v.IsDisk() && v.Protected {
			d := s.view(v)
			d.Hosts = hostsOf(v.Name, hosts)
			out = append(out, *d)
		}
	}
	return out, nil
}

// Show tells of one disk.
func (s *Service) Show(name string) (*api.Disk, error) {
	hosts, err := s.Catalog.DiskHosts()
	if err != nil {
		return nil, err
	}
	var d *api.Disk
	if v, verr := s.Catalog.Volume(name); verr == nil && s.isCopy(v) {
		d, err = s.copyView(v)
	} else if v, err = s.volume(name); err == nil {
		d = s.view(v)
	}
	if err != nil {
		return nil, err
	}
	d.Hosts = hostsOf(name, hosts)
	return d, nil
}

func (s *Service) volume(name string) (*catalog.Volume, error) {
	v, err := s.Catalog.Volume(name)
	switch {
	case err != nil:
		return nil, err
	case !v.IsDisk():
		return nil, refusal.Badf("volume %s is a directory of files and no disk: candid disk list shows the disks", name)
	case v.Origin != s.Name():
		return nil, refusal.Conflictf("the disk %s lives at the site %s: ask there", name, v.Origin)
	}
	return v, nil
}

func (s *Service) view(v *catalog.Volume) *api.Disk {
	out := &api.Disk{Name: v.Name, Image: v.Path, BlockBytes: int64(v.ChunkAvg), Socket: s.Socket(),
		Clients: []api.DiskClient{}}
	out.Address = s.address(v.Name)
	s.mu.Lock()
	is, why := s.open[v.Name], s.closed[v.Name]
	s.mu.Unlock()
	if is == nil {
		out.State, out.Sentence = api.DiskMissing, phrase.UpperFirst((&NotOpenError{v.Name, why}).Error())+"."
		return out
	}
	out.Network = s.network()
	out.SizeBytes, out.ChangedBytes = is.d.Size(), min(is.d.ChangedBlocks()*int64(v.ChunkAvg), is.d.Size())
	is.mu.Lock()
	defer is.mu.Unlock()
	out.Shared = is.shared
	for c := range is.clients {
		out.Clients = append(out.Clients, api.DiskClient{Program: c.by.name, Process: int64(c.by.pid), User: int64(c.by.uid),
			Host: c.by.host, From: c.by.addr, Since: c.since, ReadBytes: c.read.Load(),
			WrittenBytes: c.written.Load(), Flushes: c.flushes.Load()})
	}
	sort.Slice(out.Clients, func(i, k int) bool { return out.Clients[i].Since.Before(out.Clients[k].Since) })
	if is.holder != nil {
		out.Holder = is.holder.words()
	}
	switch err := is.d.Failed(); {
	case err != nil:
		out.State = api.DiskFailed
		out.Sentence = fmt.Sprintf("%s takes no writes, because %s. What was written since the last flush may not be on "+
			"the disk: look at the disk under %s, then candid disk close %s --disconnect and candid disk open %s.", v.Name, err,
			v.Path, v.Name, v.Name)
	case is.closed:
		out.State = api.DiskClosed
		out.Sentence = fmt.Sprintf("%s is closed to clients until: candid disk open %s.", v.Name, v.Name)
	case len(is.clients) > 0:
		out.State = api.DiskInUse
		by := out.Holder
		if is.shared {
			by = "shared by those who write to it"
		}
		out.Sentence = fmt.Sprintf("%s is open: %s, with %s.", v.Name, by, phrase.Many(len(is.clients), "connection"))
	case is.holder != nil:
		out.State = api.DiskHeld
		out.Sentence = fmt.Sprintf("%s is held for a client that left without saying so (%s): candid disk release %s "+
			"gives it free.", v.Name, out.Holder, v.Name)
	default:
		out.State, out.Sentence = api.DiskReady, fmt.Sprintf("%s is ready to be opened.", v.Name)
	}
	if at := is.d.Suspect(); !at.IsZero() && out.State != api.DiskFailed {
		out.Suspect = &at
		out.Sentence += fmt.Sprintf(" A sync of it failed %s: what was written shortly before may not be on it. Look at "+
			"what is there, then say that it is right: candid disk open %s.", phrase.Stamp(at), v.Name)
	}
	return out
}

// hostsOf are the hosts that may open a disk.
func hostsOf(name string, all []*catalog.DiskHost) (out []string) {
	for _, h := range all {
		if slices.Contains(h.Disks.V, name) {
			out = append(out, h.Name)
		}
	}
	return out
}

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
	if c, cerr := s.Catalog.Clone(name); cerr == nil && c.Dir == "" {
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
	if row, err := s.Catalog.Volume(name); err == nil && !row.Protected {
		row.Protected = true
		if err := s.Catalog.PutVolume(row); err != nil {
			return nil, err
		}
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
	if n := len(v.clients); n > 0 && !disconnect {
		defer v.mu.Unlock()
		return nil, refusal.Conflictf("%s connected to the disk %s, by %s: have it leave, or disconnect it (--disconnect)",
			phrase.ManyAre(n, "client"), v.name, v.someone())
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

// address is how a client of this host opens an export.
func (s *Service) address(export string) string {
	return fmt.Sprintf("nbd+unix:///%s?socket=%s", url.PathEscape(export), s.Socket())
}

// Socket is where clients of this host find the disks.
func (s *Service) Socket() string { return s.Path + "/nbd.sock" }

// Sentences tell of disks and clones that need a hand.
func (s *Service) Sentences(add func(api.Sentence)) error {
	if err := s.hostSentences(add); err != nil {
		return err
	}
	s.mu.Lock()
	names := slices.Sorted(maps.Keys(s.closed))
	s.mu.Unlock()
	for _, v := range s.all() {
		names = append(names, v.name)
	}
	for _, name := range names {
		v, err := s.named(name)
		if errors.Is(err, catalog.ErrNone) {
			continue // it is being made, or discarded
		}
		if err != nil {
			return err
		}
		d := s.view(v)
		x := api.Sentence{Text: d.Sentence, Weight: "act", About: "disk " + name, Next: "Look at it",
			Command: "candid disk show " + name, Link: "/volumes/" + name}
		if v.Added.IsZero() {
			x.Command, x.Link = "candid clone show "+name, "/recovery"
		}
		switch {
		case d.State == api.DiskMissing, d.State == api.DiskFailed, d.Suspect != nil:
			add(x)
		case d.State == api.DiskHeld:
			x.Weight, x.About, x.Next, x.Command = "look", "", "If it does not come back", "candid disk release "+name
			add(x)
		}
	}
	return nil
}
