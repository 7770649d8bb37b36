package capture

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sys/unix"
)

// ChunkAvg is the average chunk size of new lineages, in bytes; see
// docs/decisions/002-chunk-size.md.
const ChunkAvg = 64 << 10

// AddVolume begins to protect a directory and says what was found there, or makes a disk. A disk that is not made when
// the context ends is not made.
func (s *Service) AddVolume(ctx context.Context, ask api.VolumeAdd) (*api.VolumeFound, error) {
	if s.IsPlace {
		return nil, pairing.ErrPlaceHolds
	}
	if err := policy.CheckName("volume", ask.Name); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	if old, err := s.Catalog.Volume(ask.Name); err == nil {
		if old.Protected {
			return nil, refusal.Conflictf("volume %q is there already, over %s: choose another name or remove it first",
				ask.Name, old.Path)
		}
	} else if !errors.Is(err, catalog.ErrNone) {
		return nil, err
	}
	if err := tree.CheckExcludes(ask.Excludes); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	for k, v := range ask.Labels {
		if k == "" || v == "" || k == "names" {
			return nil, refusal.Badf("label %q=%q: a label needs a key and a value, and the key is not \"names\"", k, v)
		}
	}
	if ask.Path == "" {
		if ask.DryRun {
			return nil, refusal.Badf("only a directory is looked at before it is added; a disk is empty, or what it is made of")
		}
		return s.addDisk(ctx, ask)
	}
	if ask.SizeBytes != 0 || ask.BlockBytes != 0 || ask.Image != "" || ask.Import != "" {
		return nil, refusal.Badf("a path is of a directory of files, and a size, an image and an import are of a disk: " +
			"give one or the other")
	}
	path, root, err := s.directory(ask.Path)
	if err != nil {
		return nil, err
	}
	leave, err := s.LeftOut(path, ask.Excludes)
	if err != nil {
		return nil, err
	}
	found, err := tree.Look(root, path, leave)
	if err != nil {
		return nil, refusal.Badf("volume path %s cannot be read: %s", path, datadir.Plain(err))
	}
	v, err := s.Catalog.Volume(ask.Name)
	if err != nil {
		var lin [16]byte
		rand.Read(lin[:])
		v = &catalog.Volume{Name: ask.Name, Lineage: hex.EncodeToString(lin[:]), Kind: catalog.KindTree, Origin: s.Name(),
			ChunkAvg: ChunkAvg}
	}
	if ask.Labels == nil {
		ask.Labels = map[string]string{}
	}
	if ask.Excludes == nil {
		ask.Excludes = []string{}
	}
	v.Path, v.Labels.V, v.Excludes.V, v.Protected = path, ask.Labels, ask.Excludes, true
	v.Added, v.ScheduledUntil = catalog.At(s.Clock.Now()), catalog.At(s.Clock.Now())
	if ask.DryRun {
		return s.foundIn(v, found)
	}
	err = s.Catalog.Atomically(func(c *catalog.Catalog) error {
		now, err := c.Volume(v.Name) // somebody may have added one of the name while the directory was looked at
		switch {
		case err == nil && (now.Protected || now.Lineage != v.Lineage):
			return refusal.Conflictf("volume %q was added meanwhile, over %s: choose another name", v.Name, now.Path)
		case err != nil && !errors.Is(err, catalog.ErrNone):
			return err
		}
		return errors.Join(c.PutVolume(v), s.meant(c, v))
	})
	if err != nil {
		return nil, err
	}
	if err := s.authority.ListOne(v.Name); err != nil {
		return nil, err
	}
	s.run.Changed("volumes")
	return s.foundIn(v, found)
}

func (s *Service) addWarnings(f *api.VolumeFound, found *tree.Survey) []string {
	warn := []string{}
	if leave, err := s.LeftOut(f.Volume.Path, f.Volume.Excludes); err == nil && len(leave) > len(f.Volume.Excludes) {
		warn = append(warn, "What this site itself keeps there is left out: "+
			strings.Join(leave[len(f.Volume.Excludes):], ", ")+".")
	}
	var st unix.Stat_t
	if unix.Stat(s.Store.Dir(), &st) == nil && st.Dev == found.Device {
		warn = append(warn, fmt.Sprintf("The store and the volume are on the same filesystem: if that disk fails, both "+
			"are lost. Open a route to another site, or move %s to another disk.", s.Path))
	}
	if f.FirstNeeds > f.StoreFree {
		warn = append(warn, fmt.Sprintf("The first snapshot may need up to %s, and %s are free in the store.",
			phrase.Size(f.FirstNeeds), phrase.Size(f.StoreFree)))
	}
	if f.UnreadableCount > 0 {
		warn = append(warn, fmt.Sprintf("%d entries cannot be read by the service, the first is %s: they will be missing "+
			"from snapshots.", f.UnreadableCount, f.Unreadable[0]))
	}
	if len(f.Mounts) > 0 {
		warn = append(warn, fmt.Sprintf("Other filesystems are mounted below and are not entered: %s. Add each as a "+
			"volume of its own.", strings.Join(f.Mounts, ", ")))
	}
	if found.TimesMadeUp {
		warn = append(warn, "This kind of filesystem keeps no change times that can be relied on: each snapshot reads "+
			"every file, unless the change journal follows it.")
	}
	if len(f.Volume.Policies) == 0 {
		warn = append(warn, "No policy chooses this volume yet: nothing is taken by itself.")
	}
	return warn
}

// RemoveVolume stops protecting a volume. Its snapshots stay.
func (s *Service) RemoveVolume(name string) (string, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return "", err
	}
	if g, _, err := s.GroupOf(name); err != nil {
		return "", err
	} else if g != nil {
		return "", refusal.Conflictf("volume %s is in the group %s: take it out there first, with candid group put %s and "+
			"the others, or candid group remove %s", name, g.Name, g.Name, g.Name)
	}
	if v.IsDisk() && v.ActiveAt(s.Name()) {
		return s.removeDisk(v)
	}
	s.Unfollow(v.Lineage)
	counts, err := s.Catalog.Counts(s.Place())
	if err != nil {
		return "", err
	}
	n := counts[name][0] + counts[name][1]
	s.run.Changed("volumes")
	if n == 0 {
		return fmt.Sprintf("%s is no longer protected. It had no snapshots here.", name), s.Catalog.ForgetVolume(name)
	}
	v.Protected = false
	if err := s.Catalog.PutVolume(v); err != nil {
		return "", err
	}
	return fmt.Sprintf("%s is no longer protected. What it has here, %s, stays until you remove it with: candid "+
		"snapshot remove ID", name, phrase.Many(n, "snapshot")), nil
}
