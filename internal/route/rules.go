package route

import (
	"slices"
	"strings"
	"time"

	"candidharbor/core/lineage"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/rules"
)

// owed finds what far places would keep and do not have yet.
func (s *Service) owed(v *catalog.Volume, rs *rules.Ruleset, rows []*catalog.Snapshot, snaps []retention.Snapshot,
	now time.Time) (map[string][]string, error) {
	routes, err := s.Catalog.Routes()
	if err != nil {
		return nil, err
	}
	owed := map[string][]string{}
	for _, r := range routes {
		if !s.Carries(r, v) {
			continue
		}
		carried, err := s.Catalog.CarriedBy(r.Name, s.Place(), v.Name)
		if err != nil {
			return nil, err
		}
		want, err := s.wantedFar(r, v, rs, rows, snaps, carried, now)
		if err != nil {
			return nil, err
		}
		for _, row := range want[:min(len(want), rules.OwedLimit)] {
			owed[row.ID] = append(owed[row.ID], r.Peer)
		}
	}
	return owed, s.owedToPullers(v, rs, rows, snaps, now, owed)
}

// owedToPullers adds what sites that take snapshots for themselves would keep, of what is
// newer than the newest that they told of.
func (s *Service) owedToPullers(v *catalog.Volume, rs *rules.Ruleset, rows []*catalog.Snapshot,
	snaps []retention.Snapshot, now time.Time, owed map[string][]string) error {
	reports, err := s.Catalog.Reports(v.Lineage)
	if err != nil {
		return err
	}
	for _, told := range reports {
		if len(rs.Keep[told.Peer]) == 0 {
			continue
		}
		n, has := 0, lineage.Position{Term: uint64(told.Term), Sequence: uint64(told.Sequence)}
		for i, verdict := range rules.FarVerdicts(rs, told.Peer, snaps, now) {
			if verdict.Kept() && snaps[i].Position.Compare(has) > 0 && snaps[i].Kind != retention.Safety &&
				rows[i].GraceUntil.IsZero() && n < rules.OwedLimit {
				owed[rows[i].ID] = append(owed[rows[i].ID], told.Peer)
				n++
			}
		}
	}
	return nil
}

// wantedFar lists what the far side of a route would keep and does not have, newest
// first.
func (s *Service) wantedFar(r *catalog.Route, v *catalog.Volume, rs *rules.Ruleset, rows []*catalog.Snapshot,
	snaps []retention.Snapshot, carried map[string]catalog.Carried, now time.Time) ([]*catalog.Snapshot, error) {
	terms := r.Terms.V
	key, value, byLabel := strings.Cut(terms.Carry, "=")
	verdicts := rules.FarVerdicts(rs, r.Peer, snaps, now)
	sets, err := s.setsWantedFar(r, v, rows, now)
	if err != nil {
		return nil, err
	}
	var want []*catalog.Snapshot
	for i, row := range rows {
		chosen := terms.Carry == carryAll || verdicts[i].Kept() || sets[row.SetID]
		if byLabel {
			chosen = row.Labels.V[key] == value
		}
		if _, there := carried[row.ID]; !there && chosen && row.OutOfTurn == "" && row.Taker() != r.Peer &&
			row.Cause != "safety" &&
			row.GraceUntil.IsZero() {
			want = append(want, row)
		}
	}
	slices.SortFunc(want, func(a, b *catalog.Snapshot) int {
		return positionOf(b).Compare(positionOf(a))
	})
	return want, nil
}

func positionOf(row *catalog.Snapshot) lineage.Position {
	return lineage.Position{Term: uint64(row.Term), Sequence: uint64(row.Sequence)}
}

// setsWantedFar are the sets of which the far side of a route would keep something else.
func (s *Service) setsWantedFar(r *catalog.Route, v *catalog.Volume, rows []*catalog.Snapshot,
	now time.Time) (map[string]bool, error) {
	if !slices.ContainsFunc(rows, func(r *catalog.Snapshot) bool { return r.SetID != "" }) {
		return nil, nil
	}
	mates, err := s.Catalog.SetMates(s.Place(), v.Name)
	if err != nil {
		return nil, err
	}
	sets := map[string]bool{}
	for _, name := range mates {
		mate, err := s.Catalog.Volume(name)
		if err != nil || !s.Carries(r, mate) {
			continue
		}
		rs, err := s.rules.RulesFor(mate)
		if err != nil {
			return nil, err
		}
		theirs, err := s.Catalog.Snapshots(s.Place(), name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, err
		}
		for i, verdict := range rules.FarVerdicts(rs, r.Peer, rules.SnapshotsOf(theirs), now) {
			if theirs[i].SetID != "" && verdict.Kept() && theirs[i].GraceUntil.IsZero() {
				sets[theirs[i].SetID] = true
			}
		}
	}
	return sets, nil
}
