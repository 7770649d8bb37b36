package site

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
)

const (
	lateAfter    = 2 * time.Minute // a due time met later than this counts as missed
	mostGaps     = 10_000          // recorded at once
	housekeeping = time.Hour
	runsKept     = 90 * 24 * time.Hour
)

// KeepSchedule takes, carries and prunes what is due until ctx ends.
func (s *Site) KeepSchedule(ctx context.Context) {
	nextHouse := s.clock.Now().Add(time.Minute)
	for {
		now := s.clock.Now()
		if !now.Before(nextHouse) {
			s.housekeep()
			nextHouse = now.Add(housekeeping)
		}
		next, err := s.Step(ctx, false)
		if err != nil && ctx.Err() == nil {
			s.log.Error("the schedule could not be kept; it is tried again in a minute", "error", err)
			next = now.Add(time.Minute)
		}
		if next.IsZero() || next.After(nextHouse) {
			next = nextHouse
		}
		select {
		case <-s.clock.Until(next):
		case <-s.wake:
		case <-ctx.Done():
			return
		}
	}
}

// housekeep applies the rules and takes away what is over.
func (s *Site) housekeep() {
	if err := s.cat.ForgetRuns(s.clock.Now().Add(-runsKept)); err != nil {
		s.log.Error("old runs could not be forgotten", "error", err)
	}
	if err := s.cat.ForgetStates(s.clock.Now().Add(-statesKept)); err != nil {
		s.log.Error("old states could not be forgotten", "error", err)
	}
	if _, err := s.startPrune("", "the schedule"); err != nil {
		s.log.Error("pruning could not begin", "error", err)
		return
	}
	if u := s.store.Usage(); s.clock.Now().Hour() == 3 || u.DeadBytes > u.StoredBytes/4 {
		if _, err := s.startSweep(false, "the schedule"); err != nil {
			s.log.Error("a sweep could not begin", "error", err)
		}
	}
}

// Step starts everything that is due and returns when something is due next. With wait
// it also waits for what it started, as a demo with a moved clock needs.
func (s *Site) Step(ctx context.Context, wait bool) (next time.Time, err error) {
	now := s.clock.Now()
	vols, err := s.cat.Volumes()
	if err != nil {
		return next, err
	}
	sooner := func(t time.Time) {
		if next.IsZero() || t.Before(next) {
			next = t
		}
	}
	relief, err := s.watchRoom()
	if err != nil {
		return next, err
	}
	if relief != nil { // room first: what is taken now would only take more
		if err := relief.wait(ctx); err != nil && ctx.Err() != nil {
			return next, err
		}
	}
	low, _, err := s.lowState()
	if err != nil {
		return next, err
	}
	var started []*job
	for _, v := range vols {
		if !v.Protected || v.Origin != s.Name() || !v.Paused.IsZero() {
			continue
		}
		rs, err := s.rulesFor(v)
		if err != nil {
			return next, err
		}
		if t, ok := rs.next(now); ok {
			sooner(t)
		}
		due, ok := rs.next(v.ScheduledUntil.Time)
		isDue := ok && !due.After(now)
		// Where changes are told one is taken when they have settled, and not before.
		changed, told, err := s.onChange(v, rs)
		if err != nil {
			return next, err
		}
		byChange := told && !changed.IsZero()
		if byChange {
			isDue = !changed.After(now) || (isDue && !rs.onlyOnChange(v.ScheduledUntil.Time, now))
			if changed.After(now) {
				sooner(changed)
			}
		}
		if !isDue && !s.dueAtStart(v, rs) {
			continue
		}
		if low.Stopped {
			if err := s.skipDue(v, rs, now); err != nil {
				return next, err
			}
			continue
		}
		if s.isBusy("due " + v.Name) {
			continue // its due times collapse into one when the run before is over
		}
		j, err := s.startDue(v, rs, now)
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
	at, err := s.stepRoutes(ctx, wait)
	if err == nil && !at.IsZero() {
		sooner(at)
	}
	return next, err
}

// skipDue records what comes due while nothing is taken for lack of room.
func (s *Site) skipDue(v *catalog.Volume, rs *ruleset, now time.Time) error {
	_, free, want := s.lacking()
	var gaps []catalog.Gap
	for _, c := range rs.take {
		for t := range c.Between(v.ScheduledUntil.Time, now) {
			if len(gaps) == mostGaps {
				break
			}
			gaps = append(gaps, catalog.Gap{Volume: v.Name, Due: catalog.At(t), Cause: fmt.Sprintf("the store was low on space: %s were free, %s must stay free", size(free), size(want))})
		}
	}
	if err := s.cat.PutGaps(gaps); err != nil {
		return err
	}
	return s.cat.Scheduled(v.Name, now)
}

func (s *Site) isBusy(key string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, ok := s.busy[key]
	return ok
}

// startDue takes one snapshot for all due times up to now. Those that were missed are
// recorded as gaps with their cause.
func (s *Site) startDue(v *catalog.Volume, rs *ruleset, now time.Time) (*job, error) {
	release, err := s.hold(s.ctx, "due "+v.Name)
	if err != nil {
		return nil, err
	}
	var due []time.Time
	firm := map[int64]bool{} // not only looks for changes, which come when they settle
	atStart := s.dueAtStart(v, rs)
	if atStart {
		due = append(due, s.started)
	}
	for _, c := range rs.take {
		for t := range c.Between(v.ScheduledUntil.Time, now) {
			due = append(due, t)
			if _, _, looks := c.OnChange(); !looks || t.Before(s.started) {
				firm[t.UnixNano()] = true
			}
			if len(due) > mostGaps*4 {
				break
			}
		}
	}
	if len(due) == 0 { // because something changed
		due = append(due, now)
	}
	sort.Slice(due, func(i, k int) bool { return due[i].Before(due[k]) })
	due = slices.CompactFunc(due, time.Time.Equal)
	latest := due[len(due)-1]
	var gaps []catalog.Gap
	for _, t := range due {
		if now.Sub(t) > lateAfter && firm[t.UnixNano()] && !(atStart && t.Equal(s.started)) {
			gaps = append(gaps, catalog.Gap{Volume: v.Name, Due: catalog.At(t), Cause: s.whyMissed(t)})
		}
	}
	gaps = gaps[max(0, len(gaps)-mostGaps):]
	j, err := s.start("snapshot", v.Name, "the schedule", func(ctx context.Context, j *job) (any, string, error) {
		defer release()
		j.say("waiting for another run on this volume")
		free, err := s.hold(ctx, "volume "+v.Name)
		if err != nil {
			return nil, "", err
		}
		defer free()
		if len(gaps) > 0 {
			j.logf("%d due times were missed: %s", len(gaps), gaps[len(gaps)-1].Cause)
		}
		row, outcome, err := s.take(ctx, j, v.Name, taking{cause: object.CauseScheduled, due: latest, onChange: !atStart && rs.onlyLooks(latest)})
		if err != nil {
			if s.ctx.Err() != nil {
				return nil, "", err // due again when the service is back
			}
			gaps = append(gaps, catalog.Gap{Volume: v.Name, Due: catalog.At(latest), Cause: fmt.Sprintf("run %d failed: %s", j.row.ID, err)})
		}
		if gerr := s.cat.PutGaps(gaps); gerr != nil {
			return nil, "", errors.Join(err, gerr)
		}
		if serr := s.cat.Scheduled(v.Name, now); serr != nil {
			return nil, "", errors.Join(err, serr)
		}
		s.changed("snapshots", v.Name)
		if err != nil {
			return nil, "", err
		}
		view, err := s.snapshotView(row, nil)
		return view, outcome, err
	})
	if err != nil {
		release()
	}
	return j, err
}

// dueAtStart reports whether a cadence asks for a snapshot at the start of the service
// that was not taken yet.
func (s *Site) dueAtStart(v *catalog.Volume, rs *ruleset) bool {
	return v.ScheduledUntil.Before(s.started) && slices.ContainsFunc(rs.take, (*cadence.Cadence).AtStart)
}

// onlyOnChange reports whether what comes due in a span is only to be taken on change.
func (rs *ruleset) onlyOnChange(from, to time.Time) bool {
	for _, c := range rs.take {
		if _, _, looks := c.OnChange(); looks {
			continue
		}
		if at, ok := c.Next(from); ok && !at.After(to) {
			return false
		}
	}
	return true
}

// onlyLooks reports whether at a due time one only looks whether something changed.
func (rs *ruleset) onlyLooks(due time.Time) bool {
	for _, c := range rs.take {
		if _, _, looks := c.OnChange(); looks {
			continue
		}
		if at, ok := c.Next(due.Add(-time.Nanosecond)); ok && at.Equal(due) {
			return false
		}
	}
	return true
}

func (s *Site) whyMissed(due time.Time) string {
	if due.Before(s.started) {
		return "the service was not running"
	}
	return "the service did not get to it in time: the snapshot before went on, or the host slept"
}
