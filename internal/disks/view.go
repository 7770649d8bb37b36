package disks

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"sort"

	"candidharbor/api"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
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
	case !v.ActiveAt(s.Name()):
		return nil, authority.Elsewhere(v, "ask there")
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
	out.UnfilledBytes = min(is.d.Unfilled()*int64(v.ChunkAvg), is.d.Size())
	is.mu.Lock()
	defer is.mu.Unlock()
	out.Shared = is.shared
	for c := range is.clients {
		out.Clients = append(out.Clients, api.DiskClient{Program: c.by.name, Process: int64(c.by.pid), User: int64(c.by.uid),
			Host: c.by.host, From: c.by.addr, Since: c.since, ReadBytes: c.read.Load(),
			WrittenBytes: c.written.Load(), Flushes: c.flushes.Load(), Requests: c.requests.Load(),
			WaitedMicros: c.waited.Load() / 1000})
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
	if from, arrives := is.d.Arriving(); arrives {
		out.ArrivingFrom = from.Site
		out.Sentence += fmt.Sprintf(" Not all of it has come from %s yet: what is read comes first, and waits for that "+
			"site. Bring the rest, if no run does: candid disk fill %s.", from.Site, v.Name)
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
	s.standbySentences(add)
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
		case d.ArrivingFrom != "" && s.run.Waiting(arriveKind, name) == nil:
			x.Next, x.Command = "Bring the rest", "candid disk fill "+name
			add(x)
		case d.State == api.DiskHeld:
			x.Weight, x.About, x.Next, x.Command = "look", "", "If it does not come back", "candid disk release "+name
			add(x)
		}
	}
	return nil
}
