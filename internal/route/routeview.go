package route

import (
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/rules"
)

// Route returns one route.
func (s *Service) Route(name string) (*api.Route, error) {
	r, err := s.Catalog.Route(name)
	if err != nil {
		return nil, err
	}
	return s.routeNow(r)
}

func (s *Service) routeNow(r *catalog.Route) (*api.Route, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	return s.routeView(r, vols)
}

// Routes lists all routes.
func (s *Service) Routes() ([]api.Route, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	return s.RoutesOver(vols)
}

// RoutesOver lists all routes, with how far they are with the given volumes, which are all there are.
func (s *Service) RoutesOver(vols []*catalog.Volume) ([]api.Route, error) {
	rows, err := s.Catalog.Routes()
	if err != nil {
		return nil, err
	}
	return catalog.Each(rows, func(r *catalog.Route) (*api.Route, error) { return s.routeView(r, vols) })
}

func (s *Service) routeView(r *catalog.Route, vols []*catalog.Volume) (*api.Route, error) {
	now := s.Clock.Now()
	said, err := s.Catalog.Descriptions(catalog.DescribedRoute)
	if err != nil {
		return nil, err
	}
	v := &api.Route{Name: r.Name, Description: said[r.Name],
		From: s.Name(), To: r.Peer, Pull: r.Terms.V.Pull, Labels: r.Volumes.V.Labels,
		Names: r.Volumes.V.Names, Terms: termsView(r.Terms.V),
		PausedSince: r.Paused.Ptr(), LastOK: r.LastOK.Ptr(), FailingSince: r.FailingSince.Ptr(),
		NextTry: r.NextTry.Ptr(), LastError: r.LastError, Cause: string(r.LastCause), SentBytes: r.SentBytes,
		SavedBytes: r.SavedBytes,
		Volumes:    []api.RouteVolume{}}
	if r.Terms.V.Pull {
		v.From, v.To = v.To, v.From
		err = s.pulledVolumes(v, r, now)
	} else {
		err = s.pushedVolumes(v, r, vols, now)
	}
	if err != nil {
		return nil, err
	}
	if c, err := routeCadence(r.Terms.V); err == nil && c != nil && r.Paused.IsZero() {
		if at, ok := c.Next(now); ok {
			v.NextDue = &at
		}
	}
	s.mu.Lock()
	g := s.going[r.Name]
	s.mu.Unlock()
	if g != nil {
		p := g.job.View().Progress
		v.Rate = int64(p.BytesPerSecond)
		if p.SecondsLeft > 0 {
			ends := now.Add(time.Duration(p.SecondsLeft * float64(time.Second)))
			v.Ends = &ends
		}
	}
	s.routeSentence(v, r, g != nil)
	return v, nil
}

func (s *Service) pushedVolumes(v *api.Route, r *catalog.Route, vols []*catalog.Volume, now time.Time) error {
	for _, vol := range vols {
		if !s.Carries(r, vol) {
			continue
		}
		rs, err := s.rules.RulesFor(vol)
		if err != nil {
			return err
		}
		rv, err := s.FarState(r, vol, rs, now)
		if err != nil {
			return err
		}
		v.Volumes = append(v.Volumes, *rv)
	}
	return nil
}

func (s *Service) pulledVolumes(v *api.Route, r *catalog.Route, now time.Time) error {
	counts, err := s.Catalog.Counts(s.Place())
	if err != nil {
		return err
	}
	for _, k := range r.Known.V {
		rv := api.RouteVolume{Volume: k.Volume, Backlog: k.Backlog, Carried: counts[k.Volume][0] + counts[k.Volume][1]}
		if here, err := s.Catalog.Volume(k.Volume); err == nil {
			last, err := s.Catalog.LastSnapshot(s.Place(), here.Lineage)
			if err != nil {
				return err
			}
			if last != nil {
				at := rules.NewestState(last)
				rv.Newest, rv.LagSeconds = &at, int64(max(0, now.Sub(at)).Seconds())
			}
		}
		v.Volumes = append(v.Volumes, rv)
	}
	return nil
}

// routeSentence says what a route is doing, since when, and what it waits for.
func (s *Service) routeSentence(v *api.Route, r *catalog.Route, running bool) {
	var worst time.Duration
	backlog, seeding := 0, false
	for _, rv := range v.Volumes {
		seeding = seeding || rv.Newest == nil && rv.Backlog > 0
		worst = max(worst, time.Duration(rv.LagSeconds)*time.Second)
		backlog += rv.Backlog
	}
	say := func(state, format string, args ...any) { v.State, v.Sentence = state, fmt.Sprintf(format, args...) }
	next := ""
	switch {
	case running && v.Ends != nil:
		next = fmt.Sprintf(" %s being carried now, at %s a second, and done about %s.", phrase.Pick(backlog, "It is",
			"They are"), phrase.Size(v.Rate), phrase.Stamp(*v.Ends))
	case running && backlog == 0:
		next = " It looks for more now."
	case running:
		next = phrase.Pick(backlog, " It is being carried now.", " They are being carried now.")
	case r.Terms.V.When == onDemand:
		next = fmt.Sprintf(" It runs when asked: candid route run %s.", r.Name)
	case v.NextDue != nil:
		next = " It runs next " + phrase.Stamp(*v.NextDue) + "."
	case backlog > 0:
		next = " The next run carries " + phrase.Pick(backlog, "it.", "them.")
	}
	newest := fmt.Sprintf("its newest states are at most %s old", phrase.Ago(worst))
	if len(v.Volumes) == 1 {
		newest = fmt.Sprintf("its newest state is %s old", phrase.Ago(worst))
	}
	switch {
	case v.PausedSince != nil:
		waits := "nothing waits"
		if backlog > 0 {
			waits = phrase.Many(backlog, "snapshot") + phrase.Pick(backlog, " waits", " wait")
		}
		say("paused", "It is paused since %s; %s.", phrase.Stamp(*v.PausedSince), waits)
	case r.Failures > 0 && r.LastCause == catalog.CauseDetached:
		say("waiting", "It waits for the disk of %s since %s: candid place attach %s --path DIR. What it would carry "+
			"stays owed.", r.Peer, phrase.Stamp(r.FailingSince.Time), r.Peer)
	case r.Failures > 0 && r.LastCause == catalog.CauseUnreachable:
		say("no line", "%s cannot be reached since %s; tried %d times, next try %s.", r.Peer,
			phrase.Stamp(r.FailingSince.Time), r.Failures, phrase.Stamp(r.NextTry.Time))
	case r.Failures > 0 && r.LastCause == catalog.CauseFull:
		say("waiting", "It waits for room at %s since %s: %s. It looks again %s and goes on by itself.", v.To,
			phrase.Stamp(r.FailingSince.Time), r.LastError, phrase.Stamp(r.NextTry.Time))
	case r.Failures > 0:
		say("refused", "Carrying to %s fails since %s: %s. Next try %s.", v.To, phrase.Stamp(r.FailingSince.Time),
			r.LastError, phrase.Stamp(r.NextTry.Time))
	case r.Interrupted() && !running:
		say("waiting", "It waits until %s, because %s; %s left.", phrase.Stamp(r.NextTry.Time), r.LastError,
			phrase.Many(backlog, "snapshot"))
	case len(v.Volumes) == 0 && v.Pull && r.LastOK.IsZero():
		say("seeding", "It has not looked at %s yet.%s", r.Peer, next)
	case len(v.Volumes) == 0 && v.Pull:
		others := ""
		if !r.Terms.V.Onward {
			others = " Copies that it has of other sites' volumes come by name, or with --onward."
		}
		say("waiting", "It waits for a volume that it chooses: %s shows none of its own.%s%s", r.Peer, others, next)
	case len(v.Volumes) == 0 && s.carriesWhenActive(r):
		say("standing by", "It stands by: other sites are active of what it carries, and carry it.")
	case len(v.Volumes) == 0:
		say("waiting", "It waits for a volume that it chooses; none has these labels.")
	case seeding:
		say("seeding", "First copies are still to be carried to %s, %s in all.%s", v.To, phrase.Many(backlog, "snapshot"),
			next)
	case backlog > 0:
		say("behind", "%s lacks %s; %s.%s", v.To, phrase.Many(backlog, "snapshot"), newest, next)
	default:
		say("current", "%s has everything it wants; %s.", v.To, newest)
		if r.Terms.V.When != "" || running {
			v.Sentence += next
		}
	}
}

// noteTraffic keeps how a route went, for the curve of its rate and lag. g is nil between
// runs.
func (s *Service) noteTraffic(r *catalog.Route, g *going) error {
	v, err := s.routeNow(r)
	if err != nil {
		return err
	}
	t := &catalog.Traffic{Route: r.Name, At: catalog.At(s.Clock.Now())}
	for _, rv := range v.Volumes {
		t.Lag, t.Backlog = max(t.Lag, rv.LagSeconds), t.Backlog+int64(rv.Backlog)
	}
	if g != nil {
		t.Seconds, t.Offered, t.Sent = time.Since(g.began).Seconds(), g.meter.OfferedBytes.Load(), g.meter.SentBytes.Load()
	}
	return s.Catalog.PutTraffic(t)
}

// Traffic returns how a route went since a time, oldest first.
func (s *Service) Traffic(name string, since time.Time) ([]api.Traffic, error) {
	r, err := s.Catalog.Route(name)
	if err != nil {
		return nil, err
	}
	if since.IsZero() {
		since = s.Clock.Now().AddDate(0, 0, -7)
	}
	rows, err := s.Catalog.TrafficOf(r.Name, since)
	out := make([]api.Traffic, len(rows))
	for i, t := range rows {
		out[i] = api.Traffic{Route: t.Route, At: t.At.Time, Seconds: t.Seconds, Offered: t.Offered, Sent: t.Sent,
			LagSeconds: t.Lag, Backlog: t.Backlog}
	}
	return out, err
}

// referencedBy returns the stored bytes that snapshots need together.
func (s *Service) referencedBy(ids []string) (int64, error) {
	roots := make([]object.ID, len(ids))
	for i, id := range ids {
		var err error
		if roots[i], err = object.ParseID(id); err != nil {
			return 0, err
		}
	}
	return s.Store.ReferencedBy(roots)
}

// Slow says that a route's run takes longer than it may, or longer than it may has nothing
// carried what waits; empty when not.
func (s *Service) Slow(r *api.Route) string {
	within := time.Duration(r.Terms.WithinSeconds) * time.Second
	if within == 0 || r.PausedSince != nil {
		return ""
	}
	row, err := s.Catalog.Route(r.Name)
	if err != nil {
		return ""
	}
	late := s.Clock.Now().Sub(row.LastRun.Time) - within
	unfinished := row.LastOK.Before(row.LastRun.Time)
	if row.LastRun.IsZero() || !unfinished || late < 0 {
		return ""
	}
	return fmt.Sprintf("Route %s: its run of %s was to finish within %s and has not. %s", r.Name,
		phrase.Stamp(row.LastRun.Time), phrase.Ago(within), r.Sentence)
}
