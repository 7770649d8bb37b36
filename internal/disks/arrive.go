package disks

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/disk"
)

// FetchesBy sets what gets what disks lack that went back to a snapshot of another site. It is called before any is
// opened.
func (s *Service) FetchesBy(f disk.Fetch) { s.fetch = f }

// arriveKind is the kind of runs that bring what a disk lacks from another site.
const arriveKind = "arrive"

// Arrive begins to bring what a disk lacks from another site, while clients go on.
func (s *Service) Arrive(name, by string) (api.Run, error) {
	return s.once(arriveKind, name, by, func(ctx context.Context, j *run.Job) (string, error) {
		return s.arrive(ctx, j, name)
	})
}

// longestPause is how long a site that is away is left alone at most.
const longestPause = 10 * time.Second

func (s *Service) arrive(ctx context.Context, j *run.Job, name string) (string, error) {
	is, err := s.served(name)
	if err != nil {
		return "", err
	}
	from, there := is.d.Arriving()
	if !there {
		return name + " lacks nothing that another site would have to bring", nil
	}
	var done, total atomic.Int64
	j.Begin(func() api.Progress { return api.Progress{DoneBytes: done.Load(), TotalBytes: total.Load()} })
	var came int64
	said := ""
	for pause := time.Second; ; pause = min(2*pause, longestPause) {
		j.Say("bringing what it lacks from " + from.Site)
		before := done.Load()
		out, err := is.d.Arrive(ctx, func(n int64) { total.Store(done.Load() + n) }, func(n int64) { done.Add(n) })
		came = done.Load()
		switch {
		case err == nil && out.Damaged > 0:
			j.Remark()
			return fmt.Sprintf("%s came; %s does not have %s whole, so that they cannot be read: candid store verify there "+
				"asks other sites for them, and candid undo takes the going back back", phrase.Size(came), from.Site,
				phrase.Many(int(out.Damaged), "block")), nil
		case err == nil:
			return fmt.Sprintf("%s came from %s: %s needs that site no more", phrase.Size(came), from.Site, name), nil
		case ctx.Err() != nil:
			return "", &run.Partly{Leaves: fmt.Sprintf("what came stays, and the rest still comes when it is read. To go on: "+
				"candid disk fill %s; the next start of the service goes on too", name)}
		}
		if now, arrives := is.d.Arriving(); arrives && now.Root != from.Root { // it went back to another one
			from = now
			continue
		} else if !arrives || errors.Is(err, disk.ErrClosed) {
			j.SetWaits(false) // who has it arrive from here on begins another run; who did before is seen now
			if from, arrives = is.d.Arriving(); arrives && !errors.Is(err, disk.ErrClosed) {
				j.SetWaits(true)
				continue
			}
			return "", refusal.Conflictf("%s needs that no more: it went back meanwhile, or was closed", name)
		}
		if errors.Is(err, disk.ErrWithdrawn) {
			return "", refusal.Wrap(refusal.Elsewhere, fmt.Errorf("%s came, and the rest of %s cannot be had: %w. What it "+
				"lacks cannot be read until %s gives it: then candid disk fill %s. Else take the going back back, with "+
				"candid undo", phrase.Size(came), name, err, from.Site, name))
		}
		if words := err.Error(); words != said {
			j.Logf("%s went away: %v; it is asked again until it is there, and what came stays", from.Site, err)
			said = words
		}
		if came > before {
			pause = time.Second
		}
		j.Say("waiting for " + from.Site)
		select {
		case <-time.After(pause):
		case <-ctx.Done():
		}
	}
}
