package site

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/preview"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
)

// mostPreviewed bounds a preview, in days.
const mostPreviewed = 3660

// PreviewPolicy lives through the days to come under a document, or the stored one of a
// name: from what is there today, or from nothing.
func (s *Site) PreviewPolicy(ask api.PreviewAsk) (*api.Preview, error) {
	body := ask.Body
	if body == "" {
		row, err := s.cat.Policy(ask.Name)
		if err != nil {
			return nil, err
		}
		body = row.Body
	}
	p, err := policy.Parse(body)
	if err != nil {
		return nil, &Error{Misuse, err}
	}
	if ask.Days == 0 {
		ask.Days = 90
	}
	if ask.Days < 1 || ask.Days > mostPreviewed {
		return nil, bad("%d days cannot be foreseen: give 1 to %d", ask.Days, mostPreviewed)
	}
	now := s.clock.Now()
	out := &api.Preview{Name: p.Name, From: now, To: now.AddDate(0, 0, ask.Days), FromNothing: ask.FromNothing, Volumes: []string{}, Places: []api.PreviewPlace{}, Sentences: []string{}}
	vols, err := s.cat.Volumes()
	if err != nil {
		return nil, err
	}
	c := &compiled{Policy: p}
	for _, v := range vols {
		if c.holds(v) {
			out.Volumes = append(out.Volumes, v.Name)
		}
	}
	places := []string{s.Place()}
	for place := range p.Keep {
		if place != s.Place() {
			places = append(places, place)
		}
	}
	slices.Sort(places[1:])
	if err := s.previewPlaces(out, p, vols, c, places); err != nil {
		return nil, err
	}
	s.previewWords(out, p)
	return out, nil
}

// previewPlaces adds up what each of the policy's volumes would have at each place. The
// ladder shown is that of the volume with most of a past, or of none.
func (s *Site) previewPlaces(out *api.Preview, p *policy.Policy, vols []*catalog.Volume, c *compiled, places []string) error {
	var chosen []*catalog.Volume
	for _, v := range vols {
		if c.holds(v) {
			chosen = append(chosen, v)
		}
	}
	if len(chosen) == 0 {
		chosen = []*catalog.Volume{nil}
	}
	fresh := map[preview.Growth][]preview.Outlook{} // volumes without a past differ only in size
	take := p.Take
	if p.Paused {
		take = nil
	}
	for n, v := range chosen {
		var growth preview.Growth
		list := make([]preview.Place, len(places))
		for i, place := range places {
			list[i] = preview.Place{Name: place, Grace: p.Grace}
			if r, ok := p.Keep[place]; ok {
				list[i].Rules = []retention.Rules{r}
			}
			if p.Paused {
				list[i].Rules = append(list[i].Rules, retention.Rules{Everything: true, Paused: true})
			}
		}
		if v != nil {
			rows, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
			if err != nil {
				return err
			}
			if growth, err = s.growth(rows); err != nil {
				return err
			}
			if !out.FromNothing {
				if err := s.haveNow(v, rows, list); err != nil {
					return err
				}
			}
		}
		o, ok := fresh[growth]
		if !ok || !out.FromNothing {
			o = preview.Run(take, list, growth, out.From, out.To)
			fresh[growth] = o
		}
		addOutlook(out, o, n == 0)
	}
	return nil
}

// haveNow fills in what each place has of a volume today.
func (s *Site) haveNow(v *catalog.Volume, rows []*catalog.Snapshot, list []preview.Place) error {
	routes, err := s.cat.Routes()
	if err != nil {
		return err
	}
	for i := range list {
		if list[i].Name == s.Place() {
			list[i].Have = snapshotsOf(rows)
			continue
		}
		for _, r := range routes {
			if r.Peer != list[i].Name || !r.Volumes.V.Holds(v) {
				continue
			}
			carried, err := s.cat.CarriedBy(r.Name, s.Place(), v.Name)
			if err != nil {
				return err
			}
			var there []*catalog.Snapshot
			for _, row := range rows {
				if _, ok := carried[row.ID]; ok {
					there = append(there, row)
				}
			}
			list[i].Have = snapshotsOf(there)
		}
	}
	return nil
}

// growth measures what a volume takes and what its snapshots add.
func (s *Site) growth(rows []*catalog.Snapshot) (g preview.Growth, err error) {
	if len(rows) == 0 {
		return g, nil
	}
	id, err := object.ParseID(rows[0].ID)
	if err != nil {
		return g, err
	}
	if g.Live, err = s.store.Referenced(id); err != nil {
		return g, err
	}
	n := min(len(rows)-1, 64)
	if n == 0 {
		return g, nil
	}
	for _, r := range rows[:n] {
		g.Added += r.Stored
	}
	g.Added /= int64(n)
	g.Spacing = rows[0].Began.Sub(rows[n].Began.Time) / time.Duration(n)
	return g, nil
}

func addOutlook(out *api.Preview, list []preview.Outlook, first bool) {
	for i, o := range list {
		if first {
			p := api.PreviewPlace{Place: o.Place, Taken: o.Taken, Ladder: []api.Rung{}, Samples: []api.Sample{}}
			for k, r := range o.Ladder {
				if k == 500 {
					break
				}
				rung := api.Rung{Taken: r.Taken, Reasons: []string{}}
				for _, why := range r.Reasons {
					rung.Reasons = append(rung.Reasons, why.String())
				}
				if t, ok := (retention.Verdict{Reasons: r.Reasons}).Widest(); ok {
					rung.Tier = t.String()
				}
				p.Ladder = append(p.Ladder, rung)
			}
			p.Kept = len(o.Ladder)
			for _, x := range o.Samples {
				p.Samples = append(p.Samples, api.Sample{At: x.At})
			}
			if len(o.Ladder) > 0 {
				oldest := o.Ladder[len(o.Ladder)-1].Taken
				p.Oldest = &oldest
			}
			out.Places = append(out.Places, p)
		}
		for k, x := range o.Samples {
			out.Places[i].Samples[k].Count += x.Count
			out.Places[i].Samples[k].Bytes += x.Bytes
		}
	}
}

// previewWords says the outlook in sentences.
func (s *Site) previewWords(out *api.Preview, p *policy.Policy) {
	say := func(format string, args ...any) { out.Sentences = append(out.Sentences, fmt.Sprintf(format, args...)) }
	days := int(out.To.Sub(out.From).Hours()/24 + 0.5)
	switch {
	case p.Paused:
		say("The policy is paused: nothing is taken, and nothing expires.")
	case len(p.Take) == 0:
		say("The policy takes nothing by itself: it has no cadence.")
	default:
		say("In %d days %s would be taken of each volume, if it changed every time.", days, many(out.Places[0].Taken, "snapshot"))
	}
	for _, pl := range out.Places {
		if pl.Oldest == nil {
			say("At %s there would be none.", pl.Place)
			continue
		}
		words := ""
		if rules, ok := p.Keep[pl.Place]; !ok {
			words = ", because the policy says nothing of this place and everything stays"
		} else {
			words = ", by " + rules.String()
		}
		end := pl.Samples[len(pl.Samples)-1]
		say("At %s one could go back to %s, %s in %s%s; that takes about %s.", pl.Place, stamp(*pl.Oldest), ago(out.To.Sub(*pl.Oldest)), many(pl.Kept, "step"), words, size(end.Bytes))
	}
	for _, v := range out.Volumes {
		var others []string
		vol, err := s.cat.Volume(v)
		all, perr := s.compiledPolicies()
		if err != nil || perr != nil {
			break
		}
		for _, c := range all {
			if c.Name != p.Name && c.holds(vol) {
				others = append(others, c.Name)
			}
		}
		if len(others) > 0 {
			say("%s is chosen by %s too; what that adds is left out here.", v, strings.Join(others, ", "))
		}
	}
	if n := len(out.Volumes); n > 1 {
		say("Counts and space are those of all %d volumes together, the steps those of %s.", n, out.Volumes[0])
	}
}
