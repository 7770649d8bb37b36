package rules

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
)

// farHints tells before a document is stored what of it would be found out only later: volumes that no route carries
// where they are to be kept, sites that will keep what they have until a person there accepts less, and volumes that no
// policy chooses.
func (s *Service) farHints(out *api.PolicyCheck, p *policy.Policy) error {
	all, err := s.CompiledPolicies()
	if err != nil {
		return err
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return err
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return err
	}
	others := slices.DeleteFunc(slices.Clone(all), func(c *Compiled) bool { return c.Name == p.Name })
	next := append(others, &Compiled{Policy: p})
	lacking, less := map[string][]string{}, map[string][]string{}
	words := map[string]string{}
	for _, v := range vols {
		if !v.Protected || !v.ActiveAt(s.Name()) {
			continue
		}
		var was, is Ruleset
		was.Combine(holding(all, v))
		is.Combine(holding(next, v))
		if len(is.Policies) == 0 {
			out.Uncovered = append(out.Uncovered, v.Name)
		}
		for place := range is.Keep {
			if place == s.Place() {
				continue
			}
			goes := func(r *catalog.Route) bool { return r.Peer == place }
			goesWith := func(r *catalog.Route) bool { return r.Peer == place && r.Volumes.V.Holds(v) }
			_, mine := p.Keep[place]
			if mine && slices.ContainsFunc(routes, goes) && !slices.ContainsFunc(routes, goesWith) {
				lacking[place] = append(lacking[place], v.Name)
			}
			looser := retention.Less(was.Keep[place], is.Keep[place])
			if len(looser) == 0 {
				continue
			}
			if has, err := s.hasCopies(routes, v, place); err != nil {
				return err
			} else if has {
				less[place], words[place] = append(less[place], v.Name), strings.Join(looser, "; ")
			}
		}
	}
	hint := func(format string, args ...any) {
		out.Hints = append(out.Hints, api.Problem{What: fmt.Sprintf(format, args...)})
	}
	for _, place := range slices.Sorted(maps.Keys(lacking)) {
		hint("%s is to keep copies of %s, but no route carries %s there", place, phrase.Names(lacking[place], mostNamed),
			phrase.Pick(len(lacking[place]), "it", "them"))
	}
	for _, place := range slices.Sorted(maps.Keys(less)) {
		hint("%s goes on keeping what it has of %s until a person there accepts that less is kept (%s): there, candid "+
			"volume accept-rules %s@%s", place, phrase.Names(less[place], mostNamed), words[place], less[place][0], s.Name())
	}
	return nil
}

const mostNamed = 3 // volumes in a hint

func holding(all []*Compiled, v *catalog.Volume) (mine []*Compiled) {
	for _, c := range all {
		if c.Holds(v) {
			mine = append(mine, c)
		}
	}
	return mine
}

// hasCopies reports whether a place has so much of a volume that it may have to let go of some: rules that come with
// the first copy take nothing from anyone.
func (s *Service) hasCopies(routes []*catalog.Route, v *catalog.Volume, place string) (bool, error) {
	for _, r := range routes {
		if r.Peer != place || !r.Volumes.V.Holds(v) {
			continue
		}
		carried, err := s.Catalog.CarriedBy(r.Name, s.Place(), v.Name)
		if err != nil || len(carried) > 1 {
			return len(carried) > 1, err
		}
	}
	reports, err := s.Catalog.Reports(v.Lineage)
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(reports, func(r *catalog.Report) bool {
		return r.Peer == place && r.Snapshots != 0 && r.Snapshots != 1 // negative: it does not tell how many
	}), nil
}
