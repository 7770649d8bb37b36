package route

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/cadence"
	"candidharbor/core/pace"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
)

const (
	onDemand  = "on demand"
	pullEvery = "every 15 minutes"
)

// terms reads what a route says, and finds what is wrong with it.
func RouteTerms(ask api.RouteTerms, pull bool) (t catalog.Terms, err error) {
	t = catalog.Terms{Pull: pull, When: strings.TrimSpace(ask.When), Zone: ask.Zone, Carry: strings.TrimSpace(ask.Carry),
		Priority: ask.Priority, Onward: ask.Onward, Tell: ask.Tell, Standby: ask.Standby,
		By:     strings.TrimSpace(ask.By),
		Within: time.Duration(ask.WithinSeconds) * time.Second}
	if t.By == "any" {
		t.By = ""
	}
	if t.Tell == "lag" {
		t.Tell = ""
	}
	if t.Tell != "" && !pull {
		return t, refusal.Badf("what the source learns is said of a route that pulls; one that pushes hides nothing from it")
	}
	if err := checkStandby(t.Standby); t.Standby != "" && err != nil {
		return t, err
	}
	if t.Priority < 0 || t.Priority > 9 {
		return t, refusal.Badf("priority %d: give 1 to 9", t.Priority)
	}
	if k, v, labelled := strings.Cut(t.Carry, "="); t.Carry != "" && t.Carry != carryAll &&
		(!labelled || k == "" || v == "") {
		return t, refusal.Badf("carry %q: write all, or a snapshot's label as key=value; nothing means what the rules at "+
			"the far place keep", t.Carry)
	}
	parts, err := partsOf(ask.In, ask.Out)
	if err != nil {
		return t, err
	}
	if t.In, t.Out = parts.In, parts.Out; !parts.Whole() && (pull || ask.Onward) {
		return t, refusal.Badf("paths are chosen at the site that takes the snapshots, of its own volumes: it signs what " +
			"it leaves out of them")
	}
	if ask.Cap != "" {
		if t.Cap, err = pace.ParseRate(ask.Cap); err != nil {
			return t, refusal.Wrap(refusal.Misuse, err)
		}
		if t.Cap == 0 {
			return t, refusal.Badf("a cap of nothing carries nothing: pause the route instead")
		}
		t.Cap = max(t.Cap, 0)
	}
	for _, line := range ask.Pace {
		if line = strings.TrimSpace(line); line != "" {
			t.Pace = append(t.Pace, line)
		}
	}
	if err := checkOwnPace(t); err != nil {
		return t, err
	}
	_, err = routeCadence(t)
	return t, err
}

func checkOwnPace(t catalog.Terms) error {
	switch {
	case t.Pull && (t.Cap > 0 || len(t.Pace) > 0):
		return refusal.Badf("a route that takes is limited where it is sent from: set the pace there, with candid pace set")
	case t.Cap > 0 && len(t.Pace) > 0:
		return refusal.Badf("give a cap, which always holds, or a pace by time of week, whose last line may always hold")
	}
	own, err := pairing.OwnPace(t)
	if err != nil || own == nil {
		return err
	}
	if lines := own.Lines(); slices.Equal(lines, []string{pace.RateWords(0)}) {
		return refusal.Badf("a pace of nothing carries nothing: pause the route instead")
	}
	return nil
}

// checkBy finds whether a site is at an address that a route is to go by.
func (s *Service) checkBy(peer, by string) error {
	p, err := s.Catalog.Peer(peer)
	if err != nil || by == "" {
		return err
	}
	if err := pairing.CheckAddress(by); err != nil {
		return err
	}
	if !slices.Contains(p.Reach(), by) {
		return refusal.Badf("%s is not known to be at %s (it is at %s): add that first, with candid site addresses %s "+
			"--add %s", peer, by, phrase.Names(p.Reach(), 4), peer, by)
	}
	return nil
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
			return nil, refusal.Badf("%w", err)
		}
	}
	c, err := cadence.Parse(when, zone)
	if err != nil {
		return nil, refusal.Wrap(refusal.Misuse, fmt.Errorf("%w; or write %q", err, onDemand))
	}
	if _, _, looks := c.OnChange(); looks || c.AtStart() {
		return nil, refusal.Badf("a route runs by a cadence with times of its own, %q or after every snapshot, not %q",
			onDemand, when)
	}
	return c, nil
}

func termsView(t catalog.Terms) api.RouteTerms {
	v := api.RouteTerms{When: t.When, Zone: t.Zone, Carry: t.Carry, Priority: t.Priority,
		WithinSeconds: int64(t.Within / time.Second), Onward: t.Onward, Tell: t.Tell, Standby: t.Standby, In: t.In,
		Out: t.Out, By: t.By}
	if t.Cap > 0 {
		v.Cap = pace.RateWords(t.Cap)
	}
	v.Pace = t.Pace
	return v
}

// newRoute reads and checks what is asked for.
func (s *Service) newRoute(ask api.RouteAdd) (*catalog.Route, error) {
	if err := policy.CheckName("route", ask.Name); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	if _, err := s.Catalog.Route(ask.Name); err == nil {
		return nil, refusal.Conflictf("route %q is there already: choose another name, or change it with candid route edit",
			ask.Name)
	}
	peer, pull := ask.To, ask.From != ""
	if (ask.To == "") == (ask.From == "") {
		return nil, refusal.Badf("a route goes to a site or comes from one: give one of both")
	}
	if pull {
		peer = ask.From
	}
	if _, err := s.Catalog.Peer(peer); err != nil {
		return nil, refusal.Missingf("site %q is not paired: pair first, with candid site invite there and candid "+
			"site pair here", peer)
	}
	if err := s.pairing.CheckVolumes(ask.Labels, ask.Names); err != nil {
		return nil, err
	}
	if !pull {
		for _, n := range ask.Names {
			if _, err := s.Catalog.Volume(n); err != nil {
				return nil, err
			}
		}
	}
	t, err := RouteTerms(ask.Terms, pull)
	if err == nil {
		err = s.checkBy(peer, t.By)
	}
	if err != nil {
		return nil, err
	}
	return &catalog.Route{Name: ask.Name, Peer: peer, Volumes: catalog.JSON[catalog.Selection]{
		V: catalog.Selection{Labels: ask.Labels, Names: ask.Names}},
		Terms: catalog.JSON[catalog.Terms]{V: t}, Known: catalog.JSON[[]catalog.Known]{V: []catalog.Known{}},
		Made: catalog.At(s.Clock.Now())}, nil
}

// awaken has routes go on that waited for a place of this site.
func (s *Service) awaken(place string) (waiting int, err error) {
	return s.tryNow(func(r *catalog.Route) bool { return r.Peer == place && !r.NextTry.IsZero() })
}

// paceChanged has routes look at the new pace that waited for the one before.
func (s *Service) paceChanged(peer string) error {
	_, err := s.tryNow(func(r *catalog.Route) bool { return r.Peer == peer && r.Interrupted() })
	return err
}

// tryNow has routes run with the next look of the schedule, whatever they waited for.
func (s *Service) tryNow(which func(*catalog.Route) bool) (n int, err error) {
	routes, err := s.Catalog.Routes()
	if err != nil {
		return 0, err
	}
	for _, r := range routes {
		if !which(r) {
			continue
		}
		n++
		if err := s.changeRoute(r.Name, func(r *catalog.Route) error { r.NextTry = catalog.Time{}; return nil }); err != nil {
			return n, err
		}
	}
	return n, nil
}

// AddRoute opens a route to or from a paired site.
func (s *Service) AddRoute(ask api.RouteAdd) (*api.Route, error) {
	r, err := s.newRoute(ask)
	if err != nil {
		return nil, err
	}
	if err := s.Catalog.PutRoute(r); err != nil {
		return nil, err
	}
	s.run.Changed("routes")
	return s.Route(ask.Name)
}

// EditRoute changes what a route chooses, or its terms. It holds at once.
func (s *Service) EditRoute(name string, ask api.RouteEdit) (*api.Route, error) {
	err := s.changeRoute(name, func(r *catalog.Route) (err error) {
		if len(ask.Labels)+len(ask.Names) > 0 {
			if err := s.pairing.CheckVolumes(ask.Labels, ask.Names); err != nil {
				return err
			}
			r.Volumes.V = catalog.Selection{Labels: ask.Labels, Names: ask.Names}
		}
		if ask.Terms != nil {
			if r.Terms.V, err = RouteTerms(*ask.Terms, r.Terms.V.Pull); err != nil {
				return err
			}
			err = s.checkBy(r.Peer, r.Terms.V.By)
			if r.Interrupted() { // it may have waited for what is otherwise now
				r.NextTry = catalog.Time{}
			}
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	s.run.Changed("routes")
	return s.Route(name)
}

// changeRoute reads a route, changes it and stores it, as one step: a run that ends at the
// same time must not take a person's change back.
func (s *Service) changeRoute(name string, change func(r *catalog.Route) error) error {
	s.rows.Lock()
	defer s.rows.Unlock()
	r, err := s.Catalog.Route(name)
	if err != nil {
		return err
	}
	if err := change(r); err != nil {
		return err
	}
	return s.Catalog.PutRoute(r)
}

// PauseRoute stops a route until it is resumed; what it wants stays owed.
func (s *Service) PauseRoute(name string) (string, error) {
	far := ""
	err := s.changeRoute(name, func(r *catalog.Route) error {
		if !r.Paused.IsZero() {
			return refusal.Conflictf("route %s is paused already, since %s", name, phrase.Stamp(r.Paused.Time))
		}
		r.Paused, far = catalog.At(s.Clock.Now()), s.farEnd(r)
		return nil
	})
	if err != nil {
		return "", err
	}
	s.run.StopRun("carry", name)
	s.run.Changed("routes")
	return fmt.Sprintf("Route %s is paused. What %s lacks stays owed to it, until candid route resume %s.", name, far,
		name), nil
}

// ResumeRoute lets a paused route go on.
func (s *Service) ResumeRoute(name string) (string, error) {
	var since time.Time
	err := s.changeRoute(name, func(r *catalog.Route) error {
		if r.Paused.IsZero() {
			return refusal.Conflictf("route %s is not paused", name)
		}
		since, r.Paused, r.NextTry = r.Paused.Time, catalog.Time{}, catalog.Time{}
		return nil
	})
	if err != nil {
		return "", err
	}
	s.run.Changed("routes")
	return fmt.Sprintf("Route %s goes on; it was paused for %s.", name, phrase.Ago(s.Clock.Now().Sub(since))), nil
}

// farEnd is where a route's snapshots arrive.
func (s *Service) farEnd(r *catalog.Route) string {
	if r.Terms.V.Pull {
		return s.Name()
	}
	return r.Peer
}

// RemoveRoute closes a route. What it carried stays at the far side.
func (s *Service) RemoveRoute(name string) (string, error) {
	r, err := s.Catalog.Route(name)
	if err != nil {
		return "", err
	}
	if err := s.Catalog.RemoveRoute(name); err != nil {
		return "", err
	}
	s.run.Changed("routes")
	if r.Terms.V.Pull {
		return fmt.Sprintf("Route %s is closed: nothing more is taken from %s. What it took stays here.", name, r.Peer), nil
	}
	return fmt.Sprintf("Route %s is closed. What it carried stays at %s; nothing here is owed to it any more.", name,
		r.Peer), nil
}

// RunRoute starts carrying now.
func (s *Service) RunRoute(name, by string) (api.Run, error) {
	j, err := s.StartRoute(name, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

// StartRoute is RunRoute for who waits for its end.
func (s *Service) StartRoute(name, by string) (*run.Job, error) {
	r, err := s.Catalog.Route(name)
	if err != nil {
		return nil, err
	}
	if !r.Paused.IsZero() {
		return nil, refusal.Conflictf("route %s is paused since %s: candid route resume %s first", name,
			phrase.Stamp(r.Paused.Time), name)
	}
	return s.startRoute(r, by)
}
