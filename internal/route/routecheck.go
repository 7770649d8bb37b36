package route

import (
	"context"
	"fmt"
	"slices"
	"time"

	"candidharbor/api"
	"candidharbor/core/pace"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
)

// CheckRoute tells what a route would do before it is opened.
func (s *Service) CheckRoute(ctx context.Context, ask api.RouteAdd) (*api.RouteCheck, error) {
	r, err := s.newRoute(ask)
	if err != nil {
		return nil, err
	}
	peer, err := s.Catalog.Peer(r.Peer)
	if err != nil {
		return nil, err
	}
	out := &api.RouteCheck{Volumes: []string{}}
	h, _, _, err := s.pairing.Greet(ctx, peer)
	if err != nil {
		return nil, err
	}
	switch {
	case h.Grants == nil:
	case r.Terms.V.Pull && !h.Grants.Read:
		return nil, refusal.Conflictf("%s does not let this site read its snapshots: there, candid site grant %s read",
			r.Peer, s.Name())
	case !r.Terms.V.Pull && !h.Grants.Offer:
		return nil, refusal.Conflictf("%s does not let this site bring snapshots: there, candid site grant %s offer", r.Peer,
			s.Name())
	}
	if t := r.Terms.V; t.Standby != "" && (t.Pull && s.Conf.Standby == "" || !t.Pull && h.NoStandby) {
		at := r.Peer
		if t.Pull {
			at = s.Name()
		}
		return nil, refusal.Conflictf("%s has no directory for copies that are laid out: there, name one as standby in "+
			"site.yaml, or lay each copy out with candid volume standby NAME --dir DIR and leave it out of the route", at)
	}
	rate := pace.RateWords(pace.Unlimited)
	perSecond := float64(100 << 20)
	if r.Terms.V.Pull {
		link, release, err := s.pairing.LinkBy(ctx, peer, r.Terms.V.By)
		if err != nil {
			return nil, err
		}
		defer release()
		work, _, err := s.LookThere(r, link, true)
		if err != nil {
			return nil, err
		}
		wholeSets(work)
		n := 0
		for _, w := range work {
			out.Volumes = append(out.Volumes, w.name)
			n += len(w.want)
		}
		out.Sentence = fmt.Sprintf("It takes %s of %s from %s.", phrase.Many(n, "snapshot"), phrase.Many(len(work), "volume"),
			r.Peer)
		return out, nil
	}
	work, err := s.RouteWork(r)
	if err != nil {
		return nil, err
	}
	n := 0
	var ids []string
	for _, w := range work {
		out.Volumes = append(out.Volumes, w.V.Name)
		n += len(w.Want)
		for _, row := range w.Want {
			ids = append(ids, row.ID)
		}
	}
	if out.Bytes, err = s.referencedBy(ids); err != nil {
		return nil, err
	}
	have, err := s.pairing.PaceTo(peer)
	if err != nil {
		return nil, err
	}
	if now := have.Lines.At(s.Clock.Now()); now > 0 {
		rate, perSecond = pace.RateWords(now), float64(now)
	}
	own, err := pairing.OwnPace(r.Terms.V)
	if err != nil {
		return nil, err
	}
	if own != nil {
		if c := own.At(s.Clock.Now()); c > 0 && float64(c) < perSecond {
			rate, perSecond = pace.RateWords(c), float64(c)
		}
	}
	out.Seconds = int64(float64(out.Bytes) / perSecond)
	out.Sentence = fmt.Sprintf("It carries %s of %s to %s: at most %s", phrase.Many(n, "snapshot"),
		phrase.Many(len(work), "volume"), r.Peer, phrase.Size(out.Bytes))
	if rate == pace.RateWords(pace.Unlimited) {
		out.Sentence += ", as fast as the line is."
	} else {
		out.Sentence += fmt.Sprintf(", which takes %s at the present pace of %s.", aboutWords(out.Seconds), rate)
	}
	if len(work) == 0 {
		out.Sentence = "It chooses no volume at present."
	}
	out.Sentence += staysThere(r.Peer, work)
	return out, nil
}

// staysThere says of which volumes no policy says what is kept at the other end. Everything that comes there stays.
func staysThere(peer string, work []RouteWork) string {
	var names []string
	for i := range work {
		all := work[i].Rs.Policies
		says := slices.ContainsFunc(all, func(p *rules.Compiled) bool { _, has := p.Keep[peer]; return has })
		if len(all) > 0 && !says {
			names = append(names, work[i].V.Name)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf(" No policy of %s says what %s keeps: everything that comes there stays. Say it under keep, as in "+
		"%s: {daily: 30, monthly: 12}.", phrase.Names(names, 3), peer, peer)
}

func aboutWords(seconds int64) string {
	if seconds < 1 {
		return "less than a second"
	}
	return "about " + phrase.Ago(time.Duration(seconds)*time.Second)
}
