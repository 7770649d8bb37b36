package disks

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"

	"candidharbor/api"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/disk"
)

// Fill begins to bring what a disk reads from a snapshot into its image, while clients go on.
func (s *Service) Fill(name, by string) (api.Run, error) {
	if v, err := s.Catalog.Volume(name); err == nil && s.isCopy(v) {
		return s.fillCopy(v, by)
	}
	_, is, err := s.find(name)
	if err != nil {
		return api.Run{}, err
	}
	if _, arrives := is.d.Arriving(); arrives { // that comes first
		return s.Arrive(name, by)
	}
	return s.once("fill", name, by, func(ctx context.Context, j *run.Job) (string, error) { return s.fill(ctx, j, name) })
}

// once starts a run on a disk, or returns the one of its kind that is under way.
func (s *Service) once(kind, name, by string, do func(context.Context, *run.Job) (string, error)) (api.Run, error) {
	if j := s.run.Waiting(kind, name); j != nil {
		return j.View(), nil
	}
	j, err := s.run.Start(kind, name, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		j.SetWaits(true)
		words, err := do(ctx, j)
		s.run.Changed("volumes", name)
		return nil, words, err
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

func (s *Service) fill(ctx context.Context, j *run.Job, name string) (string, error) {
	_, is, err := s.find(name)
	if err != nil {
		return "", err
	}
	d, block := is.d, int64(is.d.Block())
	total := d.Unfilled() * block
	var done atomic.Int64
	j.Begin(func() api.Progress { return api.Progress{DoneBytes: done.Load(), TotalBytes: total} })
	if total == 0 {
		if alone, err := d.LetOriginGo(ctx); err == nil && alone {
			return name + " reads nothing from snapshots: there was nothing to bring into its image", nil
		}
	}
	j.Say("bringing what comes from a snapshot into the image")
	f, err := d.Fill(ctx, func(n int64) { done.Add(n) })
	switch {
	case errors.Is(err, disk.ErrNoRoom):
		return "", refusal.Wrap(refusal.Full, fmt.Errorf("%s is filled up to %s: %w. Make room and go on with: candid disk "+
			"fill %s", name, phrase.Size(done.Load()), err, name))
	case errors.Is(err, disk.ErrClosed):
		return "", refusal.Conflictf("%s was closed meanwhile; what was filled stays. Go on with: candid disk fill %s", name,
			name)
	case ctx.Err() != nil:
		return "", &run.Partly{Leaves: "what was filled stays, and the rest comes from the snapshot as before"}
	case err != nil:
		return "", err
	}
	if f.Unreadable > 0 {
		j.Remark()
		return fmt.Sprintf("%s were brought into the image; %s cannot be read, because the store is damaged there: candid "+
			"store verify asks other sites for them", phrase.Size(f.Bytes), phrase.Many(int(f.Unreadable), "block")), nil
	}
	j.Say("waiting for a snapshot of it to end")
	release, err := s.alone(ctx, name)
	if err != nil {
		return "", err
	}
	defer release()
	alone, err := d.LetOriginGo(ctx)
	if err == nil && !alone {
		err = refusal.Conflictf("%s went back meanwhile; go on with: candid disk fill %s", name, name)
	}
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%s were brought into the image: %s reads nothing from snapshots any more", phrase.Size(f.Bytes),
		name), nil
}
