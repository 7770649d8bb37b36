package capture

import (
	"cmp"
	"maps"
	"slices"

	"candidharbor/api"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
)

// planLabels tells what other labels of a volume would change, changing nothing.
func (s *Service) planLabels(v *catalog.Volume, labels map[string]string) (*api.LabelChange, error) {
	if !v.ActiveAt(s.Name()) {
		return nil, authority.Elsewhere(v, "change its labels there")
	}
	if _, is := labels["names"]; is {
		return nil, refusal.Badf("policies and routes name volumes by \"names\": give a label another key")
	}
	if err := rules.CheckLabels(labels); err != nil {
		return nil, err
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
	out := &api.LabelChange{Volume: v.Name, Labels: labels, Changes: []string{}, Letting: []api.Going{}}
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
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return nil, err
	}
	if ask.Labels == nil {
		ask.Labels = map[string]string{}
	}
	plan, err := s.planLabels(v, ask.Labels)
	if err != nil || ask.DryRun {
		return plan, err
	}
	return plan, s.relabel([]*catalog.Volume{v}, []*api.LabelChange{plan}, ask.Accept)
}

// LabelMany sets labels of many volumes and takes others away, of all or of none. A volume without a label to drop is
// left as it is there.
func (s *Service) LabelMany(ask api.LabelsMany) (*api.LabelsChanged, error) {
	slices.Sort(ask.Volumes)
	ask.Volumes = slices.Compact(ask.Volumes)
	if len(ask.Volumes) == 0 || len(ask.Set)+len(ask.Drop) == 0 {
		return nil, refusal.Badf("name volumes, and labels to set or to drop")
	}
	var vols []*catalog.Volume
	var plans []*api.LabelChange
	for _, name := range ask.Volumes {
		v, err := s.Catalog.Volume(name)
		if err != nil {
			return nil, err
		}
		next := map[string]string{}
		maps.Copy(next, v.Labels.V)
		maps.Copy(next, ask.Set)
		for _, k := range ask.Drop {
			delete(next, k)
		}
		plan, err := s.planLabels(v, next)
		if err != nil {
			return nil, err
		}
		vols, plans = append(vols, v), append(plans, plan)
	}
	out := &api.LabelsChanged{Changes: make([]api.LabelChange, len(plans))}
	for i, p := range plans {
		out.Changes[i] = *p
	}
	if ask.DryRun {
		return out, nil
	}
	return out, s.relabel(vols, plans, ask.Accept)
}

// relabel does what was planned of volumes as they were then, of all or of none.
func (s *Service) relabel(vols []*catalog.Volume, plans []*api.LabelChange, accept bool) error {
	let, first := 0, ""
	names := make([]string, len(vols))
	takes := map[string][]string{}
	for i, v := range vols {
		names[i] = v.Name
		if n := len(plans[i].Letting); n > 0 {
			let, first = let+n, cmp.Or(first, v.Name)
		}
		var err error
		if takes[v.Name], err = s.takes(v); err != nil {
			return err
		}
	}
	if let > 0 && !accept {
		return refusal.Conflictf("nothing was changed: with these labels %s would expire, such as of %s; look at them "+
			"first, and accept it if that is meant", phrase.Many(let, "snapshot"), first)
	}
	err := s.Catalog.Atomically(func(c *catalog.Catalog) error {
		for i, v := range vols {
			now, err := c.Volume(v.Name)
			if err != nil {
				return err
			}
			if !maps.Equal(now.Labels.V, v.Labels.V) {
				return refusal.Conflictf("nothing was changed: somebody else changed the labels of %s meanwhile; look again",
					v.Name)
			}
			if err := c.SetLabels(v.Name, plans[i].Labels); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.run.Changed("volumes", names...)
	var due []string
	for i, v := range vols {
		v.Labels.V = plans[i].Labels
		is, err := s.takes(v)
		if err != nil {
			return err
		}
		if !slices.Equal(takes[v.Name], is) {
			due = append(due, v.Name)
		}
	}
	return s.rules.DueFromNow(due)
}

// takes are the cadences by which a volume is taken.
func (s *Service) takes(v *catalog.Volume) (out []string, err error) {
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return nil, err
	}
	for _, c := range rs.Take {
		out = append(out, c.String())
	}
	return out, nil
}
