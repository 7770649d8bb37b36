package rules

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"candidharbor/internal/clock"
	"candidharbor/internal/phrase"
)

const (
	clockSetting = "clock seen"
	clockSlack   = 5 * time.Minute // what setting a clock right usually takes
)

// clockSeen is what the clock showed when removal was last thought of.
type clockSeen struct {
	Wall time.Time     `json:"wall"`
	Up   time.Duration `json:"up"`
	Boot string        `json:"boot"`
}

// watchClock compares the wall clock with what nobody can set. After a jump everything
// might look expired, so removal is held until a person has looked.
func (s *Service) watchClock() error {
	steady, ok := s.Clock.(clock.Steady)
	if !ok {
		return nil
	}
	now := clockSeen{Wall: s.Clock.Now().Round(0)}
	now.Up, now.Boot = steady.SinceBoot()
	raw, err := s.Catalog.Setting(clockSetting)
	if err != nil {
		return err
	}
	if raw != "" {
		var last clockSeen
		if err := json.Unmarshal([]byte(raw), &last); err != nil {
			return fmt.Errorf("setting %q: %w", clockSetting, err)
		}
		if why := jumped(last, now); why != "" {
			if err := s.Suspend(why); err != nil {
				return err
			}
		}
	}
	text, err := json.Marshal(now)
	if err != nil {
		return err
	}
	return s.Catalog.Set(clockSetting, string(text))
}

// jumped says how the clock was moved between two looks; empty when it went its way.
// Over a restart of the host only a step back can be told from time that passed.
func jumped(last, now clockSeen) string {
	moved := now.Wall.Sub(last.Wall)
	if last.Boot == now.Boot && now.Boot != "" {
		moved -= now.Up - last.Up
	} else if moved > 0 {
		moved = 0
	}
	way := "ahead"
	if moved < 0 {
		way = "back"
	}
	if moved.Abs() <= clockSlack {
		return ""
	}
	return fmt.Sprintf("the clock of this host was set %s by %s before %s; look whether it is right now, then release "+
		"removal with: candid store release", way, phrase.Ago(moved), phrase.Stamp(now.Wall))
}

// Suspend keeps removal from going on, unless it is held already.
func (s *Service) Suspend(why string) error {
	held, err := s.Catalog.Setting(HoldSetting)
	if err != nil || held != "" {
		return err
	}
	s.Log.Warn("removal is held", "cause", why)
	s.run.Changed("snapshots")
	return s.Catalog.Set(HoldSetting, why)
}

// MarksAreCompared says that the catalogue was compared with the marks in the store, or why not.
func (s *Service) MarksAreCompared(err error) {
	s.marksError = err
	close(s.marksCompared)
}

// WhenMarksAgree waits until the catalogue was compared with the marks in the store.
func (s *Service) WhenMarksAgree(ctx context.Context) error {
	select {
	case <-s.marksCompared:
		return s.marksError
	case <-ctx.Done():
		return ctx.Err()
	}
}
