package route

import (
	"context"
	"fmt"
	"slices"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/run"
	"candidharbor/internal/transfer"
)

// pullRun is a run of a route that pulls. Its steps stand below in the order in which they happen: reach,
// look, claim, takeMarks, takeSnapshots, report.
type pullRun struct {
	s     *Service
	j     *run.Job
	r     *catalog.Route
	peer  *catalog.Peer
	meter *transfer.Meter

	link  *transfer.Link
	leave func() // lets the line go, where it is not the one that all share
	work  []*pullWork
	sets  map[string]uint32 // how many snapshots of each set come
	same  bool              // both ends are as a look that left nothing to do found them
	done  int               // snapshots that came
}

// pullAll takes everything that is wanted: marks first, then the newest of every volume, then the older
// ones.
func (s *Service) pullAll(ctx context.Context, j *run.Job, r *catalog.Route, peer *catalog.Peer,
	meter *transfer.Meter) (done int, err error) {
	o := &pullRun{s: s, j: j, r: r, peer: peer, meter: meter, leave: func() {}}
	defer func() { o.leave() }()
	for _, step := range []func(context.Context) error{o.reach, o.look, o.claim, o.takeMarks, o.takeSnapshots,
		o.report} {
		if err := step(ctx); err != nil || o.same {
			return o.done, err
		}
	}
	return o.done, nil
}

// reach has a line to the other site.
func (o *pullRun) reach(ctx context.Context) error {
	if err := o.s.pairing.TwoSites(o.peer.Name); err != nil {
		return err
	}
	link, leave, err := o.s.pairing.LinkBy(ctx, o.peer, o.r.Terms.V.By)
	if err != nil {
		return err
	}
	o.link, o.leave = link, leave
	return nil
}

// look finds out what the other site has that is wanted here.
func (o *pullRun) look(context.Context) (err error) {
	o.work, o.same, err = o.s.LookThere(o.r, o.link, false)
	if err != nil || o.same {
		return err
	}
	o.sets = wholeSets(o.work)
	return o.s.noteFound(o.r.Name, o.work)
}

// claim tells the other site of volumes of which nothing is here yet: from then on what is wanted is
// owed to this site and stays there, however long the first snapshot takes.
func (o *pullRun) claim(context.Context) error {
	if !slices.ContainsFunc(o.work, func(w *pullWork) bool { return len(w.bases) == 0 }) {
		return nil
	}
	return o.s.tellSource(o.r, o.link, o.work)
}

// takeMarks brings the marks of what is here up to date, before anything newer is judged by them.
func (o *pullRun) takeMarks(ctx context.Context) error {
	for _, w := range o.work {
		for _, row := range w.marks {
			if err := o.take(ctx, w, row, 0); err != nil && !transfer.Gone(err) {
				return err
			}
		}
	}
	return nil
}

// takeSnapshots takes the newest of every volume, then the next of every volume, and so on.
func (o *pullRun) takeSnapshots(ctx context.Context) error {
	for round, any := 0, true; any; round++ {
		any = false
		for _, w := range o.work {
			if round >= len(w.want) {
				continue
			}
			any = true
			row := w.want[round]
			o.j.Say(fmt.Sprintf("taking %s of %s", row.ID[:12], w.name))
			err := o.take(ctx, w, row, o.sets[row.SetID])
			switch {
			case transfer.Gone(err):
				o.j.Logf("%s of %s was removed at %s before it could be taken", row.ID[:12], w.name, o.peer.Name)
			case err != nil:
				return fmt.Errorf("%s of %s: %w", row.ID[:12], w.name, err)
			default:
				o.done++
			}
			w.known.Backlog--
		}
	}
	return nil
}

// report notes what is left to take, and tells the other site what is here now.
func (o *pullRun) report(context.Context) error {
	if err := o.s.noteFound(o.r.Name, o.work); err != nil {
		return err
	}
	return o.s.tellSource(o.r, o.link, o.work)
}

// take brings one snapshot, or only its marks where it is here.
func (o *pullRun) take(ctx context.Context, w *pullWork, row *catalog.Snapshot, setOf uint32) error {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return err
	}
	st, err := o.link.Open("fetch", Fetch{Root: id, Bases: w.bases, SetOf: setOf})
	if err != nil {
		return err
	}
	defer st.Close()
	var q transfer.CarryRequest
	if err := st.Answer(&q); err != nil {
		return err
	}
	if q.Root != id || q.Lineage != w.h.Lineage || q.Origin != w.h.Origin || q.Volume != w.h.Volume {
		return &transfer.Refusal{What: fmt.Sprintf("%s answered with another snapshot than was asked for", o.peer.Name),
			Final: true}
	}
	q.Standby, q.Keep = o.r.Terms.V.Standby, nil // what becomes of it here is decided here
	if err := o.s.takeIn(ctx, o.peer, o.link.Key, &q, st, o.meter); err != nil {
		st.Refuse(err)
		return err
	}
	if !slices.Contains(w.bases, id) {
		w.bases = append([]object.ID{id}, w.bases[:min(len(w.bases), basesNamed-1)]...)
	}
	return nil
}

// noteFound stores what was found at the other end, for the route's sentence.
func (s *Service) noteFound(route string, work []*pullWork) error {
	s.run.Tell("routes")
	return s.changeRoute(route, func(r *catalog.Route) error {
		r.Known.V = []catalog.Known{}
		for _, w := range work {
			r.Known.V = append(r.Known.V, w.known)
		}
		return nil
	})
}
