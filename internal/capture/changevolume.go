package capture

import (
	"context"
	"errors"

	"candidharbor/api"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/tree"
)

// ChangeVolume has a volume lie in another directory from now on, or leave out other names, and says what is found
// there. Its history goes on, and its chunking stays, so that nothing is stored twice. With DryRun it only looks.
func (s *Service) ChangeVolume(ctx context.Context, name string, ask api.VolumeChange) (*api.VolumeFound, error) {
	if ask.Path == nil && ask.Excludes == nil {
		return nil, refusal.Badf("say what to change of %s: its directory, or what is left out", name)
	}
	if ask.Excludes != nil {
		if err := tree.CheckExcludes(*ask.Excludes); err != nil {
			return nil, refusal.Wrap(refusal.Misuse, err)
		}
	}
	if !ask.DryRun { // a snapshot that is being taken is of the one or of the other
		release, err := s.run.Hold(ctx, run.KeyVolume.Of(name))
		if err != nil {
			return nil, err
		}
		defer release()
	}
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return nil, err
	}
	switch {
	case v.IsDisk():
		return nil, refusal.Conflictf("%s is a disk: it has no directory and leaves nothing out", name)
	case !v.ActiveAt(s.Name()):
		return nil, authority.Elsewhere(v, "change it there")
	case !v.Protected:
		return nil, refusal.Conflictf("volume %s is no longer protected: add it again, with candid volume add %s --path DIR",
			name, name)
	}
	was := v.Path
	if ask.Path != nil {
		v.Path = *ask.Path
	}
	path, root, err := s.directory(v.Path)
	if err != nil {
		return nil, err
	}
	v.Path = path
	if ask.Excludes != nil {
		v.Excludes.V = *ask.Excludes
	}
	leave, err := s.LeftOut(v.Path, v.Excludes.V)
	if err != nil {
		return nil, err
	}
	found, err := tree.Look(root, v.Path, leave)
	if err != nil {
		return nil, refusal.Badf("volume path %s cannot be read: %s", v.Path, datadir.Plain(err))
	}
	last, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
	if err != nil {
		return nil, err
	}
	if last != nil && last.Files >= leastToVanish && found.Files*vanishedShare < last.Files && !ask.Accept && !ask.DryRun {
		return nil, refusal.Conflictf("nothing was changed: so changed, %s would have %s, and %d at its last snapshot: look "+
			"whether that is meant, and accept it if it is", name, phrase.Many(int(found.Files), "file"), last.Files)
	}
	if !ask.DryRun {
		err := s.Catalog.Atomically(func(c *catalog.Catalog) error {
			var serr error
			switch { // what is looked at now is it; not what may stand there when the next snapshot is taken
			case ask.Accept:
				serr = s.meant(c, v)
			case v.Path != was:
				serr = c.SetGround(v.Lineage, found.Ground)
			}
			if serr != nil {
				return serr
			}
			now, err := c.Volume(name) // its labels may have changed while the directory was looked at
			if err != nil {
				return err
			}
			now.Path, now.Excludes = v.Path, v.Excludes
			return c.PutVolume(now)
		})
		if err != nil {
			return nil, err
		}
		s.Unfollow(v.Lineage)
		s.run.Changed("volumes", name)
	}
	return s.foundIn(v, found)
}

// directory is where a volume can lie: below a root, and not in this site's own data.
func (s *Service) directory(asked string) (path, root string, err error) {
	if path, root, err = s.UnderRoot(asked, true); err != nil {
		return "", "", err
	}
	if s.IsOwn(path) {
		return "", "", refusal.Badf("volume path %s is this site's own data directory, or lies in it: choose another path",
			path)
	}
	return path, root, nil
}

// foundIn describes a volume with what is in its directory.
func (s *Service) foundIn(v *catalog.Volume, found *tree.Survey) (*api.VolumeFound, error) {
	view, err := s.describe(v.Name)
	if errors.Is(err, catalog.ErrNone) { // it was only looked at
		view, err = s.wouldBe(v)
	}
	if err != nil {
		return nil, err
	}
	view.Path, view.Excludes = v.Path, v.Excludes.V
	out := &api.VolumeFound{Volume: *view, Files: found.Files, Directories: found.Dirs, Others: found.Others,
		Bytes:      found.Bytes,
		Filesystem: found.Filesystem, Mounts: found.Mounts, Unreadable: found.Unreadable,
		UnreadableCount: found.UnreadableCount,
		FirstNeeds:      found.Bytes + found.Bytes/200 + (found.Files+found.Dirs)*300,
		StoreFree:       s.Store.Usage().FreeBytes,
		Warnings:        []string{}}
	out.Warnings = s.addWarnings(out, found)
	return out, nil
}

// wouldBe describes a volume that is not stored.
func (s *Service) wouldBe(v *catalog.Volume) (*api.Volume, error) {
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return nil, err
	}
	view := &api.Volume{Name: v.Name, Kind: v.Kind, Origin: v.Origin, Active: v.ActiveSite(), Labels: v.Labels.V,
		Protection: "unprotected", Policies: []string{}, Places: []api.PlaceState{}}
	for _, p := range rs.Policies {
		view.Policies = append(view.Policies, p.Name)
	}
	return view, nil
}
