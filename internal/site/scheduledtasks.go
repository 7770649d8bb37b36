package site

import (
	"context"
	"fmt"
	"time"

	"candidharbor/core/cadence"
)

// appointment is something that is done by a cadence, or once.
type appointment struct {
	key  string // of the setting that says up to when it was kept
	what string // for messages
	by   *cadence.Cadence
	once time.Time
	do   func() ([]*job, error)
}

// appointedSetting begins the settings that say up to when appointments were kept.
const appointedSetting = "appointed "

// parseWhenDue reads a cadence phrase, or a moment for what is done once. Empty: neither.
func parseWhenDue(when, zone string) (by *cadence.Cadence, once time.Time, err error) {
	if when == "" {
		return nil, once, nil
	}
	if once, err = time.Parse(time.RFC3339, when); err == nil {
		return nil, once, nil
	}
	loc := time.UTC
	if zone != "" {
		if loc, err = cadence.LoadZone(zone); err != nil {
			return nil, once, &Error{Misuse, err}
		}
	}
	if by, err = cadence.Parse(when, loc); err != nil {
		return nil, time.Time{}, &Error{Misuse, err}
	}
	if _, _, looks := by.OnChange(); looks || by.AtStart() {
		return nil, time.Time{}, bad("%q: give times, such as daily at 02:30, or one moment, such as 2026-03-04T02:30:00Z", when)
	}
	return by, time.Time{}, nil
}

// next is when an appointment is due after a time.
func (a *appointment) next(after time.Time) (time.Time, bool) {
	if a.by != nil {
		return a.by.Next(after)
	}
	return a.once, a.once.After(after)
}

// keptUntil is up to when an appointment was kept; one that is new from now on.
func (s *Site) keptUntil(key string) (time.Time, error) {
	text, err := s.cat.Setting(appointedSetting + key)
	if err != nil || text == "" {
		return time.Time{}, err
	}
	return time.Parse(time.RFC3339Nano, text)
}

func (s *Site) kept(key string, until time.Time) error {
	return s.cat.Set(appointedSetting+key, until.Format(time.RFC3339Nano))
}

// stepAppointments starts what is due; several due times that were missed are one. With wait
// it waits for what it started.
func (s *Site) stepAppointments(ctx context.Context, wait bool) (next time.Time, err error) {
	all, err := s.appointments()
	if err != nil {
		return next, err
	}
	now := s.clock.Now()
	for _, a := range all {
		until, err := s.keptUntil(a.key)
		if err != nil {
			return next, err
		}
		if until.IsZero() {
			if until = now; a.by == nil {
				until = time.Unix(0, 0) // a moment that has passed was set to be kept
			}
		}
		if at, ok := a.next(until); ok && !at.After(now) {
			// Before it begins: what ends the service must not be begun at each start.
			if err := s.kept(a.key, now); err != nil {
				return next, err
			}
			started, err := a.do()
			if err != nil {
				s.log.Error("what was due could not begin", "what", a.what, "error", err)
				j, err := s.failedToBegin(a.what, err)
				if err != nil {
					return next, err
				}
				started = append(started, j)
			}
			for _, j := range started {
				if !wait {
					break
				}
				if err := j.wait(ctx); err != nil && ctx.Err() != nil {
					return next, err
				}
			}
			until = now
		} else if until.Equal(now) {
			if err := s.kept(a.key, now); err != nil {
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
func (s *Site) failedToBegin(what string, why error) (*job, error) {
	return s.start("restore", what, "the schedule", func(context.Context, *job) (any, string, error) {
		return nil, "", fmt.Errorf("it could not begin: %w", why)
	})
}

func (s *Site) appointments() ([]*appointment, error) {
	recipes, err := s.recipeAppointments()
	if err != nil {
		return nil, err
	}
	clones, err := s.cloneAppointments()
	if err != nil {
		return nil, err
	}
	recipes = append(recipes, clones...)
	trial, err := s.trialAppointment()
	if err != nil {
		return nil, err
	}
	if trial != nil {
		recipes = append(recipes, trial)
	}
	return recipes, nil
}
