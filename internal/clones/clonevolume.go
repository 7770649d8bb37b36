package clones

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/recovery"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
)

// cloneVolume is the volume that a clone was made, when it was.
func (s *Service) cloneVolume(c *catalog.Clone) (*catalog.Volume, error) {
	v, err := s.Catalog.Volume(c.Name)
	if errors.Is(err, catalog.ErrNone) || err == nil && v.Path != c.Dir {
		return nil, nil
	}
	return v, err
}

// SnapshotClone takes a snapshot of a clone, which becomes a volume of the clone's name with
// the first one, and of a disk is no clone any more. Only what was changed takes room.
func (s *Service) SnapshotClone(name string, ask api.SnapshotTake, by string) (api.Run, error) {
	c, err := s.free(name)
	if err != nil {
		return api.Run{}, err
	}
	if isDisk(c) {
		if err := s.becomeVolume(c); err != nil {
			return api.Run{}, err
		}
		return s.capture.TakeSnapshot(name, ask, by)
	}
	v, err := s.cloneVolume(c)
	if err != nil {
		return api.Run{}, err
	}
	if v == nil {
		if _, err := s.capture.AddVolume(s.run.Context(), api.VolumeAdd{Name: name, Path: c.Dir,
			Labels: map[string]string{"clone-of": nameAtOriginOf(c.Volume)}}); err != nil {
			return api.Run{}, err
		}
	}
	return s.capture.TakeSnapshot(name, ask, by)
}

func nameAtOriginOf(volume string) string {
	name, _, _ := strings.Cut(volume, "@")
	return name
}

// CloneToVolume makes a clone a volume of its own: its present state is taken as a snapshot,
// laid out in full in a new directory, and protected there; the clone is discarded. That of a disk is one at once,
// where it is.
func (s *Service) CloneToVolume(name string, ask api.CloneToVolume, by string) (api.Run, error) {
	c, err := s.free(name)
	if err != nil {
		return api.Run{}, err
	}
	if isDisk(c) {
		if ask.To != "" {
			return api.Run{}, refusal.Badf("the clone %s is a disk and becomes a volume where it is: leave --to away", name)
		}
		return s.makeDiskVolume(name, by)
	}
	if ask.To == "" {
		return api.Run{}, refusal.Badf("say in which new directory the clone becomes a volume: --to DIR")
	}
	dir, beneath, err := s.UnderRoot(ask.To, false)
	if err != nil {
		return api.Run{}, err
	}
	if err := recovery.EmptyOrNew(dir); err != nil {
		return api.Run{}, err
	}
	take, err := s.SnapshotClone(name, api.SnapshotTake{Note: "the clone, to become a volume of its own"}, by)
	if err != nil {
		return api.Run{}, err
	}
	j, err := s.run.Start("make volume", name, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		j.Begin(nil)
		j.Say("waiting for the snapshot")
		done, err := s.run.Wait(ctx, take.ID)
		if err == nil && !done.Worked() {
			err = fmt.Errorf("the snapshot %s: %s", done.State, done.Outcome)
		}
		if err != nil {
			return nil, "", err
		}
		j.Say("writing")
		row, res, err := s.recovery.LayOut(ctx, name, "latest", dir, beneath)
		if err != nil {
			return nil, "", err
		}
		if err := s.moveVolume(name, dir); err != nil {
			return nil, "", err
		}
		for _, m := range res.Remarks {
			j.Logf("%s: %s", phrase.Printable(m.Path), m.What)
			j.Remark()
		}
		if _, err := s.DiscardClone(name, false); err != nil {
			j.Remark()
			return nil, fmt.Sprintf("%s is a volume of its own at %s; the clone is still there: %s", name, dir, err), nil
		}
		return nil, fmt.Sprintf("%s is a volume of its own at %s: %s, %s; the clone of %s is gone", name, dir,
			phrase.Many(int(row.Files), "file"), phrase.Size(res.Bytes), c.Volume), nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

// makeDiskVolume makes a clone of a disk a volume where it is, and takes its first snapshot.
func (s *Service) makeDiskVolume(name, by string) (api.Run, error) {
	take, err := s.SnapshotClone(name, api.SnapshotTake{Note: "the clone, which is a volume of its own now"}, by)
	if err != nil {
		return api.Run{}, err
	}
	j, err := s.run.Start("make volume", name, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		j.Begin(nil)
		j.Say("waiting for its first snapshot")
		done, err := s.run.Wait(ctx, take.ID)
		words := fmt.Sprintf("%s is a volume of its own, where it is, and no clone any more", name)
		if err != nil || !done.Worked() {
			j.Remark()
			return nil, fmt.Sprintf("%s; its first snapshot failed: candid run show %d tells why", words, take.ID), nil
		}
		return nil, words + "; its first " + done.Outcome, nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

// moveVolume lets a volume lie elsewhere from now on. Its next snapshot looks at everything.
func (s *Service) moveVolume(name, dir string) error {
	release, err := s.run.Hold(s.run.Context(), run.KeyVolume.Of(name))
	if err != nil {
		return err
	}
	defer release()
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return err
	}
	v.Path = dir
	if err := s.Catalog.PutVolume(v); err != nil {
		return err
	}
	s.capture.Unfollow(v.Lineage)
	s.run.Changed("volumes", name)
	return nil
}
