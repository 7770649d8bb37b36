package failover

import (
	"context"
	"errors"
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/rules"
)

// losses reckons of how long nothing arrived: from what is here to when the other site was last heard of.
func (o *act) losses() error {
	if o.row.Peer == "" {
		return nil
	}
	p, err := o.s.Catalog.Peer(o.row.Peer)
	if errors.Is(err, catalog.ErrNone) {
		return nil
	} else if err != nil {
		return err
	}
	for i := range o.doc.Volumes {
		v := &o.doc.Volumes[i]
		if v.From == "" {
			continue
		}
		// What it wrote until it was last heard of is lost for certain; until now it may have gone on.
		now, seen := o.s.Clock.Now(), p.Seen.Time
		if seen.IsZero() || seen.After(now) {
			seen = now
		}
		v.Loss, v.Doubt = int64(max(0, seen.Sub(v.Known))), int64(now.Sub(seen))+v.Within
	}
	return nil
}

// ownTime is up to when a snapshot is known to be the state of its volume, by this site's clock, and by how much that
// may be wrong: it was taken by another one's.
func (s *Service) ownTime(row *catalog.Snapshot) (known time.Time, within time.Duration, err error) {
	known = rules.NewestState(row)
	if row.Taker() == s.Name() {
		return known, 0, nil
	}
	h, err := s.Catalog.PeerHistory(row.Taker())
	if err != nil || h.ClockWithin < 0 || max(h.ClockAhead, -h.ClockAhead) <= h.ClockWithin { // as far as can be measured
		return known, 0, err
	}
	return known.Add(-time.Duration(h.ClockAhead)), time.Duration(h.ClockWithin), nil
}

// wouldBe tells what taking over would mean.
func (o *act) wouldBe(ready *api.Readiness) string {
	var worst actVolume
	for _, v := range o.doc.Volumes {
		if v.Loss+v.Doubt >= worst.Loss+worst.Doubt {
			worst = v
		}
	}
	out := fmt.Sprintf("%s would take over %s", o.s.Name(), phrase.Many(len(o.doc.Volumes), "volume"))
	if o.row.Peer != "" {
		out += " from " + o.row.Peer
	}
	if o.row.Kind == planned {
		out += ", which hands over: nothing would be lost."
	} else {
		out += fmt.Sprintf(". What was written to %s after %s would be left behind", worst.Name, phrase.Stamp(worst.Known))
		loss, doubt := time.Duration(worst.Loss), time.Duration(worst.Doubt)
		switch {
		case o.row.Peer == "":
			out += "."
		case loss < time.Second:
			out += fmt.Sprintf(": nothing that is known of, as %s was last heard of %s ago.", o.row.Peer, phrase.Ago(doubt))
		case doubt < time.Second:
			out += fmt.Sprintf(": %s until now, in which %s answers.", phrase.Ago(loss), o.row.Peer)
		default:
			out += fmt.Sprintf(": %s until %s was last heard of, and whatever it wrote in the %s since.", phrase.Ago(loss),
				o.row.Peer, phrase.Ago(doubt))
		}
	}
	if !ready.Ready {
		out += " It is not ready: " + ready.Sentence
	}
	return out
}

// askElsewhere bounds how long other sites are asked what they have.
const askElsewhere = 10 * time.Second

// newerElsewhere names the sites, in the order in which they are asked, that have newer states than this one.
func (o *act) newerElsewhere(ctx context.Context) (said string) {
	ctx, cancel := context.WithTimeout(ctx, askElsewhere)
	defer cancel()
	for _, av := range o.doc.Volumes {
		if av.Up || ctx.Err() != nil {
			continue
		}
		all, err := o.s.recovery.AsOf(ctx, av.Name, "")
		if err != nil {
			continue // it is told without
		}
		for _, p := range all.Places {
			if p.Site == o.s.Name() || p.Here || p.Taken == nil {
				continue
			}
			row := &catalog.Snapshot{TakenBy: o.row.Peer, Began: catalog.At(*p.Taken)}
			if p.SeenUntil != nil {
				row.SeenUntil = catalog.At(*p.SeenUntil)
			}
			known, within, err := o.s.ownTime(row)
			if err == nil && known.Sub(av.Known) > within {
				said += fmt.Sprintf(" %s has a newer state of %s, as of %s: have it carried here first, where there is time.",
					p.Site, av.Name, phrase.Stamp(known))
			}
		}
	}
	return said
}
