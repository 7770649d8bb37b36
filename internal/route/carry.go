package route

import (
	"slices"
	"strings"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/rules"
)

// RouteWork is what a route has to do for one volume.
type RouteWork struct {
	V     *catalog.Volume
	Rs    *rules.Ruleset
	Want  []*catalog.Snapshot // newest first
	bases []object.ID         // what the far side has, newest first
	marks []*catalog.Snapshot // already there, but their newest marks are not
}

// Carries reports whether a route brings a volume's snapshots to its other end. Volumes of
// other sites go on when the route says so or names them, and never back home.
func (s *Service) Carries(r *catalog.Route, v *catalog.Volume) bool {
	switch {
	case r.Terms.V.Pull || !r.Volumes.V.Holds(v), v.IsDisk() && !termParts(r.Terms.V).Whole(): // a disk has no paths
		return false
	case v.ActiveAt(s.Name()), v.Origin == s.Name(): // what it took before another site took over is owed too
		return v.ActiveAt(s.Name()) || termParts(r.Terms.V).Whole()
	}
	if !termParts(r.Terms.V).Whole() { // a part has to be signed by who took the whole
		return false
	}
	return v.Origin != r.Peer && (r.Terms.V.Onward || slices.Contains(r.Volumes.V.Names, v.Name))
}

// RouteWork is what a route would carry now, a volume each.
func (s *Service) RouteWork(r *catalog.Route) ([]RouteWork, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	now := s.Clock.Now()
	var work []RouteWork
	for _, v := range vols {
		if !s.Carries(r, v) {
			continue
		}
		rs, err := s.rules.RulesFor(v)
		if err != nil {
			return nil, err
		}
		rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, err
		}
		w := RouteWork{V: v, Rs: rs}
		carried, err := s.Catalog.CarriedBy(r.Name, s.Place(), v.Name)
		if err != nil {
			return nil, err
		}
		if w.Want, err = s.wantedFar(r, v, rs, rows, rules.SnapshotsOf(rows), carried, now); err != nil {
			return nil, err
		}
		for _, row := range rows {
			k, there := carried[row.ID]
			if !there {
				continue
			}
			if row.Marked.After(k.Marked.Time) || (row.SeenUntil.After(k.SeenUntil.Time) && len(w.bases) == 0) {
				w.marks = append(w.marks, row) // of sightings only the newest one's matters
			}
			if len(w.bases) < basesNamed {
				id, err := object.ParseID(row.ID)
				if err != nil {
					return nil, err
				}
				w.bases = append(w.bases, id)
			}
		}
		work = append(work, w)
	}
	return work, nil
}

// newestOf reports whether a snapshot is the newest that the far side will have of its
// volume.
func newestOf(w *RouteWork, row *catalog.Snapshot) bool {
	if len(w.Want) > 0 && w.Want[0].ID != row.ID {
		return false
	}
	return len(w.Want) > 0 || len(w.bases) == 0 || w.bases[0].String() == row.ID
}

// travelling returns the records of a snapshot's marks that go wherever it goes.
func (s *Service) travelling(id object.ID) (bring [][]byte, err error) {
	marks, raws, err := s.Store.Marks(id)
	for i, m := range marks {
		if m.Kind.Travels() {
			bring = append(bring, raws[i])
		}
	}
	return bring, err
}

// NameAtOrigin is a volume's name at the site that takes its snapshots.
func NameAtOrigin(v *catalog.Volume) string {
	name, _, _ := strings.Cut(v.Name, "@")
	return name
}

// setAlong is how many snapshots of a set a route brings.
func (s *Service) setAlong(r *catalog.Route, row *catalog.Snapshot) (n uint32, err error) {
	if row.SetID == "" {
		return 0, nil
	}
	rows, err := s.Catalog.SetRows(s.Place(), row.SetID)
	if err != nil {
		return 0, err
	}
	for _, m := range rows {
		if v, err := s.Catalog.Volume(m.Volume); err == nil && s.Carries(r, v) {
			n++
		}
	}
	return n, nil
}

// basesNamed is how many snapshots a carry names as perhaps common.
const basesNamed = 32
