package site

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
)

// routeWork is what a route has to do for one volume.
type routeWork struct {
	v     *catalog.Volume
	rs    *ruleset
	want  []*catalog.Snapshot // newest first
	bases []object.ID         // what the far side has, newest first
	marks []*catalog.Snapshot // already there, but their newest marks are not
}

// carries reports whether a route brings a volume's snapshots to its other end. Volumes of
// other sites go on when the route says so or names them, and never back home.
func (s *Site) carries(r *catalog.Route, v *catalog.Volume) bool {
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

func (s *Site) routeWork(r *catalog.Route) ([]routeWork, error) {
	vols, err := s.cat.Volumes()
	if err != nil {
		return nil, err
	}
	now := s.clock.Now()
	var work []routeWork
	for _, v := range vols {
		if !s.carries(r, v) {
			continue
		}
		rs, err := s.rulesFor(v)
		if err != nil {
			return nil, err
		}
		rows, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, err
		}
		w := routeWork{v: v, rs: rs}
		if w.want, err = s.wantedFar(r, v, rs, rows, snapshotsOf(rows), now); err != nil {
			return nil, err
		}
		carried, err := s.cat.CarriedBy(r.Name, s.Place(), v.Name)
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
func (s *Site) pushAll(ctx context.Context, j *job, r *catalog.Route, peer *catalog.Peer, meter *transfer.Meter) (int, error) {
	if _, _, _, err := s.greet(ctx, peer); err != nil {
		return 0, err
	}
	if err := errors.Join(s.twoSites(peer.Name), s.compareFar(ctx, j, r, peer)); err != nil {
		return 0, err
	}
	link, _, err := s.link(ctx, peer)
	if err != nil {
		return 0, err
	}
	limit, err := s.flow(peer, r.Terms.V)
	if err != nil {
		return 0, err
	}
	work, err := s.routeWork(r)
	if err != nil {
		return 0, err
	}
	// What was seen of those that are there goes first: the far side may decide as soon as
	// the next newer one is there.
	for i := range work {
		for _, row := range work[i].marks {
			if err := s.carryOne(ctx, r, link, limit, &work[i], row, meter); err != nil && !transfer.Gone(err) {
				return 0, err
			}
		}
	}
	done, damaged := 0, 0
	for round := 0; ; round++ {
		any := false
		for i := range work {
			w := &work[i]
			if round < len(w.want) {
				any = true
				j.say(fmt.Sprintf("carrying %s of %s", w.want[round].ID[:12], w.v.Name))
				err := s.carryOne(ctx, r, link, limit, w, w.want[round], meter)
				if transfer.Gone(err) {
					j.logf("%s of %s was removed before it could be carried", w.want[round].ID[:12], w.v.Name)
					continue
				}
				if errors.Is(err, store.ErrDamaged) { // the others are whole
					j.logf("%s of %s is damaged here and is not carried: %v", w.want[round].ID[:12], w.v.Name, err)
					damaged++
					continue
				}
				if err != nil {
					return done, fmt.Errorf("%s of %s: %w", w.want[round].ID[:12], w.v.Name, err)
				}
				done++
			}
		}
		if !any && damaged > 0 {
			return done, fmt.Errorf("%s damaged here and could not be carried: candid store verify names what is damaged and asks other sites for it", manyAre(damaged, "snapshot"))
		}
		if !any {
			return done, nil
		}
	}
}

func (s *Site) carryOne(ctx context.Context, r *catalog.Route, link *transfer.Link, limit transfer.Limit, w *routeWork, row *catalog.Snapshot, total *transfer.Meter) error {
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
	q := transfer.CarryRequest{Lineage: lineageOf(w.v.Lineage), Root: id, Bases: w.bases}
	part := !termParts(r.Terms.V).Whole()
	if part {
		if q, bring, err = s.derive(r, row, id); err != nil {
			return err
		}
	}
	q.Volume, q.Origin, q.Rules, q.SetOf, q.Standby = nameAtOrigin(w.v), w.v.Origin, w.rs.proposal(s.Place()), setOf, r.Terms.V.Standby
	c := &transfer.Sender{Store: s.store, Marks: bring, Meter: total, Limit: limit, Request: q}
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
	s.reached(w.v.Name, r.Peer, newestState(row))
	err = s.cat.PutCarried(r.Name, catalog.Carried{Snapshot: row.ID, At: catalog.At(s.clock.Now()), SeenUntil: row.SeenUntil, Marked: row.Marked})
	s.verdicts.drop([]string{w.v.Name}) // what was owed is there
	return err
}

// newestOf reports whether a snapshot is the newest that the far side will have of its
// volume.
func newestOf(w *routeWork, row *catalog.Snapshot) bool {
	if len(w.want) > 0 && w.want[0].ID != row.ID {
		return false
	}
	return len(w.want) > 0 || len(w.bases) == 0 || w.bases[0].String() == row.ID
}

// travelling returns the records of a snapshot's marks that go wherever it goes.
func (s *Site) travelling(id object.ID) (bring [][]byte, err error) {
	marks, raws, err := s.store.Marks(id)
	for i, m := range marks {
		if m.Kind.Travels() {
			bring = append(bring, raws[i])
		}
	}
	return bring, err
}

// nameAtOrigin is a volume's name at the site that takes its snapshots.
func nameAtOrigin(v *catalog.Volume) string {
	name, _, _ := strings.Cut(v.Name, "@")
	return name
}

// setAlong is how many snapshots of a set a route brings.
func (s *Site) setAlong(r *catalog.Route, row *catalog.Snapshot) (n uint32, err error) {
	if row.SetID == "" {
		return 0, nil
	}
	rows, err := s.cat.SetRows(s.Place(), row.SetID)
	if err != nil {
		return 0, err
	}
	for _, m := range rows {
		if v, err := s.cat.Volume(m.Volume); err == nil && s.carries(r, v) {
			n++
		}
	}
	return n, nil
}

// basesNamed is how many snapshots a carry names as perhaps common.
const basesNamed = 32
