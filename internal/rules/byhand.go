package rules

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
)

// RemoveSnapshot sends a snapshot into grace by hand.
func (s *Service) RemoveSnapshot(id string) (*api.Snapshot, error) {
	s.Store.MakeRoom()
	free, err := s.toRemove()
	if err != nil {
		return nil, err
	}
	defer free()
	row, err := s.Catalog.Snapshot(id)
	if err != nil {
		return nil, err
	}
	if !row.GraceUntil.IsZero() {
		return nil, refusal.Conflictf("snapshot %s is in grace already, until %s", row.ID[:12],
			phrase.Stamp(row.GraceUntil.Time))
	}
	set, err := s.mayRemove(row)
	if err != nil {
		return nil, err
	}
	now := s.Clock.Now()
	for _, m := range set {
		if !m.GraceUntil.IsZero() {
			continue
		}
		grace := 24 * time.Hour
		if v, err := s.Catalog.Volume(m.Volume); err == nil {
			rs, err := s.RulesFor(v)
			if err != nil {
				return nil, err
			}
			grace = rs.Grace
		}
		if err := s.intoGrace(m, now.Add(grace), object.ExpiredByHand, RemovedByHand); err != nil {
			return nil, err
		}
	}
	return s.afterHand(row, set)
}

// toRemove waits until it is sure what may be removed, and holds that until it is given free.
func (s *Service) toRemove() (free func(), err error) {
	if err := s.WhenMarksAgree(s.run.Context()); err != nil {
		return nil, err
	}
	return s.run.Hold(s.run.Context(), run.KeyPrune.Of(""))
}

// mayRemove returns the snapshots that go with one, or says what keeps one of them from being removed by hand.
func (s *Service) mayRemove(row *catalog.Snapshot) (set []*catalog.Snapshot, err error) {
	if held, err := s.Catalog.Setting(HoldSetting); err != nil || held != "" {
		return nil, errors.Join(err, refusal.Conflictf("nothing is removed at present: %s", held))
	}
	if set, err = s.Set(row); err != nil { // a set goes as a whole
		return nil, err
	}
	now := s.Clock.Now()
	used, err := s.used(row.Lineage)
	if err != nil {
		return nil, err
	}
	for _, m := range set {
		names := slices.DeleteFunc(slices.Clone(used[m.ID]), func(n string) bool { return strings.HasPrefix(n, OutletUse) })
		if len(names) > 0 {
			what, end := "clone "+names[0], "clone discard "+names[0]
			if id, is := strings.CutPrefix(names[0], DrillUse); is {
				what, end = names[0], "drill end "+id
			}
			return nil, refusal.Conflictf("snapshot %s%s is what the %s stands on: candid %s first", m.ID[:12],
				ofSet(row, m), what, end)
		}
		switch floor := s.floorOf(m); {
		case m.KeepWhy != "" && (m.KeepUntil.IsZero() || now.Before(m.KeepUntil.Time)):
			return nil, refusal.Conflictf("snapshot %s%s is marked to keep: %s. If that is over: candid snapshot let-go %s",
				m.ID[:12], ofSet(row, m), m.KeepWhy, m.ID[:12])
		case now.Before(floor):
			return nil, refusal.Conflictf("snapshot %s%s stays until %s: the floor of this place is %s, and nobody removes "+
				"anything here before that", m.ID[:12], ofSet(row, m), phrase.Stamp(floor), s.Conf.Floor)
		}
	}
	return set, nil
}

// recallPeriod is how long a recalled snapshot stays at least.
const recallPeriod = 30 * 24 * time.Hour

// RecallSnapshot takes a snapshot back out of grace.
func (s *Service) RecallSnapshot(id string) (*api.Snapshot, error) {
	release, err := s.run.Hold(s.run.Context(), run.KeyPrune.Of("")) // a recall that was answered must not be overtaken
	if err != nil {
		return nil, err
	}
	defer release()
	row, err := s.Catalog.Snapshot(id)
	if err != nil {
		return nil, err
	}
	if row.GraceUntil.IsZero() {
		return nil, refusal.Conflictf("snapshot %s is not in grace: it is kept", row.ID[:12])
	}
	set, err := s.Set(row)
	if err != nil {
		return nil, err
	}
	for _, m := range set {
		if m.GraceUntil.IsZero() {
			continue
		}
		if err := s.outOfGrace(m, s.Clock.Now().Add(recallPeriod)); err != nil {
			return nil, err
		}
	}
	return s.afterHand(row, set)
}

func ofSet(row, m *catalog.Snapshot) string {
	if row.ID == m.ID {
		return ""
	}
	return fmt.Sprintf(" of %s, which is of the same set,", m.Volume)
}

// afterHand shows a snapshot after its set was removed or recalled by hand.
func (s *Service) afterHand(row *catalog.Snapshot, set []*catalog.Snapshot) (*api.Snapshot, error) {
	var volumes []string
	for _, m := range set {
		volumes = append(volumes, m.Volume)
	}
	s.run.Changed("snapshots", volumes...)
	row, err := s.Catalog.Snapshot(row.ID)
	if err != nil {
		return nil, err
	}
	return s.SnapshotView(row, nil)
}
