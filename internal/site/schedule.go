package site

import (
	"context"
	"time"

	"candidharbor/internal/capture"
	"candidharbor/internal/overview"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
)

// KeepSchedule takes, carries and prunes what is due until ctx ends.
func (s *Site) KeepSchedule(ctx context.Context) {
	s.keepingMu.Lock()
	s.keeping = ctx
	for _, p := range s.further {
		p.Run.Go(func(context.Context) { p.KeepSchedule(ctx) })
	}
	s.keepingMu.Unlock()
	nextHouse := s.Clock.Now().Add(time.Minute)
	for {
		now := s.Clock.Now()
		if !now.Before(nextHouse) {
			s.housekeep()
			nextHouse = now.Add(capture.Housekeeping)
		}
		began := time.Now()
		next, err := s.Step(ctx, false)
		s.Capture.NoteLook(time.Since(began))
		if err != nil && ctx.Err() == nil {
			s.Log.Error("the schedule could not be kept; it is tried again in a minute", "error", err)
			next = now.Add(time.Minute)
		}
		look := now.Add(s.Overview.AlarmsEvery())
		for _, at := range []time.Time{nextHouse, look} {
			if next.IsZero() || at.Before(next) {
				next = at
			}
		}
		select {
		case <-s.Clock.Until(next):
		case <-s.Run.Woken():
		case <-ctx.Done():
			return
		case <-s.Run.Context().Done(): // a place that is detached
			return
		}
	}
}

// housekeep applies the rules and takes away what is over.
func (s *Site) housekeep() {
	if err := s.Run.ForgetOld(); err != nil {
		s.Log.Error("old runs could not be forgotten", "error", err)
	}
	if err := s.Catalog.ForgetStates(s.Clock.Now().Add(-rules.StatesKept)); err != nil {
		s.Log.Error("old states could not be forgotten", "error", err)
	}
	if err := s.Catalog.ForgetAlarms(s.Clock.Now().Add(-overview.AlarmsKept)); err != nil {
		s.Log.Error("old alarms could not be forgotten", "error", err)
	}
	if err := s.Catalog.ForgetTraffic(s.Clock.Now().Add(-rules.StatesKept)); err != nil {
		s.Log.Error("the old traffic of routes could not be forgotten", "error", err)
	}
	if n, err := s.Catalog.UnveilOld(s.Clock.Now().Add(-capture.SetWait)); err != nil {
		s.Log.Error("sets that wait could not be looked for", "error", err)
	} else if n > 0 {
		s.Log.Warn("snapshots waited in vain for the rest of their sets and are shown for themselves", "snapshots", n)
		s.Run.Changed("snapshots")
	}
	if _, err := s.Rules.StartPrune("", "the schedule"); err != nil {
		s.Log.Error("pruning could not begin", "error", err)
		return
	}
	if s.Clock.Now().Hour() == 3 && !s.Run.IsHeld(run.KeyVerify.Of("")) && s.Upkeep.Suspect() {
		if _, err := s.Upkeep.Verify("the schedule"); err != nil {
			s.Log.Error("a verification could not begin", "error", err)
		}
	}
	if u := s.Store.Usage(); s.Clock.Now().Hour() == 3 || u.DeadBytes > u.StoredBytes/4 {
		if _, err := s.Upkeep.StartSweep(false, "the schedule"); err != nil {
			s.Log.Error("a sweep could not begin", "error", err)
		}
	}
}

// Step starts everything that is due and returns when something is due next. With wait
// it also waits for what it started, as a demo with a moved clock needs.
func (s *Site) Step(ctx context.Context, wait bool) (next time.Time, err error) {
	now := s.Clock.Now()
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return next, err
	}
	for _, v := range vols {
		if err := s.Capture.SettleAhead(v, now); err != nil {
			return next, err
		}
	}
	sooner := func(t time.Time) {
		if next.IsZero() || t.Before(next) {
			next = t
		}
	}
	relief, err := s.Rules.WatchRoom()
	if err != nil {
		return next, err
	}
	if relief != nil { // room first: what is taken now would only take more
		if err := relief.Wait(ctx); err != nil && ctx.Err() != nil {
			return next, err
		}
	}
	low, _, err := s.Rules.LowState()
	if err != nil {
		return next, err
	}
	var started []*run.Job
	units, err := s.Capture.Units(vols)
	if err != nil {
		return next, err
	}
	for _, u := range units {
		isDue := false
		for i := range u.All {
			due, at, err := s.Capture.IsDue(&u.All[i], now)
			if err != nil {
				return next, err
			}
			if !at.IsZero() {
				sooner(at)
			}
			isDue = isDue || due
		}
		if !isDue {
			continue
		}
		if s.Run.IsHeld(u.Key()) {
			continue // its due times collapse into one when the run before is over
		}
		why, err := s.Capture.WhyFull(u, low.Stopped)
		if err != nil {
			return next, err
		}
		if why != "" {
			if err := s.Capture.SkipDue(u, why, now); err != nil {
				return next, err
			}
			continue
		}
		j, err := s.Capture.StartDue(u, now)
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
	at, err := s.Routes.StepRoutes(ctx, wait)
	if err != nil {
		return next, err
	}
	if !at.IsZero() {
		sooner(at)
	}
	if at, err = s.Outlets.Step(ctx, wait); err != nil {
		return next, err
	}
	if !at.IsZero() {
		sooner(at)
	}
	if at, err = s.Recovery.RunDueTasks(ctx, wait); err != nil {
		return next, err
	}
	if !at.IsZero() {
		sooner(at)
	}
	return next, s.Overview.StepAlarms(ctx, wait)
}
