package capture

import (
	"errors"
	"maps"
	"slices"

	"candidharbor/api"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
)

// LabelMany sets labels of many volumes and takes others away. Nothing is changed of any if one cannot be changed, or
// if snapshots of one expire by it and that is not accepted. A volume without a label to drop is left as it is there.
func (s *Service) LabelMany(ask api.LabelsMany) (*api.LabelsChanged, error) {
	slices.Sort(ask.Volumes)
	ask.Volumes = slices.Compact(ask.Volumes)
	if len(ask.Volumes) == 0 || len(ask.Set)+len(ask.Drop) == 0 {
		return nil, refusal.Badf("name volumes, and labels to set or to drop")
	}
	out := &api.LabelsChanged{Changes: []api.LabelChange{}}
	let, first := 0, ""
	for _, name := range ask.Volumes {
		v, err := s.Catalog.Volume(name)
		if err != nil {
			return nil, err
		}
		next := maps.Clone(v.Labels.V)
		if next == nil {
			next = map[string]string{}
		}
		maps.Copy(next, ask.Set)
		for _, k := range ask.Drop {
			delete(next, k)
		}
		plan, err := s.planLabels(name, next)
		if err != nil {
			return nil, err
		}
		if n := len(plan.Letting); n > 0 {
			let += n
			if first == "" {
				first = name
			}
		}
		out.Changes = append(out.Changes, *plan)
	}
	if ask.DryRun {
		return out, nil
	}
	if let > 0 && !ask.Accept {
		return nil, refusal.Conflictf("nothing was changed: with these labels %s would expire, such as of %s; look at them "+
			"first, and accept it if that is meant", phrase.Many(let, "snapshot"), first)
	}
	var errs []error
	for i, plan := range out.Changes {
		done, err := s.SetLabels(plan.Volume, api.LabelsPut{Labels: plan.Labels, Accept: ask.Accept})
		if err != nil {
			errs = append(errs, err)
			continue
		}
		out.Changes[i] = *done
	}
	return out, errors.Join(errs...)
}
