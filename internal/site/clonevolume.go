package site

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/volume/tree"
)

// cloneVolume is the volume that a clone was made, when it was.
func (s *Site) cloneVolume(name string, c *clone) (*catalog.Volume, error) {
	v, err := s.cat.Volume(name)
	if errors.Is(err, catalog.ErrNone) || err == nil && v.Path != c.Dir {
		return nil, nil
	}
	return v, err
}

// SnapshotClone takes a snapshot of a clone, which becomes a volume of the clone's name with
// the first one. Only what was changed takes room.
func (s *Site) SnapshotClone(name string, ask api.SnapshotTake, by string) (api.Run, error) {
	c, err := s.clone(name)
	if err != nil {
		return api.Run{}, err
	}
	v, err := s.cloneVolume(name, c)
	if err != nil {
		return api.Run{}, err
	}
	if v == nil {
		if _, err := s.AddVolume(api.VolumeAdd{Name: name, Path: c.Dir, Labels: map[string]string{"clone-of": nameAtOriginOf(c.Volume)}}); err != nil {
			return api.Run{}, err
		}
	}
	return s.TakeSnapshot(name, ask, by)
}

func nameAtOriginOf(volume string) string {
	name, _, _ := strings.Cut(volume, "@")
	return name
}

// SettleClone makes a clone a volume of its own: its present state is taken as a snapshot,
// laid out in full in a new directory, and protected there; the clone is discarded.
func (s *Site) SettleClone(name string, ask api.CloneSettle, by string) (api.Run, error) {
	c, err := s.clone(name)
	if err != nil {
		return api.Run{}, err
	}
	dir, beneath, err := s.underRoot(ask.To, false)
	if err != nil {
		return api.Run{}, err
	}
	if err := s.emptyOrNew(dir); err != nil {
		return api.Run{}, err
	}
	take, err := s.SnapshotClone(name, api.SnapshotTake{Note: "the clone, to become a volume of its own"}, by)
	if err != nil {
		return api.Run{}, err
	}
	j, err := s.start("settle", name, by, func(ctx context.Context, j *job) (any, string, error) {
		j.begin(nil)
		j.say("waiting for the snapshot")
		done, err := s.Wait(ctx, take.ID)
		if err == nil && !strings.HasPrefix(done.State, "done") {
			err = fmt.Errorf("the snapshot %s: %s", done.State, done.Outcome)
		}
		if err != nil {
			return nil, "", err
		}
		h, err := s.holdMoment(name, "latest")
		if err != nil {
			return nil, "", err
		}
		defer h.release()
		ck, err := chunkerOf(h.v)
		if err != nil {
			return nil, "", err
		}
		j.say("writing")
		opt := tree.RestoreOptions{Source: s.store, Root: h.root, Target: dir, Beneath: beneath, OnConflict: tree.Skip, Chunker: ck}
		if err := s.makeParents(&restoring{opt: opt}); err != nil {
			return nil, "", err
		}
		res, err := tree.Restore(ctx, opt)
		if err != nil {
			return nil, "", err
		}
		if err := s.moveVolume(name, dir); err != nil {
			return nil, "", err
		}
		for _, m := range res.Remarks {
			j.logf("%s: %s", printable(m.Path), m.What)
			j.remark()
		}
		if _, err := s.DiscardClone(name, false); err != nil {
			j.remark()
			return nil, fmt.Sprintf("%s is a volume of its own at %s; the clone is still there: %s", name, dir, err), nil
		}
		return nil, fmt.Sprintf("%s is a volume of its own at %s: %s, %s; the clone of %s is gone", name, dir, many(int(h.row.Files), "file"), size(res.Bytes), c.Volume), nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

// moveVolume lets a volume lie elsewhere from now on. Its next snapshot looks at everything.
func (s *Site) moveVolume(name, dir string) error {
	release, err := s.hold(s.closing(), "volume "+name)
	if err != nil {
		return err
	}
	defer release()
	v, err := s.cat.Volume(name)
	if err != nil {
		return err
	}
	v.Path = dir
	if err := s.cat.PutVolume(v); err != nil {
		return err
	}
	s.unfollow(v.Lineage)
	s.changed("volumes", name)
	return nil
}
