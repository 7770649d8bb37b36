package clones

import (
	"errors"
	"fmt"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/disks"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/disk"
)

// isDisk reports whether a clone is of a disk: it is at no directory.
func isDisk(c *catalog.Clone) bool { return c.Dir == "" }

// makeDiskClone makes a clone of a disk, whose snapshot stays meanwhile. The caller holds mu.
func (s *Service) makeDiskClone(ask api.CloneAsk, row *catalog.Snapshot, by, drill string) (*catalog.Clone,
	error) {
	if ask.Dir != "" {
		return nil, refusal.Badf("%s is a disk: its clone is at no directory, but clients open it as %s", ask.Volume,
			ask.Name)
	}
	if v, err := s.Catalog.Volume(ask.Name); err == nil {
		return nil, refusal.Conflictf("%s is the name of a volume: choose another for the clone", v.Name)
	}
	root, err := s.rules.RootOf(row)
	if err != nil {
		return nil, err
	}
	c := &catalog.Clone{Name: ask.Name, Volume: ask.Volume, Snapshot: row.ID, Taken: row.Began,
		Made: catalog.At(s.Clock.Now()), MadeBy: by, Until: catalog.At(ask.Until), Lineage: disks.NewLineage(),
		Drill: drill}
	if err := s.Catalog.PutClone(c); err != nil { // from here on the snapshot stays
		return nil, err
	}
	origin := disk.Stored{Map: root.Tree(), Size: root.Top.Size}
	if err := s.disks.MakeClone(s.run.Context(), c, origin, root.Block); err != nil {
		return nil, errors.Join(err, s.Catalog.RemoveClone(ask.Name))
	}
	return c, nil
}

func (s *Service) discardDiskClone(name string, anyway bool) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.clone(name) // it may have become a volume meanwhile
	if err != nil {
		return "", err
	}
	if err := s.endDiskClone(c, anyway); err != nil {
		return "", err
	}
	s.run.Changed("snapshots", c.Volume)
	s.run.Tell("clones")
	return fmt.Sprintf("The clone %s is gone with what was written to it; the snapshot of %s that it stood on goes as "+
		"the rules say.", c.Name, c.Volume), nil
}

// endDiskClone ends a clone for good: from here on a start goes on discarding it.
func (s *Service) endDiskClone(c *catalog.Clone, anyway bool) error {
	if d, _ := s.disks.ShowClone(c); len(d.Clients) > 0 && !anyway {
		return refusal.Conflictf("%s connected to the clone %s: --anyway takes it from them",
			phrase.ManyAre(len(d.Clients), "client"), c.Name)
	}
	c.Ending = true
	if err := s.Catalog.PutClone(c); err != nil {
		return err
	}
	if err := s.disks.EndClone(s.run.Context(), c, anyway); err != nil {
		return err
	}
	return s.Catalog.RemoveClone(c.Name)
}

// becomeVolume makes a clone of a disk a volume of its name, at once.
func (s *Service) becomeVolume(c *catalog.Clone) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, err := s.disks.Become(s.run.Context(), c.Name, map[string]string{"clone-of": nameAtOriginOf(c.Volume)})
	if err != nil {
		return err
	}
	s.run.Changed("volumes", c.Name)
	s.run.Changed("snapshots", c.Volume)
	s.run.Tell("clones")
	return nil
}

func (s *Service) diskCloneView(c *catalog.Clone) *api.Clone {
	d, own := s.disks.ShowClone(c)
	out := &api.Clone{Name: c.Name, Volume: c.Volume, Snapshot: c.Snapshot, Taken: c.Taken.Time, Address: d.Address,
		Made: c.Made.Time, By: c.MadeBy, Drill: c.Drill, There: d.State != api.DiskMissing, Bytes: own, Until: c.Until.Ptr()}
	out.Sentence = fmt.Sprintf("%s as of %s, a disk that clients open as %s; %s of its own", c.Volume,
		phrase.Stamp(c.Taken.Time), d.Address, phrase.Size(own))
	if out.Until != nil {
		out.Sentence += "; discarded " + phrase.Stamp(*out.Until)
	}
	if !out.There {
		out.Sentence += ". " + d.Sentence
		return out
	}
	out.Sentence += "."
	return out
}
