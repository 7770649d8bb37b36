package capture

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
	"candidharbor/internal/phrase"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
)

const (
	lateAfter    = 2 * time.Minute // a due time met later than this counts as missed
	mostGaps     = 10_000          // recorded at once
	Housekeeping = time.Hour
)

// SettleAhead has a volume be due again whose due times were settled into the future, by a
// clock that was ahead: nothing would be taken of it until then.
func (s *Service) SettleAhead(v *catalog.Volume, now time.Time) error {
	if !v.ScheduledUntil.After(now.Add(retention.Ahead)) {
		return nil
	}
	to := now
	if s.run.Started().Before(to) {
		to = s.run.Started()
	}
	to = to.Add(-time.Nanosecond) // what is due at the start is due too
	s.Log.Warn("the due times of a volume were settled ahead of the clock; it is due again", "volume", v.Name, "until",
		v.ScheduledUntil.Time)
	v.ScheduledUntil = catalog.At(to)
	return s.Catalog.Scheduled(v.Name, to)
}

// WhyFull says why nothing of a unit is taken for lack of room; empty when it is.
func (s *Service) WhyFull(u *unit, low bool) (string, error) {
	if low {
		_, free, want := s.Lacking()
		return fmt.Sprintf("the store was low on space: %s were free, %s must stay free", phrase.Size(free),
			phrase.Size(want)), nil
	}
	for _, d := range u.All {
		if why, _, err := s.rules.Full(d.v); err != nil || why != "" {
			return why, err
		}
	}
	return "", nil
}

// SkipDue records what comes due while nothing is taken.
func (s *Service) SkipDue(u *unit, why string, now time.Time) error {
	var gaps []catalog.Gap
	for _, d := range u.All {
		if s.dueAtStart(d.v, d.rs) {
			gaps = append(gaps, catalog.Gap{Volume: d.v.Name, Due: catalog.At(s.run.Started()), Cause: why})
		}
		for _, c := range d.rs.Take {
			for t := range c.Between(d.v.ScheduledUntil.Time, now) {
				if len(gaps) == mostGaps {
					break
				}
				gaps = append(gaps, catalog.Gap{Volume: d.v.Name, Due: catalog.At(t), Cause: why})
			}
		}
	}
	if err := s.Catalog.PutGaps(gaps); err != nil {
		return err
	}
	s.run.Forget(u.members())
	return s.scheduled(u, now)
}

func (s *Service) scheduled(u *unit, now time.Time) error {
	for _, d := range u.All {
		if err := s.Catalog.Scheduled(d.v.Name, now); err != nil {
			return err
		}
	}
	return nil
}

// StartDue takes one snapshot for all due times up to now, of a volume or of a group. Those
// that were missed are recorded as gaps with their cause.
func (s *Service) StartDue(u *unit, now time.Time) (*run.Job, error) {
	release, err := s.run.Hold(s.run.Context(), u.Key())
	if err != nil {
		return nil, err
	}
	t := Taking{Cause: object.CauseScheduled, onChange: true}
	var gaps []catalog.Gap
	latest := map[string]time.Time{} // of the volumes that are due
	for i := range u.All {
		d := &u.All[i]
		last, missed := s.dueTimes(d, now)
		if last.IsZero() {
			continue
		}
		gaps, latest[d.v.Name] = append(gaps, missed...), last
		t.onChange = t.onChange && !s.dueAtStart(d.v, d.rs) && d.rs.OnlyLooks(last)
	}
	if len(latest) == 0 { // because something changed
		latest[u.All[0].v.Name] = now
	}
	j, err := s.run.Start("snapshot", u.name(), "the schedule", func(ctx context.Context, j *run.Job) (any, string,
		error) {
		defer release()
		if len(gaps) > 0 {
			j.Logf("%d due times were missed: %s", len(gaps), gaps[len(gaps)-1].Cause)
		}
		row, outcome, err := s.takeAll(ctx, j, u.group, u.members(), u.All[0].v.Name, t)
		if err != nil {
			if s.run.Context().Err() != nil {
				return nil, "", err // due again when the service is back
			}
			for name, at := range latest {
				gaps = append(gaps, catalog.Gap{Volume: name, Due: catalog.At(at), Cause: fmt.Sprintf("run %d failed: %s", j.ID(),
					err)})
			}
		}
		if gerr := s.Catalog.PutGaps(gaps); gerr != nil {
			return nil, "", errors.Join(err, gerr)
		}
		s.run.Forget(u.members())
		if serr := s.scheduled(u, now); serr != nil {
			return nil, "", errors.Join(err, serr)
		}
		s.run.Changed("snapshots", u.members()...)
		if err != nil {
			return nil, "", err
		}
		view, err := s.rules.SnapshotView(row, nil)
		return view, outcome, err
	})
	if err != nil {
		release()
	}
	return j, err
}

// dueTimes returns the last due time of a volume up to now, zero when there is none, and
// those that were missed.
func (s *Service) dueTimes(d *dueVolume, now time.Time) (latest time.Time, gaps []catalog.Gap) {
	var due []time.Time
	firm := map[int64]bool{} // not only looks for changes, which come when they settle
	atStart := s.dueAtStart(d.v, d.rs)
	if atStart {
		due = append(due, s.run.Started())
	}
	for _, c := range d.rs.Take {
		for t := range c.Between(d.v.ScheduledUntil.Time, now) {
			due = append(due, t)
			if _, _, looks := c.OnChange(); !looks || t.Before(s.run.Started()) {
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
		if now.Sub(t) > lateAfter && firm[t.UnixNano()] && !(atStart && t.Equal(s.run.Started())) {
			gaps = append(gaps, catalog.Gap{Volume: d.v.Name, Due: catalog.At(t), Cause: s.whyMissed(t)})
		}
	}
	return due[len(due)-1], gaps[max(0, len(gaps)-mostGaps):]
}

// IsDue reports whether a volume is due, and when something is due next.
func (s *Service) IsDue(d *dueVolume, now time.Time) (is bool, next time.Time, err error) {
	if t, ok := d.rs.Next(now); ok {
		next = t
	}
	due, ok := d.rs.Next(d.v.ScheduledUntil.Time)
	is = ok && !due.After(now)
	// Where the journal reports changes, a snapshot is taken when they have settled and not before.
	changed, told, err := s.onChange(d.v, d.rs)
	if err != nil {
		return false, next, err
	}
	if told && !changed.IsZero() {
		is = !changed.After(now) || (is && !d.rs.OnlyOnChange(d.v.ScheduledUntil.Time, now))
		if changed.After(now) && (next.IsZero() || changed.Before(next)) {
			next = changed
		}
	}
	return is || s.dueAtStart(d.v, d.rs), next, nil
}

// dueAtStart reports whether a cadence asks for a snapshot at the start of the service
// that was not taken yet.
func (s *Service) dueAtStart(v *catalog.Volume, rs *rules.Ruleset) bool {
	return v.ScheduledUntil.Before(s.run.Started()) && slices.ContainsFunc(rs.Take, (*cadence.Cadence).AtStart)
}

func (s *Service) whyMissed(due time.Time) string {
	if due.Before(s.run.Started()) {
		return "the service was not running"
	}
	return "the service did not get to it in time: the snapshot before went on, or the host slept"
}
