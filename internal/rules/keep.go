package rules

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/visible"
)

// KeepSnapshot marks a snapshot to be kept whatever the rules say. In grace it is
// recalled by that.
func (s *Service) KeepSnapshot(id string, ask api.KeepAsk) (*api.Snapshot, error) {
	reason := strings.TrimSpace(ask.Reason)
	if reason == "" || len(reason) > 1000 {
		return nil, refusal.Badf("a keep mark needs a reason of 1 to 1000 characters, for whoever finds it years later")
	}
	m := object.Mark{Kind: object.MarkKeep, Text: reason}
	if ask.Until != nil {
		if !ask.Until.After(s.Clock.Now()) {
			return nil, refusal.Badf("until %s has passed already: give a time to come, or none", ask.Until.Format(time.RFC3339))
		}
		m.Until = ask.Until.UnixNano()
	}
	return s.markSnapshot(id, m, func(row *catalog.Snapshot) error {
		if row.GraceUntil.IsZero() {
			return nil
		}
		return s.outOfGrace(row, time.Time{})
	})
}

// KeepAsAsked marks a snapshot to be kept here as the site wished that sent it; the zero time is no end. What is to be
// kept for longer already stays so: who sends can never shorten it.
func (s *Service) KeepAsAsked(id object.ID, from, why string, until time.Time) error {
	row, err := s.Catalog.Snapshot(id.String())
	if err != nil {
		return err
	}
	longer := row.KeepWhy != "" && (row.KeepUntil.IsZero() || !until.IsZero() && !row.KeepUntil.Before(until))
	if longer || !until.IsZero() && !until.After(s.Clock.Now()) {
		return nil
	}
	why = visible.Line(why)
	ask := api.KeepAsk{Reason: fmt.Sprintf("sent by %s: %s", from, why[:min(len(why), longestWish)])}
	if !until.IsZero() {
		ask.Until = &until
	}
	_, err = s.KeepSnapshot(row.ID, ask)
	return err
}

const longestWish = 500 // bytes of what a sender says why

// LetGoSnapshot takes a keep mark back. The rules decide again.
func (s *Service) LetGoSnapshot(id string) (*api.Snapshot, error) {
	return s.markSnapshot(id, object.Mark{Kind: object.MarkLetGo}, func(row *catalog.Snapshot) error {
		if row.KeepWhy == "" {
			return refusal.Conflictf("snapshot %s has no keep mark: candid snapshot show %s tells what keeps it", row.ID[:12],
				row.ID[:12])
		}
		return nil
	})
}

func (s *Service) markSnapshot(id string, m object.Mark, first func(row *catalog.Snapshot) error) (*api.Snapshot,
	error) {
	return s.markBy(id, func(row *catalog.Snapshot) ([]object.Mark, error) { return []object.Mark{m}, first(row) })
}

// markBy puts marks on a snapshot that are decided by how it is.
func (s *Service) markBy(id string, decide func(row *catalog.Snapshot) ([]object.Mark, error)) (*api.Snapshot, error) {
	// what is decided there must still be so when it is done
	release, err := s.run.Hold(s.run.Context(), run.KeyPrune.Of(""))
	if err != nil {
		return nil, err
	}
	defer release()
	row, err := s.Catalog.Snapshot(id)
	if err != nil {
		return nil, err
	}
	marks, err := decide(row)
	if err != nil {
		return nil, err
	}
	root, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	at := s.Clock.Now().UnixNano()
	if next := row.Marked.Add(time.Nanosecond).UnixNano(); !row.Marked.IsZero() && next > at {
		at = next // marks are read in the order of their times
	}
	for i := range marks {
		m := &marks[i]
		m.Root, m.At, m.Place = root, at+int64(i), s.Place()
		if err := s.Store.PutMark(m); err != nil {
			return nil, err
		}
	}
	if row, err = s.records.MarkedAs(row); err != nil {
		return nil, err
	}
	if err := s.Catalog.SetMarks(row); err != nil {
		return nil, err
	}
	s.run.Changed("snapshots", row.Volume)
	return s.SnapshotView(row, nil)
}

// PauseVolume stops taking snapshots of a volume and letting any of them go.
func (s *Service) PauseVolume(name string) (string, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return "", err
	}
	if !v.Paused.IsZero() {
		return "", refusal.Conflictf("volume %s is paused already, since %s", name, phrase.Stamp(v.Paused.Time))
	}
	if err := s.Catalog.SetPaused(name, s.Clock.Now()); err != nil {
		return "", err
	}
	s.run.Changed("volumes")
	return fmt.Sprintf("%s is paused: nothing is taken of it and nothing it has here expires, until candid "+
		"volume resume %s.", name, name), nil
}

// ResumeVolume ends a pause. What came due meanwhile was not missed.
func (s *Service) ResumeVolume(name string) (string, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return "", err
	}
	if v.Paused.IsZero() {
		return "", refusal.Conflictf("volume %s is not paused", name)
	}
	since := v.Paused.Time
	err = s.Catalog.Atomically(func(c *catalog.Catalog) error {
		now := s.Clock.Now()
		return errors.Join(c.PutPause(&catalog.Pause{Volume: name, Since: v.Paused, Until: catalog.At(now)}),
			c.Scheduled(name, now), c.SetPaused(name, time.Time{}))
	})
	if err != nil {
		return "", err
	}
	s.run.Changed("volumes")
	words := fmt.Sprintf("%s goes on; it was paused for %s.", name, phrase.Ago(s.Clock.Now().Sub(since)))
	rs, err := s.RulesFor(v)
	if next, ok := rs.Next(s.Clock.Now()); err == nil && ok {
		words += " Its next snapshot is due " + phrase.Stamp(next) + "."
	}
	return words, err
}
