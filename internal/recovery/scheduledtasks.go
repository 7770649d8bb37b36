package recovery

import (
	"context"
	"fmt"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
)

// ScheduledTask is something that is done by a cadence, or once.
type ScheduledTask struct {
	Key  string // of the record that says up to when it was kept
	What string // for messages
	By   *cadence.Cadence
	Once time.Time
	Do   func() ([]*run.Job, error)
}

// parseDue reads a cadence phrase, or a moment for what is done once. Empty: neither.
func parseDue(when, zone string) (by *cadence.Cadence, once time.Time, err error) {
	if when == "" {
		return nil, once, nil
	}
	if once, err = time.Parse(time.RFC3339, when); err == nil {
		return nil, once, nil
	}
	loc := time.UTC
	if zone != "" {
		if loc, err = cadence.LoadZone(zone); err != nil {
			return nil, once, refusal.Wrap(refusal.Misuse, err)
		}
	}
	for _, form := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04"} {
		if once, err = time.ParseInLocation(form, when, loc); err == nil {
			return nil, once, nil
		}
	}
	if by, err = cadence.Parse(when, loc); err != nil {
		return nil, time.Time{}, refusal.Wrap(refusal.Misuse, err)
	}
	if _, _, looks := by.OnChange(); looks || by.AtStart() {
		return nil, time.Time{}, refusal.Badf("%q: give times, such as daily at 02:30, or one moment, such as "+
			"2026-03-04 02:30", when)
	}
	return by, time.Time{}, nil
}

// next is when a task is due after a time.
func (a *ScheduledTask) next(after time.Time) (time.Time, bool) {
	if a.By != nil {
		return a.By.Next(after)
	}
	return a.Once, a.Once.After(after)
}

// RunDueTasks starts what is due; several due times that were missed are one. With wait
// it waits for what it started.
func (s *Service) RunDueTasks(ctx context.Context, wait bool) (next time.Time, err error) {
	all, err := s.scheduledTasks()
	if err != nil {
		return next, err
	}
	now := s.Clock.Now()
	for _, a := range all {
		until, err := s.Catalog.TaskKept(a.Key)
		if err != nil {
			return next, err
		}
		if until.IsZero() {
			if until = now; a.By == nil {
				until = time.Unix(0, 0) // a moment that has passed was set to be kept
			}
		}
		if at, ok := a.next(until); ok && !at.After(now) {
			// Before it begins: what ends the service must not be begun at each start.
			if err := s.Catalog.KeepTask(a.Key, now); err != nil {
				return next, err
			}
			started, err := a.Do()
			if err != nil {
				s.Log.Error("what was due could not begin", "what", a.What, "error", err)
				j, err := s.failedToBegin(a.What, err)
				if err != nil {
					return next, err
				}
				started = append(started, j)
			}
			for _, j := range started {
				if !wait {
					break
				}
				if err := j.Wait(ctx); err != nil && ctx.Err() != nil {
					return next, err
				}
			}
			until = now
		} else if until.Equal(now) {
			if err := s.Catalog.KeepTask(a.Key, now); err != nil {
				return next, err
			}
		}
		if at, ok := a.next(until); ok && (next.IsZero() || at.Before(next)) {
			next = at
		}
	}
	return next, nil
}

// failedToBegin records a run that could not even begin, so that someone sees it.
func (s *Service) failedToBegin(what string, why error) (*run.Job, error) {
	return s.run.Start("restore", what, "the schedule", func(context.Context, *run.Job) (any, string, error) {
		return nil, "", fmt.Errorf("it could not begin: %w", why)
	})
}

// Schedules has what another part of the site wants done at its time begun with what is due here. It is
// for the start of the site alone.
func (s *Service) Schedules(tasks func() ([]*ScheduledTask, error)) { s.tasks = append(s.tasks, tasks) }

func (s *Service) scheduledTasks() ([]*ScheduledTask, error) {
	recipes, err := s.recipeTasks()
	if err != nil {
		return nil, err
	}
	for _, others := range s.tasks {
		more, err := others()
		if err != nil {
			return nil, err
		}
		recipes = append(recipes, more...)
	}
	trial, err := s.testTask()
	if err != nil {
		return nil, err
	}
	if trial != nil {
		recipes = append(recipes, trial)
	}
	return recipes, nil
}
