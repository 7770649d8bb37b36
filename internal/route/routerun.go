package route

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
	"candidharbor/internal/transfer"
)

// dueRoute tells whether a route is to run now, and when it is to be looked at again.
func (s *Service) dueRoute(r *catalog.Route, now time.Time) (is bool, next time.Time, err error) {
	t := r.Terms.V
	if !r.Paused.IsZero() || t.When == onDemand && r.NextTry.IsZero() {
		return false, next, nil
	}
	if r.NextTry.After(now) {
		return false, r.NextTry.Time, nil
	}
	c, err := routeCadence(t)
	if err != nil {
		return false, next, err
	}
	if c != nil && r.Failures == 0 && !r.Interrupted() {
		from := r.Made.Time
		if r.LastRun.After(from) {
			from = r.LastRun.Time
		}
		first := t.When == "" && r.LastRun.IsZero() // a new route that pulls looks at once
		if at, ok := c.Next(from); !first && (!ok || at.After(now)) {
			return false, at, nil
		}
		if t.Pull {
			return true, next, nil
		}
	}
	if t.Pull {
		return true, next, nil
	}
	work, err := s.RouteWork(r)
	if err != nil {
		return false, next, err
	}
	is = slices.ContainsFunc(work, func(w RouteWork) bool { return len(w.Want) > 0 || len(w.marks) > 0 })
	if c != nil && !is {
		next, _ = c.Next(now)
	}
	return is, next, nil
}

// StepRoutes starts every route that has something to carry and is not waiting to try
// again. It returns when the next try is due.
func (s *Service) StepRoutes(ctx context.Context, wait bool) (next time.Time, err error) {
	routes, err := s.Catalog.Routes()
	if err != nil {
		return next, err
	}
	now := s.Clock.Now()
	var started []*run.Job
	for _, r := range routes {
		if s.run.IsHeld(run.KeyRoute.Of(r.Name)) {
			continue
		}
		is, at, err := s.dueRoute(r, now)
		if err != nil {
			return next, err
		}
		if !at.IsZero() && (next.IsZero() || at.Before(next)) {
			next = at
		}
		if !is {
			continue
		}
		j, err := s.startRoute(r, "the schedule")
		if err != nil {
			return next, err
		}
		started = append(started, j)
	}
	if wait {
		for _, j := range started {
			if err := j.Wait(ctx); err != nil && ctx.Err() != nil {
				return next, err
			}
		}
	}
	return next, nil
}

// going is a run of a route.
type going struct {
	meter *transfer.Meter
	began time.Time // by the clock on the wall: bytes take real time
	job   *run.Job
}

func (s *Service) startRoute(r *catalog.Route, by string) (*run.Job, error) {
	return s.run.Start("carry", r.Name, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		j.Say("waiting for another run of this route")
		release, err := s.run.Hold(ctx, run.KeyRoute.Of(r.Name))
		if err != nil {
			return nil, "", err
		}
		defer release()
		g := &going{meter: &transfer.Meter{}, began: time.Now(), job: j}
		s.mu.Lock()
		s.going[r.Name] = g
		s.mu.Unlock()
		defer func() {
			s.mu.Lock()
			delete(s.going, r.Name)
			s.mu.Unlock()
		}()
		meter := g.meter
		j.Begin(func() api.Progress {
			return api.Progress{DoneBytes: meter.ThereBytes.Load(), TotalBytes: meter.TotalBytes.Load(),
				Files: meter.SentObjects.Load()}
		})
		r, n, err := s.runRoute(ctx, j, r.Name, meter)
		if r == nil {
			return nil, "", err
		}
		if within, took := r.Terms.V.Within, s.Clock.Now().Sub(r.LastRun.Time); within > 0 && took > within {
			j.Logf("it was to finish within %s and took %s", phrase.Ago(within), phrase.Ago(took))
			j.Remark()
			s.Log.Warn("a run of a route took longer than it was to", "route", r.Name, "within", within, "took", took)
		}
		if rerr := s.noteRoute(r.Name, g, err, ctx.Err() != nil); rerr != nil {
			err = errors.Join(err, rerr)
		}
		s.run.Tell("routes")
		var closed *transfer.Closed
		if errors.As(err, &closed) {
			return nil, fmt.Sprintf("%s carried; %s, then it goes on", phrase.Many(n, "snapshot"), closed.Error()), nil
		}
		if err != nil {
			return nil, "", err
		}
		sent, offered := meter.SentBytes.Load(), meter.OfferedBytes.Load()
		out := map[string]int64{"snapshots": int64(n), "sentBytes": sent, "offeredBytes": offered,
			"wireBytes": meter.WireBytes.Load()}
		switch {
		case n == 0 && r.Terms.V.Pull:
			return nil, fmt.Sprintf("%s has nothing new that is wanted here", r.Peer), nil
		case n == 0:
			return nil, fmt.Sprintf("nothing new to carry; %s knows how long the newest states were seen unchanged", r.Peer), nil
		case sent == 0 && offered == 0:
			whose := "its"
			if n > 1 {
				whose = "their"
			}
			return out, fmt.Sprintf("%s carried to %s; all of %s data was there already", phrase.Many(n, "snapshot"), r.Peer,
				whose), nil
		case r.Terms.V.Pull:
			return out, fmt.Sprintf("%s taken from %s; %s came", phrase.Many(n, "snapshot"), r.Peer, phrase.Size(sent)), nil
		}
		return out, fmt.Sprintf("%s carried to %s; %s sent, %s were there already", phrase.Many(n, "snapshot"), r.Peer,
			phrase.Size(sent), phrase.Size(max(0, offered-sent))), nil
	})
}

func (s *Service) runRoute(ctx context.Context, j *run.Job, name string, meter *transfer.Meter) (*catalog.Route, int,
	error) {
	var r *catalog.Route
	err := s.changeRoute(name, func(row *catalog.Route) error {
		row.LastRun, r = catalog.At(s.Clock.Now()), row
		return nil
	})
	if err != nil {
		return nil, 0, err
	}
	peer, err := s.Catalog.Peer(r.Peer)
	if err != nil {
		return nil, 0, err
	}
	n := 0
	if r.Terms.V.Pull {
		n, err = s.pullAll(ctx, j, r, peer, meter)
	} else {
		n, err = s.pushAll(ctx, j, r, peer, meter)
	}
	return r, n, err
}

// noteRoute records how a run of a route ended and when it is tried again.
func (s *Service) noteRoute(name string, g *going, err error, cancelled bool) error {
	var r *catalog.Route
	now, m := s.Clock.Now(), g.meter
	cerr := s.changeRoute(name, func(row *catalog.Route) error {
		r = row
		r.SentBytes += m.SentBytes.Load()
		if err == nil {
			r.SavedBytes += max(0, m.OfferedBytes.Load()-m.SentBytes.Load())
		}
		var closed *transfer.Closed
		switch {
		case err == nil:
			r.LastOK, r.FailingSince, r.NextTry = catalog.At(now), catalog.Time{}, catalog.Time{}
			r.Failures, r.LastError, r.LastCause = 0, "", catalog.CauseNone
		case cancelled:
		case errors.As(err, &closed):
			r.FailingSince, r.Failures, r.NextTry = catalog.Time{}, 0, catalog.At(closed.Until)
			r.LastError, r.LastCause = "the pace lets nothing through", catalog.CausePace
		default:
			if r.Failures == 0 {
				r.FailingSince = catalog.At(now)
			}
			r.Failures++
			r.LastError, r.LastCause = err.Error(), causeOf(err)
			r.NextTry = catalog.At(now.Add(RetryAfter(r.Failures - 1)))
		}
		return nil
	})
	if cerr != nil {
		return cerr
	}
	if err == nil {
		if err := s.Catalog.SawPeer(r.Peer, now); err != nil {
			return err
		}
	}
	return s.noteTraffic(r, g)
}

// causeOf says by a code why a run of a route failed.
func causeOf(err error) catalog.RouteCause {
	var down *pairing.Unreachable
	switch {
	case errors.Is(err, pairing.ErrDetached):
		return catalog.CauseDetached
	case errors.As(err, &down):
		return catalog.CauseUnreachable
	case transfer.IsFull(err):
		return catalog.CauseFull
	}
	return catalog.CauseFailed
}

// RetryAfter is how long to wait after some failures before: half a minute at first,
// doubling up to an hour.
func RetryAfter(before int) time.Duration {
	return min(time.Hour, 30*time.Second<<min(before, 7))
}
