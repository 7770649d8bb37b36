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
	"candidharbor/core/retention"
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
	s.keepingMu.Lock()
	s.keeping = ctx
	for _, p := range s.further {
		go p.KeepSchedule(ctx)
	}
	s.keepingMu.Unlock()
	nextHouse := s.clock.Now().Add(time.Minute)
	for {
		now := s.clock.Now()
		if !now.Before(nextHouse) {
			s.housekeep()
			nextHouse = now.Add(housekeeping)
		}
		began := time.Now()
		next, err := s.Step(ctx, false)
		s.lookTook.Store(int64(time.Since(began)))
		if err != nil && ctx.Err() == nil {
			s.log.Error("the schedule could not be kept; it is tried again in a minute", "error", err)
			next = now.Add(time.Minute)
		}
		look := now.Add(s.alarmsEvery())
		for _, at := range []time.Time{nextHouse, look} {
			if next.IsZero() || at.Before(next) {
				next = at
			}
		}
		select {
		case <-s.clock.Until(next):
		case <-s.woken():
		case <-ctx.Done():
			return
		case <-s.closing().Done(): // a place that is detached
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
	if err := s.cat.ForgetAlarms(s.clock.Now().Add(-alarmsKept)); err != nil {
		s.log.Error("old alarms could not be forgotten", "error", err)
	}
	if err := s.cat.ForgetTraffic(s.clock.Now().Add(-statesKept)); err != nil {
		s.log.Error("the old traffic of routes could not be forgotten", "error", err)
	}
	if n, err := s.cat.UnveilOld(s.clock.Now().Add(-setWait)); err != nil {
		s.log.Error("sets that wait could not be looked for", "error", err)
	} else if n > 0 {
		s.log.Warn("snapshots waited in vain for the rest of their sets and are shown for themselves", "snapshots", n)
		s.changed("snapshots")
	}
	if _, err := s.startPrune("", "the schedule"); err != nil {
		s.log.Error("pruning could not begin", "error", err)
		return
	}
	if s.clock.Now().Hour() == 3 && !s.isBusy("verify") && s.suspect() {
		if _, err := s.Verify("the schedule"); err != nil {
			s.log.Error("a verification could not begin", "error", err)
		}
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
	for _, v := range vols {
		if err := s.settleAhead(v, now); err != nil {
			return next, err
		}
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
	units, err := s.units(vols)
	if err != nil {
		return next, err
	}
	for _, u := range units {
		isDue := false
		for i := range u.all {
			due, at, err := s.isDue(&u.all[i], now)
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
		if s.isBusy(u.key()) {
			continue // its due times collapse into one when the run before is over
		}
		why, err := s.whyFull(u, low.Stopped)
		if err != nil {
			return next, err
		}
		if why != "" {
			if err := s.skipDue(u, why, now); err != nil {
				return next, err
			}
			continue
		}
		j, err := s.startDue(u, now)
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
	if err != nil {
		return next, err
	}
	if !at.IsZero() {
		sooner(at)
	}
	if at, err = s.stepAppointments(ctx, wait); err != nil {
		return next, err
	}
	if !at.IsZero() {
		sooner(at)
	}
	return next, s.stepAlarms(ctx, wait)
}

// settleAhead has a volume be due again whose due times were settled into the future, by a
// clock that was ahead: nothing would be taken of it until then.
func (s *Site) settleAhead(v *catalog.Volume, now time.Time) error {
	if !v.ScheduledUntil.After(now.Add(retention.Ahead)) {
		return nil
	}
	to := now
	if s.started.Before(to) {
		to = s.started
	}
	to = to.Add(-time.Nanosecond) // what is due at the start is due too
	s.log.Warn("the due times of a volume were settled ahead of the clock; it is due again", "volume", v.Name, "until", v.ScheduledUntil.Time)
	v.ScheduledUntil = catalog.At(to)
	return s.cat.Scheduled(v.Name, to)
}

// whyFull says why nothing of a unit is taken for lack of room; empty when it is.
func (s *Site) whyFull(u *unit, low bool) (string, error) {
	if low {
		_, free, want := s.lacking()
		return fmt.Sprintf("the store was low on space: %s were free, %s must stay free", size(free), size(want)), nil
	}
	for _, d := range u.all {
		if why, _, err := s.full(d.v); err != nil || why != "" {
			return why, err
		}
	}
	return "", nil
}

// skipDue records what comes due while nothing is taken.
func (s *Site) skipDue(u *unit, why string, now time.Time) error {
	var gaps []catalog.Gap
	for _, d := range u.all {
		if s.dueAtStart(d.v, d.rs) {
			gaps = append(gaps, catalog.Gap{Volume: d.v.Name, Due: catalog.At(s.started), Cause: why})
		}
		for _, c := range d.rs.take {
			for t := range c.Between(d.v.ScheduledUntil.Time, now) {
				if len(gaps) == mostGaps {
					break
				}
				gaps = append(gaps, catalog.Gap{Volume: d.v.Name, Due: catalog.At(t), Cause: why})
			}
		}
	}
	if err := s.cat.PutGaps(gaps); err != nil {
		return err
	}
	return s.scheduled(u, now)
}

func (s *Site) scheduled(u *unit, now time.Time) error {
	for _, d := range u.all {
		if err := s.cat.Scheduled(d.v.Name, now); err != nil {
			return err
		}
	}
	return nil
}

func (s *Site) isBusy(key string) bool {
	s.runsMu.Lock()
	defer s.runsMu.Unlock()
	_, ok := s.busy[key]
	return ok
}

// startDue takes one snapshot for all due times up to now, of a volume or of a group. Those
// that were missed are recorded as gaps with their cause.
func (s *Site) startDue(u *unit, now time.Time) (*job, error) {
	release, err := s.hold(s.closing(), u.key())
	if err != nil {
		return nil, err
	}
	t := taking{cause: object.CauseScheduled, onChange: true}
	var gaps []catalog.Gap
	latest := map[string]time.Time{} // of the volumes that are due
	for i := range u.all {
		d := &u.all[i]
		last, missed := s.dueTimes(d, now)
		if last.IsZero() {
			continue
		}
		gaps, latest[d.v.Name] = append(gaps, missed...), last
		t.onChange = t.onChange && !s.dueAtStart(d.v, d.rs) && d.rs.onlyLooks(last)
	}
	if len(latest) == 0 { // because something changed
		latest[u.all[0].v.Name] = now
	}
	j, err := s.start("snapshot", u.name(), "the schedule", func(ctx context.Context, j *job) (any, string, error) {
		defer release()
		if len(gaps) > 0 {
			j.logf("%d due times were missed: %s", len(gaps), gaps[len(gaps)-1].Cause)
		}
		row, outcome, err := s.takeAll(ctx, j, u.group, u.members(), u.all[0].v.Name, t)
		if err != nil {
			if s.closing().Err() != nil {
				return nil, "", err // due again when the service is back
			}
			for name, at := range latest {
				gaps = append(gaps, catalog.Gap{Volume: name, Due: catalog.At(at), Cause: fmt.Sprintf("run %d failed: %s", j.row.ID, err)})
			}
		}
		if gerr := s.cat.PutGaps(gaps); gerr != nil {
			return nil, "", errors.Join(err, gerr)
		}
		if serr := s.scheduled(u, now); serr != nil {
			return nil, "", errors.Join(err, serr)
		}
		s.changed("snapshots", u.members()...)
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

// dueTimes returns the last due time of a volume up to now, zero when there is none, and
// those that were missed.
func (s *Site) dueTimes(d *dueVolume, now time.Time) (latest time.Time, gaps []catalog.Gap) {
	var due []time.Time
	firm := map[int64]bool{} // not only looks for changes, which come when they settle
	atStart := s.dueAtStart(d.v, d.rs)
	if atStart {
		due = append(due, s.started)
	}
	for _, c := range d.rs.take {
		for t := range c.Between(d.v.ScheduledUntil.Time, now) {
			due = append(due, t)
			if _, _, looks := c.OnChange(); !looks || t.Before(s.started) {
				firm[t.UnixNano()] = true
			}
			if len(due) > mostGaps*4 {
				break
			}
		}
	}
	if len(due) == 0 {
		return latest, nil
	}
	sort.Slice(due, func(i, k int) bool { return due[i].Before(due[k]) })
	due = slices.CompactFunc(due, time.Time.Equal)
	for _, t := range due {
		if now.Sub(t) > lateAfter && firm[t.UnixNano()] && !(atStart && t.Equal(s.started)) {
			gaps = append(gaps, catalog.Gap{Volume: d.v.Name, Due: catalog.At(t), Cause: s.whyMissed(t)})
		}
	}
	return due[len(due)-1], gaps[max(0, len(gaps)-mostGaps):]
}

// isDue reports whether a volume is due, and when something is due next.
func (s *Site) isDue(d *dueVolume, now time.Time) (is bool, next time.Time, err error) {
	if t, ok := d.rs.next(now); ok {
		next = t
	}
	due, ok := d.rs.next(d.v.ScheduledUntil.Time)
	is = ok && !due.After(now)
	// Where changes are told one is taken when they have settled, and not before.
	changed, told, err := s.onChange(d.v, d.rs)
	if err != nil {
		return false, next, err
	}
	if told && !changed.IsZero() {
		is = !changed.After(now) || (is && !d.rs.onlyOnChange(d.v.ScheduledUntil.Time, now))
		if changed.After(now) && (next.IsZero() || changed.Before(next)) {
			next = changed
		}
	}
	return is || s.dueAtStart(d.v, d.rs), next, nil
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
