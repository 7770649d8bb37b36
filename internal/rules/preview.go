package rules

import (
	"context"
	"fmt"
	"slices"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/preview"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
)

// mostPreviewed bounds a preview, in days, mostKept the snapshots that a place has at a time,
// and mostJudged how many are judged in all, which takes some seconds.
const (
	mostPreviewed = 3660
	mostKept      = 50_000
	mostJudged    = 6_000_000
)

// PreviewPolicy lives through the days to come under a document, or the stored one of a
// name: from what is there today, or from nothing.
func (s *Service) PreviewPolicy(ctx context.Context, ask api.PreviewAsk) (*api.Preview, error) {
	body := ask.Body
	if body == "" {
		row, err := s.Catalog.Policy(ask.Name)
		if err != nil {
			return nil, err
		}
		body = row.Body
	}
	p, err := policy.Parse(body)
	if err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	if ask.Days == 0 {
		ask.Days = 90
	}
	if ask.Days < 1 || ask.Days > mostPreviewed {
		return nil, refusal.Badf("%d days cannot be foreseen: give 1 to %d", ask.Days, mostPreviewed)
	}
	now := s.Clock.Now()
	out := &api.Preview{Name: p.Name, From: now, To: now.AddDate(0, 0, ask.Days), FromNothing: ask.FromNothing,
		Volumes: []string{}, Places: []api.PreviewPlace{}, Sentences: []string{}}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	c := &Compiled{Policy: p}
	for _, v := range vols {
		if c.Holds(v) {
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
	if err := s.previewPlaces(ctx, out, p, vols, c, places); err != nil {
		return nil, err
	}
	s.previewWords(out, p)
	return out, nil
}

// previewPlaces adds up what each of the policy's volumes would have at each place. The
// ladder shown is that of the first of them.
func (s *Service) previewPlaces(ctx context.Context, out *api.Preview, p *policy.Policy, vols []*catalog.Volume,
	c *Compiled, places []string) error {
	var chosen []*catalog.Volume
	for _, v := range vols {
		if c.Holds(v) {
			chosen = append(chosen, v)
		}
	}
	if len(chosen) == 0 {
		chosen = []*catalog.Volume{nil}
	}
	take := p.Take
	if p.Paused {
		take = nil
	}
	due := preview.Due(take, out.From, out.To, preview.MostTaken)
	judged := 0
	spend := func(snapshots int) error {
		if judged += snapshots; judged > mostJudged || snapshots > mostKept {
			return refusal.Badf("%d days are too many to be foreseen with so many snapshots: give fewer days",
				int(out.To.Sub(out.From)/(24*time.Hour)))
		}
		return ctx.Err()
	}
	var first []preview.Outlook
	for n, v := range chosen {
		o := first
		if o == nil || (!out.FromNothing && n < mostOneByOne) {
			list, err := s.previewList(p, v, places, out.FromNothing)
			if err != nil {
				return err
			}
			if o, err = preview.Run(due, list, out.From, out.To, spend); err != nil {
				return err
			}
		}
		if first == nil {
			first = o
		}
		var growth preview.Growth
		if v != nil {
			var err error
			if growth, err = s.growth(v); err != nil {
				return err
			}
		}
		addOutlook(out, o, growth, n == 0)
	}
	return nil
}

// mostOneByOne bounds how many volumes are lived through by themselves; of more, the
// others are taken to fare like the first.
const mostOneByOne = 4

func (s *Service) previewList(p *policy.Policy, v *catalog.Volume, places []string, fromNothing bool) ([]preview.Place,
	error) {
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
	if v == nil || fromNothing {
		return list, nil
	}
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return nil, err
	}
	return list, s.haveNow(v, rows, list)
}

// haveNow fills in what each place has of a volume today.
func (s *Service) haveNow(v *catalog.Volume, rows []*catalog.Snapshot, list []preview.Place) error {
	routes, err := s.Catalog.Routes()
	if err != nil {
		return err
	}
	for i := range list {
		if list[i].Name == s.Place() {
			list[i].Have = SnapshotsOf(rows)
			continue
		}
		for _, r := range routes {
			if r.Peer != list[i].Name || !r.Volumes.V.Holds(v) {
				continue
			}
			carried, err := s.Catalog.CarriedBy(r.Name, s.Place(), v.Name)
			if err != nil {
				return err
			}
			var there []*catalog.Snapshot
			for _, row := range rows {
				if _, ok := carried[row.ID]; ok {
					there = append(there, row)
				}
			}
			list[i].Have = SnapshotsOf(there)
		}
	}
	return nil
}

// growth measures what a volume takes and what its latest snapshots added.
func (s *Service) growth(v *catalog.Volume) (g preview.Growth, err error) {
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{Limit: 33})
	if err != nil || len(rows) == 0 {
		return g, err
	}
	id, err := object.ParseID(rows[0].ID)
	if err != nil {
		return g, err
	}
	if g.Live, err = s.Store.Referenced(id); err != nil {
		return g, err
	}
	n := len(rows) - 1
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

func addOutlook(out *api.Preview, list []preview.Outlook, growth preview.Growth, first bool) {
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
			out.Places[i].Samples[k].Bytes += growth.Bytes(x)
		}
	}
}

// previewWords says the outlook in sentences.
func (s *Service) previewWords(out *api.Preview, p *policy.Policy) {
	say := func(format string, args ...any) { out.Sentences = append(out.Sentences, fmt.Sprintf(format, args...)) }
	days := int(out.To.Sub(out.From).Hours()/24 + 0.5)
	switch {
	case p.Paused:
		say("The policy is paused: nothing is taken, and nothing expires.")
	case len(p.Take) == 0:
		say("The policy takes nothing by itself: it has no cadence.")
	default:
		say("In %d days %s would be taken of each volume, if it changed every time.", days, phrase.Many(out.Places[0].Taken,
			"snapshot"))
	}
	for i := range out.Places {
		out.Places[i].By = "everything stays: the policy says nothing of this place"
		if rules, ok := p.Keep[out.Places[i].Place]; ok {
			out.Places[i].By = rules.String()
		}
	}
	if also := s.alsoChosen(out.Volumes, p.Name); len(also) == 1 {
		say("%s is chosen by another policy too; what that adds is left out here.", also[0])
	} else if len(also) > 1 {
		say("%d of its volumes are chosen by other policies too; what those add is left out here.", len(also))
	}
	if n := len(out.Volumes); n > 1 {
		say("Counts and space are those of all %d volumes together, the steps those of %s.", n, out.Volumes[0])
		if n > mostOneByOne && !out.FromNothing {
			say("%d volumes were lived through one by one; the others are taken to fare like the first, each by its own size.",
				mostOneByOne)
		}
	}
}

// alsoChosen lists the volumes that other policies choose too.
func (s *Service) alsoChosen(volumes []string, policy string) (out []string) {
	all, err := s.CompiledPolicies()
	vols, verr := s.Catalog.Volumes()
	if err != nil || verr != nil {
		return nil
	}
	for _, v := range vols {
		if slices.Contains(volumes, v.Name) && slices.ContainsFunc(all, func(c *Compiled) bool {
			return c.Name != policy && c.Holds(v)
		}) {
			out = append(out, v.Name)
		}
	}
	return out
}
