package site

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sys/unix"
)

// chunkAvg is the average chunk size of new lineages, in bytes; see
// docs/decisions/002-chunk-size.md.
const chunkAvg = 64 << 10

// AddVolume begins to protect a directory and says what was found there.
func (s *Site) AddVolume(ask api.VolumeAdd) (*api.VolumeFound, error) {
	if s.isPlace {
		return nil, errPlaceHolds
	}
	if err := policy.CheckName("volume", ask.Name); err != nil {
		return nil, &Error{Misuse, err}
	}
	if old, err := s.cat.Volume(ask.Name); err == nil {
		if old.Protected {
			return nil, conflict("volume %q is there already, over %s: choose another name or remove it first", ask.Name, old.Path)
		}
	} else if !errors.Is(err, catalog.ErrNone) {
		return nil, err
	}
	if err := tree.CheckExcludes(ask.Excludes); err != nil {
		return nil, &Error{Misuse, err}
	}
	for k, v := range ask.Labels {
		if k == "" || v == "" || k == "names" {
			return nil, bad("label %q=%q: a label needs a key and a value, and the key is not \"names\"", k, v)
		}
	}
	path, root, err := s.underRoot(ask.Path, true)
	if err != nil {
		return nil, err
	}
	if rel, err := filepath.Rel(path, s.dir); err == nil && rel != ".." && !strings.HasPrefix(rel, "../") {
		return nil, bad("volume path %s contains this site's own data directory %s: choose a path without it", path, s.dir)
	}
	found, err := tree.Look(root, path, ask.Excludes)
	if err != nil {
		return nil, bad("volume path %s cannot be read: %s", path, plain(err))
	}
	v, err := s.cat.Volume(ask.Name)
	if err != nil {
		var lin [16]byte
		rand.Read(lin[:])
		v = &catalog.Volume{Name: ask.Name, Lineage: hex.EncodeToString(lin[:]), Kind: "tree", Origin: s.Name(), ChunkAvg: chunkAvg}
	}
	if ask.Labels == nil {
		ask.Labels = map[string]string{}
	}
	if ask.Excludes == nil {
		ask.Excludes = []string{}
	}
	v.Path, v.Labels.V, v.Excludes.V, v.Protected = path, ask.Labels, ask.Excludes, true
	v.Added, v.ScheduledUntil = catalog.At(s.clock.Now()), catalog.At(s.clock.Now())
	if err := errors.Join(s.cat.PutVolume(v), s.meant(v)); err != nil {
		return nil, err
	}
	s.changed("volumes")
	view, err := s.describe(v.Name)
	if err != nil {
		return nil, err
	}
	out := &api.VolumeFound{Volume: *view, Files: found.Files, Directories: found.Dirs, Others: found.Others, Bytes: found.Bytes,
		Filesystem: found.Filesystem, Mounts: found.Mounts, Unreadable: found.Unreadable, UnreadableCount: found.UnreadableCount,
		FirstNeeds: found.Bytes + found.Bytes/200 + (found.Files+found.Dirs)*300, StoreFree: s.store.Usage().FreeBytes, Warnings: []string{}}
	out.Warnings = s.addWarnings(out, found)
	return out, nil
}

func (s *Site) addWarnings(f *api.VolumeFound, found *tree.Survey) []string {
	warn := []string{}
	var st unix.Stat_t
	if unix.Stat(s.store.Dir(), &st) == nil && st.Dev == found.Device {
		warn = append(warn, fmt.Sprintf("The store and the volume are on the same filesystem: if that disk fails, both are lost. Open a route to another site, or move %s to another disk.", s.dir))
	}
	if f.FirstNeeds > f.StoreFree {
		warn = append(warn, fmt.Sprintf("The first snapshot may need up to %s, and %s are free in the store.", size(f.FirstNeeds), size(f.StoreFree)))
	}
	if f.UnreadableCount > 0 {
		warn = append(warn, fmt.Sprintf("%d entries cannot be read by the service, the first is %s: they will be missing from snapshots.", f.UnreadableCount, f.Unreadable[0]))
	}
	if len(f.Mounts) > 0 {
		warn = append(warn, fmt.Sprintf("Other filesystems are mounted below and are not entered: %s. Add each as a volume of its own.", strings.Join(f.Mounts, ", ")))
	}
	if found.TimesMadeUp {
		warn = append(warn, "This kind of filesystem keeps no change times that can be relied on: each snapshot reads every file, unless the change journal follows it.")
	}
	if len(f.Volume.Policies) == 0 {
		warn = append(warn, "No policy chooses this volume yet: nothing is taken by itself.")
	}
	return warn
}

// RemoveVolume stops protecting a volume. Its snapshots stay.
func (s *Site) RemoveVolume(name string) (string, error) {
	v, err := s.cat.Volume(name)
	if err != nil {
		return "", err
	}
	if g, _, err := s.groupOf(name); err != nil {
		return "", err
	} else if g != nil {
		return "", conflict("volume %s is in the group %s: take it out there first, with candid group put %s and the others, or candid group remove %s", name, g.Name, g.Name, g.Name)
	}
	s.unfollow(v.Lineage)
	counts, err := s.cat.Counts(s.Place())
	if err != nil {
		return "", err
	}
	n := counts[name][0] + counts[name][1]
	s.changed("volumes")
	if n == 0 {
		return fmt.Sprintf("%s is no longer protected. It had no snapshots here.", name), s.cat.ForgetVolume(name)
	}
	v.Protected = false
	if err := s.cat.PutVolume(v); err != nil {
		return "", err
	}
	return fmt.Sprintf("%s is no longer protected. Its %d snapshots stay until you remove them with: candid snapshot remove ID", name, n), nil
}

// Volume returns one volume with its state.
func (s *Site) Volume(name string) (*api.Volume, error) {
	v, err := s.cat.Volume(name)
	if err != nil {
		return nil, err
	}
	counts, err := s.cat.Counts(s.Place())
	if err != nil {
		return nil, err
	}
	out, err := s.volumeView(v, counts)
	if err != nil {
		return nil, err
	}
	out.Doubt, err = s.doubtOf(v)
	return out, err
}

// Volumes lists all volumes with their states.
func (s *Site) Volumes() ([]api.Volume, error) {
	rows, err := s.cat.Volumes()
	if err != nil {
		return nil, err
	}
	counts, err := s.cat.Counts(s.Place())
	if err != nil {
		return nil, err
	}
	out := make([]api.Volume, 0, len(rows))
	for _, v := range rows {
		view, err := s.volumeView(v, counts)
		if err != nil {
			return nil, err
		}
		out = append(out, *view)
	}
	return out, nil
}
