package overview

import (
	"slices"

	"candidharbor/api"
	"candidharbor/internal/refusal"
)

// TakeMany starts a snapshot of each volume that was chosen: those that are named, and those that a policy chooses,
// that have some labels, or whose newest state here is not as it should be. What is taken as one set is taken once.
func (s *Service) TakeMany(ask api.SnapshotsTake, by string) (*api.SnapshotsTaken, error) {
	if len(ask.Volumes) == 0 && ask.Policy == "" && len(ask.Labels) == 0 && !ask.Due {
		return nil, refusal.Badf("choose volumes: by name, by policy, by label, or those that are due")
	}
	all, err := s.Volumes()
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, v := range all {
		known[v.Name] = true
	}
	for _, name := range ask.Volumes {
		if !known[name] {
			return nil, refusal.Missingf("there is no volume %s: candid volume list", name)
		}
	}
	if ask.Policy != "" {
		if _, err := s.Catalog.Policy(ask.Policy); err != nil {
			return nil, err
		}
	}
	out := &api.SnapshotsTaken{Runs: []api.Run{}, Refused: []api.NotTaken{}}
	done := map[string]bool{}
	for _, v := range all {
		if !chosen(&v, &ask, s.Name()) || done[v.Name] {
			continue
		}
		_, members, err := s.capture.GroupOf(v.Name)
		if err != nil {
			return nil, err
		}
		for _, m := range members {
			done[m] = true
		}
		r, err := s.capture.TakeSnapshot(v.Name, ask.Take, by)
		if err != nil {
			out.Refused = append(out.Refused, api.NotTaken{Volume: v.Name, Why: err.Error()})
			continue
		}
		out.Runs = append(out.Runs, r)
	}
	return out, nil
}

// chosen reports whether a snapshot of a volume was asked for. One that is named is tried, whatever becomes of it.
func chosen(v *api.Volume, ask *api.SnapshotsTake, site string) bool {
	if slices.Contains(ask.Volumes, v.Name) {
		return true
	}
	if !v.Protected || v.Active != site || v.PausedSince != nil {
		return false
	}
	switch v.Cause {
	case api.CauseNoSnapshot, api.CauseGap:
		if ask.Due {
			return true
		}
	case api.CauseLate:
		if ask.Due && v.CauseAt == site {
			return true
		}
	}
	for k, want := range ask.Labels {
		if has, is := v.Labels[k]; !is || has != want {
			return ask.Policy != "" && slices.Contains(v.Policies, ask.Policy)
		}
	}
	return len(ask.Labels) > 0 || ask.Policy != "" && slices.Contains(v.Policies, ask.Policy)
}
