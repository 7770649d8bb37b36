package route

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
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
	case r.Terms.V.Pull || !r.Volumes.V.Holds(v):
		return false
	case v.Origin == s.Name():
		return true
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
		if w.Want, err = s.WantedFar(r, v, rs, rows, rules.SnapshotsOf(rows), now); err != nil {
			return nil, err
		}
		carried, err := s.Catalog.CarriedBy(r.Name, s.Place(), v.Name)
		if err != nil {
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

// pushAll brings everything that is wanted, the newest of every volume first, then the
// older ones.
func (s *Service) pushAll(ctx context.Context, j *run.Job, r *catalog.Route, peer *catalog.Peer,
	meter *transfer.Meter) (int, error) {
	if _, _, _, err := s.pairing.Greet(ctx, peer); err != nil {
		return 0, err
	}
	if err := errors.Join(s.pairing.TwoSites(peer.Name), s.compareFar(ctx, j, r, peer)); err != nil {
		return 0, err
	}
	link, _, err := s.pairing.Link(ctx, peer)
	if err != nil {
		return 0, err
	}
	limit, err := s.pairing.Flow(peer, r.Terms.V)
	if err != nil {
		return 0, err
	}
	work, err := s.RouteWork(r)
	if err != nil {
		return 0, err
	}
	// What was seen of those that are there goes first: the far side may decide as soon as
	// the next newer one is there.
	for i := range work {
		for _, row := range work[i].marks {
			if err := s.CarryOne(ctx, r, link, limit, &work[i], row, meter); err != nil && !transfer.Gone(err) {
				return 0, err
			}
		}
	}
	done, damaged := 0, 0
	for round := 0; ; round++ {
		any := false
		for i := range work {
			w := &work[i]
			if round < len(w.Want) {
				any = true
				j.Say(fmt.Sprintf("carrying %s of %s", w.Want[round].ID[:12], w.V.Name))
				err := s.CarryOne(ctx, r, link, limit, w, w.Want[round], meter)
				if transfer.Gone(err) {
					j.Logf("%s of %s was removed before it could be carried", w.Want[round].ID[:12], w.V.Name)
					continue
				}
				if errors.Is(err, store.ErrDamaged) { // the others are whole
					j.Logf("%s of %s is damaged here and is not carried: %v", w.Want[round].ID[:12], w.V.Name, err)
					damaged++
					continue
				}
				if err != nil {
					return done, fmt.Errorf("%s of %s: %w", w.Want[round].ID[:12], w.V.Name, err)
				}
				done++
			}
		}
		if !any && damaged > 0 {
			return done, fmt.Errorf("%s damaged here and could not be carried: candid store verify names what is damaged and "+
				"asks other sites for it", phrase.ManyAre(damaged, "snapshot"))
		}
		if !any {
			return done, nil
		}
	}
}

// CarryOne brings one snapshot and notes that it is there.
func (s *Service) CarryOne(ctx context.Context, r *catalog.Route, link *transfer.Link, limit transfer.Limit,
	w *RouteWork, row *catalog.Snapshot, total *transfer.Meter) error {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return err
	}
	bring, err := s.travelling(id)
	if err != nil {
		return err
	}
	setOf, err := s.setAlong(r, row)
	if err != nil {
		return err
	}
	q := transfer.CarryRequest{Lineage: records.LineageOf(w.V.Lineage), Root: id, Bases: w.bases}
	part := !termParts(r.Terms.V).Whole()
	if part {
		if q, bring, err = s.derive(r, row, id); err != nil {
			return err
		}
	}
	q.Volume, q.Origin, q.Rules, q.SetOf, q.Standby = NameAtOrigin(w.V), w.V.Origin, w.Rs.Proposal(s.Place()), setOf,
		r.Terms.V.Standby
	c := &transfer.Sender{Store: s.Store, Marks: bring, Meter: total, Limit: limit, Request: q}
	err = c.Run(ctx, link)
	if part {
		if derr := s.derivedArrived(r, &q, err == nil && newestOf(w, row)); derr != nil && err == nil {
			err = derr
		}
	}
	if err != nil {
		return err
	}
	if !slices.Contains(w.bases, id) {
		w.bases = append([]object.ID{id}, w.bases[:min(len(w.bases), basesNamed-1)]...)
	}
	s.rules.Reached(w.V.Name, r.Peer, rules.NewestState(row))
	err = s.Catalog.PutCarried(r.Name, catalog.Carried{Snapshot: row.ID, At: catalog.At(s.Clock.Now()),
		SeenUntil: row.SeenUntil, Marked: row.Marked})
	s.rules.ForgetVerdicts([]string{w.V.Name}) // what was owed is there
	return err
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
