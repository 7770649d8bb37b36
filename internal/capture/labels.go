package capture

import (
	"maps"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
)

// planLabels tells what other labels of a volume would change, changing nothing.
func (s *Service) planLabels(name string, labels map[string]string) (*api.LabelChange, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return nil, err
	}
	if !v.ActiveAt(s.Name()) {
		return nil, authority.Elsewhere(v, "change its labels there")
	}
	for k, val := range labels {
		if strings.TrimSpace(k) == "" || strings.TrimSpace(val) == "" || len(k)+len(val) > 256 || k == "names" {
			return nil, refusal.Badf("label %q=%q: give a key, other than names, and a value of together at most 256 "+
				"characters", k, val)
		}
	}
	all, err := s.rules.CompiledPolicies()
	if err != nil {
		return nil, err
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return nil, err
	}
	next := *v
	next.Labels = catalog.JSON[catalog.Labels]{V: labels}
	out := &api.LabelChange{Volume: name, Labels: labels, Changes: []string{}, Letting: []api.Going{}}
	var mine []*rules.Compiled
	for _, c := range all {
		was, is := c.Holds(v), c.Holds(&next)
		if is {
			mine = append(mine, c)
		}
		switch {
		case was && !is:
			out.Changes = append(out.Changes, "Policy "+c.Name+" no longer chooses it.")
		case is && !was:
			out.Changes = append(out.Changes, "Policy "+c.Name+" chooses it.")
		}
	}
	if len(mine) == 0 {
		out.Changes = append(out.Changes, "No policy chooses it: nothing is taken by itself, and everything it has stays.")
	}
	for _, r := range routes {
		was, is := r.Volumes.V.Holds(v), r.Volumes.V.Holds(&next)
		switch {
		case was && !is:
			out.Changes = append(out.Changes, "Route "+r.Name+" no longer carries it; what it carried stays at "+r.Peer+".")
		case is && !was:
			out.Changes = append(out.Changes, "Route "+r.Name+" carries it to "+r.Peer+".")
		}
	}
	rs := &rules.Ruleset{}
	rs.Combine(mine)
	if out.Letting, err = s.rules.Letting(v, rs, s.rules.RulesFor); err != nil {
		return nil, err
	}
	// What no route carries any more is not told of new rules either.
	out.Letting = slices.DeleteFunc(out.Letting, func(g api.Going) bool {
		return g.Place != s.Place() && !slices.ContainsFunc(routes, func(r *catalog.Route) bool {
			return r.Peer == g.Place && r.Volumes.V.Holds(&next)
		})
	})
	if out.Letting == nil {
		out.Letting = []api.Going{}
	}
	out.Bytes, err = s.rules.FreedHere(out.Letting)
	return out, err
}

// SetLabels gives a volume other labels. A change by which snapshots expire needs to be
// accepted.
func (s *Service) SetLabels(name string, ask api.LabelsPut) (*api.LabelChange, error) {
	if ask.Labels == nil {
		ask.Labels = map[string]string{}
	}
	plan, err := s.planLabels(name, ask.Labels)
	if err != nil || ask.DryRun {
		return plan, err
	}
	if n := len(plan.Letting); n > 0 && !ask.Accept {
		return nil, refusal.Conflictf("nothing was changed: with these labels %s of %s would expire; look at them first, "+
			"and accept it if that is meant", phrase.Many(n, "snapshot"), name)
	}
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return nil, err
	}
	if maps.Equal(v.Labels.V, ask.Labels) {
		return plan, nil
	}
	takes := func() (out []string, err error) {
		v, err := s.Catalog.Volume(name)
		if err != nil {
			return nil, err
		}
		rs, err := s.rules.RulesFor(v)
		if err != nil {
			return nil, err
		}
		for _, c := range rs.Take {
			out = append(out, c.String())
		}
		return out, nil
	}
	before, err := takes()
	if err != nil {
		return nil, err
	}
	if err := s.Catalog.SetLabels(name, ask.Labels); err != nil {
		return nil, err
	}
	s.run.Changed("volumes")
	after, err := takes()
	if err == nil && !slices.Equal(before, after) {
		err = s.rules.DueFromNow([]string{name})
	}
	return plan, err
}
