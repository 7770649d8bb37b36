package site

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
	"candidharbor/internal/transfer"
)

// AddRoute opens a route to a paired site.
func (s *Site) AddRoute(ask api.RouteAdd) (*api.Route, error) {
	if err := policy.CheckName("route", ask.Name); err != nil {
		return nil, &Error{Misuse, err}
	}
	if _, err := s.cat.Route(ask.Name); err == nil {
		return nil, conflict("route %q is there already: choose another name", ask.Name)
	}
	if _, err := s.cat.Peer(ask.To); err != nil {
		return nil, missing("site %q is not paired: pair first, with candid site invite there and candid site pair here", ask.To)
	}
	sel := catalog.Selection{Labels: ask.Labels, Names: ask.Names}
	if (len(sel.Labels) == 0) == (len(sel.Names) == 0) {
		return nil, bad("a route needs volumes: choose them by labels, or by names")
	}
	for _, n := range ask.Names {
		if _, err := s.cat.Volume(n); err != nil {
			return nil, err
		}
	}
	r := &catalog.Route{Name: ask.Name, Peer: ask.To, Volumes: catalog.JSON[catalog.Selection]{V: sel}, Made: catalog.At(s.clock.Now())}
	if err := s.cat.PutRoute(r); err != nil {
		return nil, err
	}
	s.cat.Settle()
	s.changed("routes")
	return s.Route(ask.Name)
}

// RemoveRoute closes a route. What it carried stays at the far side.
func (s *Site) RemoveRoute(name string) (string, error) {
	r, err := s.cat.Route(name)
	if err != nil {
		return "", err
	}
	if err := s.cat.RemoveRoute(name); err != nil {
		return "", err
	}
	s.changed("routes")
	return fmt.Sprintf("Route %s is closed. What it carried stays at %s; nothing here is owed to it any more.", name, r.Peer), nil
}

// RunRoute starts carrying now.
func (s *Site) RunRoute(name, by string) (api.Run, error) {
	r, err := s.cat.Route(name)
	if err != nil {
		return api.Run{}, err
	}
	j, err := s.startRoute(r, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

// routeWork is what a route has to do for one volume.
type routeWork struct {
	v     *catalog.Volume
	rs    *ruleset
	want  []*catalog.Snapshot // newest first
	bases []object.ID         // what the far side has, newest first
	marks []*catalog.Snapshot // already there, but their newest marks are not
}

func (s *Site) routeWork(r *catalog.Route) ([]routeWork, error) {
	vols, err := s.cat.Volumes()
	if err != nil {
		return nil, err
	}
	now := s.clock.Now()
	var work []routeWork
	for _, v := range vols {
		if !r.Volumes.V.Holds(v) || v.Origin != s.Name() {
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

// stepRoutes starts every route that has something to carry and is not waiting to try
// again. It returns when the next try is due.
func (s *Site) stepRoutes(ctx context.Context, wait bool) (next time.Time, err error) {
	routes, err := s.cat.Routes()
	if err != nil {
		return next, err
	}
	now := s.clock.Now()
	var started []*job
	for _, r := range routes {
		if r.NextTry.After(now) {
			if next.IsZero() || r.NextTry.Before(next) {
				next = r.NextTry.Time
			}
			continue
		}
		if s.isBusy("route " + r.Name) {
			continue
		}
		work, err := s.routeWork(r)
		if err != nil {
			return next, err
		}
		if !slices.ContainsFunc(work, func(w routeWork) bool { return len(w.want) > 0 || len(w.marks) > 0 }) {
			continue
		}
		j, err := s.startRoute(r, "the schedule")
		if err != nil {
			return next, err
		}
		started = append(started, j)
	}
	if wait {
		for _, j := range started {
			if err := j.wait(ctx); err != nil && ctx.Err() != nil {
				return next, err
			}
		}
	}
	return next, nil
}

func (s *Site) startRoute(r *catalog.Route, by string) (*job, error) {
	return s.start("carry", r.Name, by, func(ctx context.Context, j *job) (any, string, error) {
		j.say("waiting for another run of this route")
		release, err := s.hold(ctx, "route "+r.Name)
		if err != nil {
			return nil, "", err
		}
		defer release()
		meter := &transfer.Meter{}
		j.begin(func() api.Progress {
			return api.Progress{DoneBytes: meter.OfferedBytes.Load(), TotalBytes: meter.TotalBytes.Load(), Files: meter.SentObjects.Load()}
		})
		n, err := s.carryAll(ctx, j, r.Name, meter)
		if rerr := s.noteRoute(r.Name, meter, err, ctx.Err() != nil); rerr != nil {
			err = errors.Join(err, rerr)
		}
		s.tell("routes")
		if err != nil {
			return nil, "", err
		}
		sent, offered := meter.SentBytes.Load(), meter.OfferedBytes.Load()
		if n == 0 {
			return nil, fmt.Sprintf("nothing new to carry; %s knows how long the newest states were seen unchanged", r.Peer), nil
		}
		return map[string]int64{"snapshots": int64(n), "sentBytes": sent, "offeredBytes": offered, "wireBytes": meter.WireBytes.Load()},
			fmt.Sprintf("%s carried to %s; %s sent, %s were there already", many(n, "snapshot"), r.Peer, size(sent), size(max(0, offered-sent))), nil
	})
}

// carryAll brings everything that is wanted, the newest of every volume first, then the
// older ones.
func (s *Site) carryAll(ctx context.Context, j *job, route string, meter *transfer.Meter) (int, error) {
	r, err := s.cat.Route(route)
	if err != nil {
		return 0, err
	}
	peer, err := s.cat.Peer(r.Peer)
	if err != nil {
		return 0, err
	}
	link, _, err := s.link(ctx, peer)
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
			if err := s.carryOne(ctx, r, link, &work[i], row, meter); err != nil {
				return 0, err
			}
		}
	}
	done := 0
	for round := 0; ; round++ {
		any := false
		for i := range work {
			w := &work[i]
			if round < len(w.want) {
				any = true
				j.say(fmt.Sprintf("carrying %s of %s", w.want[round].ID[:12], w.v.Name))
				if err := s.carryOne(ctx, r, link, w, w.want[round], meter); err != nil {
					return done, fmt.Errorf("%s of %s: %w", w.want[round].ID[:12], w.v.Name, err)
				}
				done++
			}
		}
		if !any {
			return done, nil
		}
	}
}

func (s *Site) carryOne(ctx context.Context, r *catalog.Route, link *transfer.Link, w *routeWork, row *catalog.Snapshot, total *transfer.Meter) error {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return err
	}
	marks, raws, err := s.store.Marks(id)
	if err != nil {
		return err
	}
	var bring [][]byte
	for i, m := range marks {
		if m.Kind.Travels() {
			bring = append(bring, raws[i])
		}
	}
	setOf, err := s.setAlong(r, row)
	if err != nil {
		return err
	}
	one := &transfer.Meter{}
	c := &transfer.Sender{Store: s.store, Marks: bring, Meter: one, Request: transfer.CarryRequest{Lineage: lineageOf(w.v.Lineage), Volume: w.v.Name,
		Origin: s.Name(), Root: id, Bases: w.bases, Rules: w.rs.proposal(r.Peer), SetOf: setOf}}
	err = c.Run(ctx, link)
	total.OfferedObjects.Add(one.OfferedObjects.Load())
	total.OfferedBytes.Add(one.OfferedBytes.Load())
	total.TotalBytes.Add(one.TotalBytes.Load())
	total.SentObjects.Add(one.SentObjects.Load())
	total.SentBytes.Add(one.SentBytes.Load())
	total.WireBytes.Add(one.WireBytes.Load())
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
		if v, err := s.cat.Volume(m.Volume); err == nil && r.Volumes.V.Holds(v) {
			n++
		}
	}
	return n, nil
}

// basesNamed is how many snapshots a carry names as perhaps common.
const basesNamed = 32

// noteRoute records how a run of a route ended and when it is tried again.
func (s *Site) noteRoute(name string, m *transfer.Meter, err error, cancelled bool) error {
	r, cerr := s.cat.Route(name)
	if cerr != nil {
		return cerr
	}
	now := s.clock.Now()
	r.SentBytes += m.SentBytes.Load()
	r.SavedBytes += max(0, m.OfferedBytes.Load()-m.SentBytes.Load())
	switch {
	case err == nil:
		if serr := s.cat.SawPeer(r.Peer, now); serr != nil {
			return serr
		}
		r.LastOK, r.FailingSince, r.NextTry, r.Failures, r.LastError = catalog.At(now), catalog.Time{}, catalog.Time{}, 0, ""
	case cancelled:
	default:
		if r.Failures == 0 {
			r.FailingSince = catalog.At(now)
		}
		r.Failures++
		r.LastError = err.Error()
		// Half a minute at first, doubling up to an hour.
		wait := min(time.Hour, 30*time.Second<<min(r.Failures-1, 7))
		r.NextTry = catalog.At(now.Add(wait))
	}
	return s.cat.PutRoute(r)
}

// Route returns one route.
func (s *Site) Route(name string) (*api.Route, error) {
	r, err := s.cat.Route(name)
	if err != nil {
		return nil, err
	}
	return s.routeView(r)
}

// Routes lists all routes.
func (s *Site) Routes() ([]api.Route, error) {
	rows, err := s.cat.Routes()
	if err != nil {
		return nil, err
	}
	return views(rows, s.routeView)
}

func (s *Site) routeView(r *catalog.Route) (*api.Route, error) {
	now := s.clock.Now()
	v := &api.Route{Name: r.Name, To: r.Peer, Labels: r.Volumes.V.Labels, Names: r.Volumes.V.Names, LastOK: timePtr(r.LastOK), FailingSince: timePtr(r.FailingSince),
		NextTry: timePtr(r.NextTry), LastError: r.LastError, SentBytes: r.SentBytes, SavedBytes: r.SavedBytes, Volumes: []api.RouteVolume{}}
	work, err := s.routeWork(r)
	if err != nil {
		return nil, err
	}
	var worst time.Duration
	backlog, seeding := 0, false
	for _, w := range work {
		rv, err := s.routeVolume(r, &w, now)
		if err != nil {
			return nil, err
		}
		if rv.Newest == nil && rv.Backlog > 0 {
			seeding = true
		}
		worst = max(worst, time.Duration(rv.LagSeconds)*time.Second)
		backlog += rv.Backlog
		v.Volumes = append(v.Volumes, *rv)
	}
	running := s.isBusy("route " + r.Name)
	switch {
	case r.Failures > 0 && strings.Contains(r.LastError, "cannot be reached"):
		v.State = "unreachable"
		v.Sentence = fmt.Sprintf("%s cannot be reached since %s; tried %d times, next try %s.", r.Peer, stamp(r.FailingSince.Time), r.Failures, stamp(r.NextTry.Time))
	case r.Failures > 0:
		v.State = "refused"
		v.Sentence = fmt.Sprintf("Carrying to %s fails since %s: %s. Next try %s.", r.Peer, stamp(r.FailingSince.Time), r.LastError, stamp(r.NextTry.Time))
	case len(work) == 0:
		v.State = "waiting"
		v.Sentence = "It waits for a volume that it chooses; none has these labels."
	case seeding:
		v.State = "seeding"
		v.Sentence = fmt.Sprintf("The first copies are on their way to %s: %s still to carry.", r.Peer, many(backlog, "snapshot"))
	case backlog > 0:
		v.State = "behind"
		v.Sentence = fmt.Sprintf("%s lacks %s; its newest state is %s old.", r.Peer, many(backlog, "snapshot"), ago(worst))
		if !running {
			v.Sentence += " The next run carries them."
		}
	default:
		v.State = "current"
		v.Sentence = fmt.Sprintf("%s has everything it wants; its newest states are at most %s old.", r.Peer, ago(worst))
	}
	return v, nil
}

func (s *Site) routeVolume(r *catalog.Route, w *routeWork, now time.Time) (*api.RouteVolume, error) {
	carried, err := s.cat.CarriedBy(r.Name, s.Place(), w.v.Name)
	if err != nil {
		return nil, err
	}
	rows, err := s.cat.Snapshots(s.Place(), w.v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return nil, err
	}
	rv := &api.RouteVolume{Volume: w.v.Name, Backlog: len(w.want), Carried: len(carried)}
	for _, row := range rows {
		if k, ok := carried[row.ID]; ok {
			at := row.Began.Time
			if k.SeenUntil.After(at) {
				at = k.SeenUntil.Time
			}
			rv.Newest = &at
			rv.LagSeconds = int64(max(0, now.Sub(at)).Seconds())
			break
		}
	}
	return rv, nil
}
