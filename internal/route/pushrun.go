package route

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
)

// pushRun is a run of a route that brings snapshots to its other end. Its steps stand below in the order
// in which they happen: greet, compare, reach, look, bringMarks, bringSnapshots, settle.
type pushRun struct {
	s     *Service
	j     *run.Job
	r     *catalog.Route
	peer  *catalog.Peer
	meter *transfer.Meter

	link    *transfer.Link
	leave   func() // lets the line go, where it is not the one that all share
	limit   transfer.Limit
	work    []RouteWork
	done    int // snapshots that are there now
	damaged int // snapshots that cannot be read here
}

// pushAll brings everything that is wanted, the newest of every volume first, then the
// older ones.
func (s *Service) pushAll(ctx context.Context, j *run.Job, r *catalog.Route, peer *catalog.Peer,
	meter *transfer.Meter) (int, error) {
	o := &pushRun{s: s, j: j, r: r, peer: peer, meter: meter, leave: func() {}}
	defer func() { o.leave() }()
	for _, step := range []func(context.Context) error{o.greet, o.compare, o.reach, o.look, o.bringMarks,
		o.bringSnapshots, o.settle} {
		if err := step(ctx); err != nil {
			return o.done, err
		}
	}
	return o.done, nil
}

// greet learns what the other site says of itself, and refuses it while two sites show its key.
func (o *pushRun) greet(ctx context.Context) error {
	if _, _, _, err := o.s.pairing.Greet(ctx, o.peer); err != nil {
		return err
	}
	return o.s.pairing.TwoSites(o.peer.Name)
}

// compare asks a site that was put back to an earlier state what it still has.
func (o *pushRun) compare(ctx context.Context) error { return o.s.compareFar(ctx, o.j, o.r, o.peer) }

// reach has a line to the other site and knows its pace.
func (o *pushRun) reach(ctx context.Context) error {
	link, leave, err := o.s.pairing.LinkBy(ctx, o.peer, o.r.Terms.V.By)
	if err != nil {
		return err
	}
	o.link, o.leave = link, leave
	o.limit, err = o.s.pairing.Flow(o.peer, o.r.Terms.V)
	return err
}

// look finds out what is owed to the other site.
func (o *pushRun) look(context.Context) (err error) {
	o.work, err = o.s.RouteWork(o.r)
	return err
}

// bringMarks says first what was seen of snapshots that are there: the other site may decide by it as
// soon as the next newer one arrives.
func (o *pushRun) bringMarks(ctx context.Context) error {
	for i := range o.work {
		for _, row := range o.work[i].marks {
			if err := o.bring(ctx, &o.work[i], row); err != nil && !transfer.Gone(err) {
				return err
			}
		}
	}
	return nil
}

// bringSnapshots brings the newest of every volume, then the next of every volume, and so on.
func (o *pushRun) bringSnapshots(ctx context.Context) error {
	for round, any := 0, true; any; round++ {
		any = false
		for i := range o.work {
			w := &o.work[i]
			if round >= len(w.Want) {
				continue
			}
			any = true
			row := w.Want[round]
			o.j.Say(fmt.Sprintf("carrying %s of %s", row.ID[:12], w.V.Name))
			err := o.bring(ctx, w, row)
			switch {
			case transfer.Gone(err):
				o.j.Logf("%s of %s was removed before it could be carried", row.ID[:12], w.V.Name)
			case errors.Is(err, store.ErrDamaged): // the others are whole
				o.j.Logf("%s of %s is damaged here and is not carried: %v", row.ID[:12], w.V.Name, err)
				o.damaged++
			case err != nil:
				return fmt.Errorf("%s of %s: %w", row.ID[:12], w.V.Name, err)
			default:
				o.done++
			}
		}
	}
	return nil
}

// settle fails when anything stayed here because it is damaged.
func (o *pushRun) settle(context.Context) error {
	if o.damaged == 0 {
		return nil
	}
	return fmt.Errorf("%s damaged here and could not be carried: candid store verify names what is damaged and "+
		"asks other sites for it", phrase.ManyAre(o.damaged, "snapshot"))
}

// CarryOne brings one snapshot over a line, whether or not it is its turn.
func (s *Service) CarryOne(ctx context.Context, r *catalog.Route, link *transfer.Link, w *RouteWork,
	row *catalog.Snapshot) error {
	return (&pushRun{s: s, r: r, link: link, meter: &transfer.Meter{}}).bring(ctx, w, row)
}

// bring carries one snapshot and notes that it is there.
func (o *pushRun) bring(ctx context.Context, w *RouteWork, row *catalog.Snapshot) error {
	s, r := o.s, o.r
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
	if !part {
		q.Authority = s.authority.Records(w.V)
	}
	c := &transfer.Sender{Store: s.Store, Marks: bring, Meter: o.meter, Limit: o.limit, Request: q}
	err = c.Run(ctx, o.link)
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
