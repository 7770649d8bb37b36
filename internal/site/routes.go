package site

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/cadence"
	"candidharbor/core/pace"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
	"candidharbor/internal/transfer"
)

const (
	onDemand  = "on demand"
	pullEvery = "every 15 minutes"
)

// terms reads what a route says, and finds what is wrong with it.
func routeTerms(ask api.RouteTerms, pull bool) (t catalog.Terms, err error) {
	t = catalog.Terms{Pull: pull, When: strings.TrimSpace(ask.When), Zone: ask.Zone, Carry: strings.TrimSpace(ask.Carry), Priority: ask.Priority, Onward: ask.Onward, Tell: ask.Tell, Standby: ask.Standby,
		Within: time.Duration(ask.WithinSeconds) * time.Second}
	if t.Tell == "lag" {
		t.Tell = ""
	}
	if t.Tell != "" && !pull {
		return t, bad("what the source learns is said of a route that pulls; one that pushes hides nothing from it")
	}
	if err := checkStandby(t.Standby); t.Standby != "" && err != nil {
		return t, err
	}
	if t.Priority < 0 || t.Priority > 9 {
		return t, bad("priority %d: give 1 to 9", t.Priority)
	}
	if k, v, labelled := strings.Cut(t.Carry, "="); t.Carry != "" && t.Carry != carryAll && (!labelled || k == "" || v == "") {
		return t, bad("carry %q: write all, or a snapshot's label as key=value; nothing means what the rules at the far place keep", t.Carry)
	}
	parts, err := partsOf(ask.In, ask.Out)
	if err != nil {
		return t, err
	}
	if t.In, t.Out = parts.In, parts.Out; !parts.Whole() && (pull || ask.Onward) {
		return t, bad("paths are chosen at the site that takes the snapshots, of its own volumes: it signs what it leaves out of them")
	}
	if ask.Cap != "" {
		if t.Cap, err = pace.ParseRate(ask.Cap); err != nil {
			return t, &Error{Misuse, err}
		}
		if t.Cap == 0 {
			return t, bad("a cap of nothing carries nothing: pause the route instead")
		}
		t.Cap = max(t.Cap, 0)
	}
	_, err = routeCadence(t)
	return t, err
}

// routeCadence is when a route runs by itself; nil: after every snapshot, or never.
func routeCadence(t catalog.Terms) (*cadence.Cadence, error) {
	when := t.When
	if when == "" && t.Pull {
		when = pullEvery
	}
	if when == "" || when == onDemand {
		return nil, nil
	}
	zone := time.UTC
	if t.Zone != "" {
		var err error
		if zone, err = cadence.LoadZone(t.Zone); err != nil {
			return nil, bad("%w", err)
		}
	}
	c, err := cadence.Parse(when, zone)
	if err != nil {
		return nil, &Error{Misuse, fmt.Errorf("%w; or write %q", err, onDemand)}
	}
	if _, _, looks := c.OnChange(); looks || c.AtStart() {
		return nil, bad("a route runs by a cadence with times of its own, %q or after every snapshot, not %q", onDemand, when)
	}
	return c, nil
}

func termsView(t catalog.Terms) api.RouteTerms {
	v := api.RouteTerms{When: t.When, Zone: t.Zone, Carry: t.Carry, Priority: t.Priority, WithinSeconds: int64(t.Within / time.Second), Onward: t.Onward, Tell: t.Tell, Standby: t.Standby, In: t.In, Out: t.Out}
	if t.Cap > 0 {
		v.Cap = pace.RateWords(t.Cap)
	}
	return v
}

// newRoute reads and checks what is asked for.
func (s *Site) newRoute(ask api.RouteAdd) (*catalog.Route, error) {
	if err := policy.CheckName("route", ask.Name); err != nil {
		return nil, &Error{Misuse, err}
	}
	if _, err := s.cat.Route(ask.Name); err == nil {
		return nil, conflict("route %q is there already: choose another name, or change it with candid route edit", ask.Name)
	}
	peer, pull := ask.To, ask.From != ""
	if (ask.To == "") == (ask.From == "") {
		return nil, bad("a route goes to a site or comes from one: give one of both")
	}
	if pull {
		peer = ask.From
	}
	if _, err := s.cat.Peer(peer); err != nil {
		return nil, missing("site %q is not paired: pair first, with candid site invite there and candid site pair here", peer)
	}
	if err := s.checkVolumes(ask.Labels, ask.Names); err != nil {
		return nil, err
	}
	if !pull {
		for _, n := range ask.Names {
			if _, err := s.cat.Volume(n); err != nil {
				return nil, err
			}
		}
	}
	t, err := routeTerms(ask.Terms, pull)
	if err != nil {
		return nil, err
	}
	return &catalog.Route{Name: ask.Name, Peer: peer, Volumes: catalog.JSON[catalog.Selection]{V: catalog.Selection{Labels: ask.Labels, Names: ask.Names}},
		Terms: catalog.JSON[catalog.Terms]{V: t}, Known: catalog.JSON[[]catalog.Known]{V: []catalog.Known{}}, Made: catalog.At(s.clock.Now())}, nil
}

// AddRoute opens a route to or from a paired site.
func (s *Site) AddRoute(ask api.RouteAdd) (*api.Route, error) {
	r, err := s.newRoute(ask)
	if err != nil {
		return nil, err
	}
	if err := s.cat.PutRoute(r); err != nil {
		return nil, err
	}
	s.cat.Settle()
	s.changed("routes")
	return s.Route(ask.Name)
}

// CheckRoute tells what a route would do before it is opened.
func (s *Site) CheckRoute(ctx context.Context, ask api.RouteAdd) (*api.RouteCheck, error) {
	r, err := s.newRoute(ask)
	if err != nil {
		return nil, err
	}
	peer, err := s.cat.Peer(r.Peer)
	if err != nil {
		return nil, err
	}
	out := &api.RouteCheck{Volumes: []string{}}
	h, _, _, err := s.greet(ctx, peer)
	if err != nil {
		return nil, err
	}
	switch {
	case h.Grants == nil:
	case r.Terms.V.Pull && !h.Grants.Read:
		return nil, conflict("%s does not let this site read its snapshots: there, candid site grant %s read", r.Peer, s.Name())
	case !r.Terms.V.Pull && !h.Grants.Offer:
		return nil, conflict("%s does not let this site bring snapshots: there, candid site grant %s offer", r.Peer, s.Name())
	}
	rate := pace.RateWords(pace.Unlimited)
	perSecond := float64(100 << 20)
	if r.Terms.V.Pull {
		link, _, err := s.link(ctx, peer)
		if err != nil {
			return nil, err
		}
		work, err := s.lookThere(r, link)
		if err != nil {
			return nil, err
		}
		wholeSets(work)
		n := 0
		for _, w := range work {
			out.Volumes = append(out.Volumes, w.name)
			n += len(w.want)
		}
		out.Sentence = fmt.Sprintf("It takes %s of %s from %s.", many(n, "snapshot"), many(len(work), "volume"), r.Peer)
		return out, nil
	}
	work, err := s.routeWork(r)
	if err != nil {
		return nil, err
	}
	n := 0
	var ids []string
	for _, w := range work {
		out.Volumes = append(out.Volumes, w.v.Name)
		n += len(w.want)
		for _, row := range w.want {
			ids = append(ids, row.ID)
		}
	}
	if out.Bytes, err = s.referencedBy(ids); err != nil {
		return nil, err
	}
	have, err := s.paceTo(peer)
	if err != nil {
		return nil, err
	}
	if now := have.lines.At(s.clock.Now()); now > 0 {
		rate, perSecond = pace.RateWords(now), float64(now)
	}
	if c := r.Terms.V.Cap; c > 0 && float64(c) < perSecond {
		rate, perSecond = pace.RateWords(c), float64(c)
	}
	out.Seconds = int64(float64(out.Bytes) / perSecond)
	out.Sentence = fmt.Sprintf("It carries %s of %s to %s: at most %s", many(n, "snapshot"), many(len(work), "volume"), r.Peer, size(out.Bytes))
	if rate == pace.RateWords(pace.Unlimited) {
		out.Sentence += ", as fast as the line is."
	} else {
		out.Sentence += fmt.Sprintf(", which takes about %s at the present pace of %s.", ago(time.Duration(out.Seconds)*time.Second), rate)
	}
	if len(work) == 0 {
		out.Sentence = "It chooses no volume at present."
	}
	return out, nil
}

// EditRoute changes what a route chooses, or its terms. It holds at once.
func (s *Site) EditRoute(name string, ask api.RouteEdit) (*api.Route, error) {
	r, err := s.cat.Route(name)
	if err != nil {
		return nil, err
	}
	if len(ask.Labels)+len(ask.Names) > 0 {
		if err := s.checkVolumes(ask.Labels, ask.Names); err != nil {
			return nil, err
		}
		r.Volumes.V = catalog.Selection{Labels: ask.Labels, Names: ask.Names}
	}
	if ask.Terms != nil {
		if r.Terms.V, err = routeTerms(*ask.Terms, r.Terms.V.Pull); err != nil {
			return nil, err
		}
	}
	if err := s.cat.PutRoute(r); err != nil {
		return nil, err
	}
	s.cat.Settle()
	s.changed("routes")
	return s.Route(name)
}

// PauseRoute stops a route until it is resumed; what it wants stays owed.
func (s *Site) PauseRoute(name string) (string, error) {
	r, err := s.cat.Route(name)
	if err != nil {
		return "", err
	}
	if !r.Paused.IsZero() {
		return "", conflict("route %s is paused already, since %s", name, stamp(r.Paused.Time))
	}
	r.Paused = catalog.At(s.clock.Now())
	if err := s.cat.PutRoute(r); err != nil {
		return "", err
	}
	s.stopRun("carry", name)
	s.changed("routes")
	return fmt.Sprintf("Route %s is paused. What %s lacks stays owed to it, until candid route resume %s.", name, s.farEnd(r), name), nil
}

// ResumeRoute lets a paused route go on.
func (s *Site) ResumeRoute(name string) (string, error) {
	r, err := s.cat.Route(name)
	if err != nil {
		return "", err
	}
	if r.Paused.IsZero() {
		return "", conflict("route %s is not paused", name)
	}
	since := r.Paused.Time
	r.Paused, r.NextTry = catalog.Time{}, catalog.Time{}
	if err := s.cat.PutRoute(r); err != nil {
		return "", err
	}
	s.changed("routes")
	return fmt.Sprintf("Route %s goes on; it was paused for %s.", name, ago(s.clock.Now().Sub(since))), nil
}

// farEnd is where a route's snapshots arrive.
func (s *Site) farEnd(r *catalog.Route) string {
	if r.Terms.V.Pull {
		return s.Name()
	}
	return r.Peer
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
	if r.Terms.V.Pull {
		return fmt.Sprintf("Route %s is closed: nothing more is taken from %s. What it took stays here.", name, r.Peer), nil
	}
	return fmt.Sprintf("Route %s is closed. What it carried stays at %s; nothing here is owed to it any more.", name, r.Peer), nil
}

// RunRoute starts carrying now.
func (s *Site) RunRoute(name, by string) (api.Run, error) {
	r, err := s.cat.Route(name)
	if err != nil {
		return api.Run{}, err
	}
	if !r.Paused.IsZero() {
		return api.Run{}, conflict("route %s is paused since %s: candid route resume %s first", name, stamp(r.Paused.Time), name)
	}
	j, err := s.startRoute(r, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

// dueRoute tells whether a route is to run now, and when it is to be looked at again.
func (s *Site) dueRoute(r *catalog.Route, now time.Time) (is bool, next time.Time, err error) {
	t := r.Terms.V
	if !r.Paused.IsZero() || t.When == onDemand && r.NextTry.IsZero() {
		return false, next, nil
	}
	if r.NextTry.After(now) {
		return false, r.NextTry.Time, nil
	}
	c, err := routeCadence(t)
	if err != nil {
		return false, next, err
	}
	if c != nil && r.Failures == 0 && !r.Interrupted() {
		from := r.Made.Time
		if r.LastRun.After(from) {
			from = r.LastRun.Time
		}
		first := t.When == "" && r.LastRun.IsZero() // a new route that pulls looks at once
		if at, ok := c.Next(from); !first && (!ok || at.After(now)) {
			return false, at, nil
		}
		if t.Pull {
			return true, next, nil
		}
	}
	if t.Pull {
		return true, next, nil
	}
	work, err := s.routeWork(r)
	if err != nil {
		return false, next, err
	}
	is = slices.ContainsFunc(work, func(w routeWork) bool { return len(w.want) > 0 || len(w.marks) > 0 })
	if c != nil && !is {
		next, _ = c.Next(now)
	}
	return is, next, nil
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
		if s.isBusy("route " + r.Name) {
			continue
		}
		is, at, err := s.dueRoute(r, now)
		if err != nil {
			return next, err
		}
		if !at.IsZero() && (next.IsZero() || at.Before(next)) {
			next = at
		}
		if !is {
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

// going is a run of a route.
type going struct {
	meter *transfer.Meter
	began time.Time // by the clock on the wall: bytes take real time
}

func (s *Site) startRoute(r *catalog.Route, by string) (*job, error) {
	return s.start("carry", r.Name, by, func(ctx context.Context, j *job) (any, string, error) {
		j.say("waiting for another run of this route")
		release, err := s.hold(ctx, "route "+r.Name)
		if err != nil {
			return nil, "", err
		}
		defer release()
		g := &going{meter: &transfer.Meter{}, began: time.Now()}
		s.mu.Lock()
		s.going[r.Name] = g
		s.mu.Unlock()
		defer func() {
			s.mu.Lock()
			delete(s.going, r.Name)
			s.mu.Unlock()
		}()
		meter := g.meter
		j.begin(func() api.Progress {
			return api.Progress{DoneBytes: meter.OfferedBytes.Load(), TotalBytes: meter.TotalBytes.Load(), Files: meter.SentObjects.Load()}
		})
		r, n, err := s.runRoute(ctx, j, r.Name, meter)
		if r == nil {
			return nil, "", err
		}
		if rerr := s.noteRoute(r.Name, g, err, ctx.Err() != nil); rerr != nil {
			err = errors.Join(err, rerr)
		}
		s.tell("routes")
		var closed *transfer.Closed
		if errors.As(err, &closed) {
			return nil, fmt.Sprintf("%s carried; %s, then it goes on", many(n, "snapshot"), closed.Error()), nil
		}
		if err != nil {
			return nil, "", err
		}
		sent, offered := meter.SentBytes.Load(), meter.OfferedBytes.Load()
		out := map[string]int64{"snapshots": int64(n), "sentBytes": sent, "offeredBytes": offered, "wireBytes": meter.WireBytes.Load()}
		switch {
		case n == 0 && r.Terms.V.Pull:
			return nil, fmt.Sprintf("%s has nothing new that is wanted here", r.Peer), nil
		case n == 0:
			return nil, fmt.Sprintf("nothing new to carry; %s knows how long the newest states were seen unchanged", r.Peer), nil
		case sent == 0 && offered == 0:
			return out, fmt.Sprintf("%s had %s already; nothing had to be sent", r.Peer, many(n, "snapshot")), nil
		case r.Terms.V.Pull:
			return out, fmt.Sprintf("%s taken from %s; %s came", many(n, "snapshot"), r.Peer, size(sent)), nil
		}
		return out, fmt.Sprintf("%s carried to %s; %s sent, %s were there already", many(n, "snapshot"), r.Peer, size(sent), size(max(0, offered-sent))), nil
	})
}

func (s *Site) runRoute(ctx context.Context, j *job, name string, meter *transfer.Meter) (*catalog.Route, int, error) {
	r, err := s.cat.Route(name)
	if err != nil {
		return nil, 0, err
	}
	r.LastRun = catalog.At(s.clock.Now())
	if err := s.cat.PutRoute(r); err != nil {
		return nil, 0, err
	}
	peer, err := s.cat.Peer(r.Peer)
	if err != nil {
		return nil, 0, err
	}
	n := 0
	if r.Terms.V.Pull {
		n, err = s.pullAll(ctx, j, r, peer, meter)
	} else {
		n, err = s.pushAll(ctx, j, r, peer, meter)
	}
	return r, n, err
}

// noteRoute records how a run of a route ended and when it is tried again.
func (s *Site) noteRoute(name string, g *going, err error, cancelled bool) error {
	r, cerr := s.cat.Route(name)
	if cerr != nil {
		return cerr
	}
	now, m := s.clock.Now(), g.meter
	r.SentBytes += m.SentBytes.Load()
	if err == nil {
		r.SavedBytes += max(0, m.OfferedBytes.Load()-m.SentBytes.Load())
	}
	var closed *transfer.Closed
	switch {
	case err == nil:
		if serr := s.cat.SawPeer(r.Peer, now); serr != nil {
			return serr
		}
		r.LastOK, r.FailingSince, r.NextTry, r.Failures, r.LastError = catalog.At(now), catalog.Time{}, catalog.Time{}, 0, ""
	case cancelled:
	case errors.As(err, &closed):
		r.FailingSince, r.Failures, r.NextTry, r.LastError = catalog.Time{}, 0, catalog.At(closed.Until), "the pace lets nothing through"
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
	if err := s.cat.PutRoute(r); err != nil {
		return err
	}
	return s.noteTraffic(r, g)
}
