package site

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
)

// KeepSnapshot marks a snapshot to be kept whatever the rules say. In grace it is
// recalled by that.
func (s *Site) KeepSnapshot(id string, ask api.KeepAsk) (*api.Snapshot, error) {
	reason := strings.TrimSpace(ask.Reason)
	if reason == "" || len(reason) > 1000 {
		return nil, bad("a keep mark needs a reason of 1 to 1000 characters, for whoever finds it years later")
	}
	m := object.Mark{Kind: object.MarkKeep, Text: reason}
	if ask.Until != nil {
		if !ask.Until.After(s.clock.Now()) {
			return nil, bad("until %s has passed already: give a time to come, or none", ask.Until.Format(time.RFC3339))
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

// LetGoSnapshot takes a keep mark back. The rules decide again.
func (s *Site) LetGoSnapshot(id string) (*api.Snapshot, error) {
	return s.markSnapshot(id, object.Mark{Kind: object.MarkLetGo}, func(row *catalog.Snapshot) error {
		if row.KeepWhy == "" {
			return conflict("snapshot %s has no keep mark: candid snapshot show %s tells what keeps it", row.ID[:12], row.ID[:12])
		}
		return nil
	})
}

func (s *Site) markSnapshot(id string, m object.Mark, first func(row *catalog.Snapshot) error) (*api.Snapshot, error) {
	release, err := s.hold(s.closing(), "prune") // what is decided there must still be so when it is done
	if err != nil {
		return nil, err
	}
	defer release()
	row, err := s.cat.Snapshot(id)
	if err != nil {
		return nil, err
	}
	if err := first(row); err != nil {
		return nil, err
	}
	if m.Root, err = object.ParseID(row.ID); err != nil {
		return nil, err
	}
	m.At, m.Place = s.clock.Now().UnixNano(), s.Place()
	if at := row.Marked.Add(time.Nanosecond).UnixNano(); !row.Marked.IsZero() && at > m.At {
		m.At = at // marks are read in the order of their times
	}
	if err := s.store.PutMark(&m); err != nil {
		return nil, err
	}
	if row, err = s.markedAs(row); err != nil {
		return nil, err
	}
	if err := s.cat.SetMarks(row); err != nil {
		return nil, err
	}
	s.changed("snapshots", row.Volume)
	return s.snapshotView(row, nil)
}

// PauseVolume stops taking snapshots of a volume and letting any of them go.
func (s *Site) PauseVolume(name string) (string, error) {
	v, err := s.cat.Volume(name)
	if err != nil {
		return "", err
	}
	if !v.Paused.IsZero() {
		return "", conflict("volume %s is paused already, since %s", name, stamp(v.Paused.Time))
	}
	if err := s.cat.SetPaused(name, s.clock.Now()); err != nil {
		return "", err
	}
	s.changed("volumes")
	return fmt.Sprintf("%s is paused: nothing is taken of it and nothing it has here expires, until candid volume resume %s.", name, name), nil
}

// ResumeVolume ends a pause. What came due meanwhile was not missed.
func (s *Site) ResumeVolume(name string) (string, error) {
	v, err := s.cat.Volume(name)
	if err != nil {
		return "", err
	}
	if v.Paused.IsZero() {
		return "", conflict("volume %s is not paused", name)
	}
	since := v.Paused.Time
	if err := errors.Join(s.cat.PutPause(&catalog.Pause{Volume: name, Since: v.Paused, Until: catalog.At(s.clock.Now())}), s.cat.Scheduled(name, s.clock.Now()), s.cat.SetPaused(name, time.Time{})); err != nil {
		return "", err
	}
	s.changed("volumes")
	words := fmt.Sprintf("%s goes on; it was paused for %s.", name, ago(s.clock.Now().Sub(since)))
	rs, err := s.rulesFor(v)
	if next, ok := rs.next(s.clock.Now()); err == nil && ok {
		words += " Its next snapshot is due " + stamp(next) + "."
	}
	return words, err
}
