package site

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/transfer"
)

// dueRoute tells whether a route is to run now, and when it is to be looked at again.
func (s *Site) dueRoute(r *catalog.Route, now time.Time) (is bool, next time.Time, err error) {
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
	work, err := s.routeWork(r)
	if err != nil {
		return false, next, err
	}
	is = slices.ContainsFunc(work, func(w routeWork) bool { return len(w.want) > 0 || len(w.marks) > 0 })
	if c != nil && !is {
		next, _ = c.Next(now)
	}
	return is, next, nil
}

// stepRoutes starts every route that has something to carry and is not waiting to try
// again. It returns when the next try is due.
func (s *Site) stepRoutes(ctx context.Context, wait bool) (next time.Time, err error) {
	routes, err := s.cat.Routes()
	if err != nil {
		return next, err
	}
	now := s.clock.Now()
	var started []*job
	for _, r := range routes {
		if s.isBusy("route " + r.Name) {
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
			if err := j.wait(ctx); err != nil && ctx.Err() != nil {
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
	job   *job
}

func (s *Site) startRoute(r *catalog.Route, by string) (*job, error) {
	return s.start("carry", r.Name, by, func(ctx context.Context, j *job) (any, string, error) {
		j.say("waiting for another run of this route")
		release, err := s.hold(ctx, "route "+r.Name)
		if err != nil {
			return nil, "", err
		}
		defer release()
		g := &going{meter: &transfer.Meter{}, began: time.Now(), job: j}
		s.routesMu.Lock()
		s.going[r.Name] = g
		s.routesMu.Unlock()
		defer func() {
			s.routesMu.Lock()
			delete(s.going, r.Name)
			s.routesMu.Unlock()
		}()
		meter := g.meter
		j.begin(func() api.Progress {
			return api.Progress{DoneBytes: meter.ThereBytes.Load(), TotalBytes: meter.TotalBytes.Load(), Files: meter.SentObjects.Load()}
		})
		r, n, err := s.runRoute(ctx, j, r.Name, meter)
		if r == nil {
			return nil, "", err
		}
		if within, took := r.Terms.V.Within, s.clock.Now().Sub(r.LastRun.Time); within > 0 && took > within {
			j.logf("it was to finish within %s and took %s", ago(within), ago(took))
			j.remark()
			s.log.Warn("a run of a route took longer than it was to", "route", r.Name, "within", within, "took", took)
		}
		if rerr := s.noteRoute(r.Name, g, err, ctx.Err() != nil); rerr != nil {
			err = errors.Join(err, rerr)
		}
		s.tell("routes")
		var closed *transfer.Closed
		if errors.As(err, &closed) {
			return nil, fmt.Sprintf("%s carried; %s, then it goes on", many(n, "snapshot"), closed.Error()), nil
		}
		if err != nil {
			return nil, "", err
		}
		sent, offered := meter.SentBytes.Load(), meter.OfferedBytes.Load()
		out := map[string]int64{"snapshots": int64(n), "sentBytes": sent, "offeredBytes": offered, "wireBytes": meter.WireBytes.Load()}
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
			return out, fmt.Sprintf("%s carried to %s; all of %s data was there already", many(n, "snapshot"), r.Peer, whose), nil
		case r.Terms.V.Pull:
			return out, fmt.Sprintf("%s taken from %s; %s came", many(n, "snapshot"), r.Peer, size(sent)), nil
		}
		return out, fmt.Sprintf("%s carried to %s; %s sent, %s were there already", many(n, "snapshot"), r.Peer, size(sent), size(max(0, offered-sent))), nil
	})
}

func (s *Site) runRoute(ctx context.Context, j *job, name string, meter *transfer.Meter) (*catalog.Route, int, error) {
	var r *catalog.Route
	err := s.changeRoute(name, func(row *catalog.Route) error {
		row.LastRun, r = catalog.At(s.clock.Now()), row
		return nil
	})
	if err != nil {
		return nil, 0, err
	}
	peer, err := s.cat.Peer(r.Peer)
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
func (s *Site) noteRoute(name string, g *going, err error, cancelled bool) error {
	var r *catalog.Route
	now, m := s.clock.Now(), g.meter
	cerr := s.changeRoute(name, func(row *catalog.Route) error {
		r = row
		r.SentBytes += m.SentBytes.Load()
		if err == nil {
			r.SavedBytes += max(0, m.OfferedBytes.Load()-m.SentBytes.Load())
		}
		var closed *transfer.Closed
		switch {
		case err == nil:
			r.LastOK, r.FailingSince, r.NextTry, r.Failures, r.LastError = catalog.At(now), catalog.Time{}, catalog.Time{}, 0, ""
		case cancelled:
		case errors.As(err, &closed):
			r.FailingSince, r.Failures, r.NextTry, r.LastError = catalog.Time{}, 0, catalog.At(closed.Until), "the pace lets nothing through"
		default:
			if r.Failures == 0 {
				r.FailingSince = catalog.At(now)
			}
			r.Failures++
			r.LastError = err.Error()
			r.NextTry = catalog.At(now.Add(retryAfter(r.Failures - 1)))
		}
		return nil
	})
	if cerr != nil {
		return cerr
	}
	if err == nil {
		if err := s.cat.SawPeer(r.Peer, now); err != nil {
			return err
		}
	}
	return s.noteTraffic(r, g)
}

// retryAfter is how long to wait after some failures before: half a minute at first,
// doubling up to an hour.
func retryAfter(before int) time.Duration {
	return min(time.Hour, 30*time.Second<<min(before, 7))
}
