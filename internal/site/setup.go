package site

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/route"
)

// SetUp pairs with several sites and opens a route to each that lets this one bring
// snapshots, in one go. With DryRun it only tells what it would do. A step that fails is
// told and the others go on: nothing of one depends on another.
func (s *Site) SetUp(ctx context.Context, ask api.SetUp) (*api.SetUpResult, error) {
	if len(ask.Invitations) == 0 {
		return nil, refusal.Badf("give the invitations of the sites, one for each")
	}
	if err := s.Pairing.CheckVolumes(ask.Labels, ask.Names); err != nil {
		return nil, err
	}
	if _, err := pairing.FirstGrants(ask.Grants); err != nil {
		return nil, err
	}
	if _, err := route.RouteTerms(ask.Terms, false); err != nil {
		return nil, err
	}
	out := &api.SetUpResult{Steps: []api.SetUpStep{}}
	var names []string
	for _, text := range ask.Invitations { // all are read before anything is done
		inv, err := s.Pairing.ReadInvitation(text)
		if err != nil {
			return nil, err
		}
		if slices.Contains(names, inv.Name) {
			return nil, refusal.Badf("two invitations are from %s: give one of each site", inv.Name)
		}
		names = append(names, inv.Name)
	}
	step := func(site, did string, err error) {
		st := api.SetUpStep{Site: site, Text: did}
		if err != nil {
			st.Text, st.Failed = err.Error(), true
			out.Failed++
		}
		out.Steps = append(out.Steps, st)
	}
	for i, name := range names {
		route := "to-" + name
		if ask.DryRun {
			step(name, fmt.Sprintf("Pair with %s, and open the route %s to it if it lets this site bring snapshots.", name,
				route), nil)
			continue
		}
		p, err := s.Pairing.Pair(ctx, ask.Invitations[i], ask.Grants)
		if err != nil {
			step(name, "", err)
			continue
		}
		step(name, fmt.Sprintf("Paired with %s. Here it may %s; there this site may %s.", name, p.Grants.Words,
			p.Granted.Words), nil)
		if !p.Granted.Offer {
			step(name, fmt.Sprintf("No route to %s: it takes snapshots for itself, or lets nobody bring any.", name), nil)
			continue
		}
		r, err := s.Routes.AddRoute(api.RouteAdd{Name: route, To: name, Labels: ask.Labels, Names: ask.Names,
			Terms: ask.Terms})
		if err != nil {
			step(name, "", err)
			continue
		}
		step(name, fmt.Sprintf("Route %s is open. %s", route, r.Sentence), nil)
	}
	if ask.DryRun {
		out.Sentence = fmt.Sprintf("It would pair with %s.", strings.Join(names, ", "))
	} else if out.Failed > 0 {
		out.Sentence = fmt.Sprintf("%s did not work; the rest is done.", phrase.Many(out.Failed, "step"))
	} else {
		out.Sentence = fmt.Sprintf("%s set up with %s.", s.Name(), strings.Join(names, ", "))
	}
	return out, nil
}
