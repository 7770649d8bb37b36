package failover

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/refusal"
	"candidharbor/internal/route"
	"candidharbor/internal/runbook"
)

// PutRunbook checks and stores a runbook.
func (s *Service) PutRunbook(body, by string) (*api.Runbook, error) {
	if s.IsPlace {
		return nil, pairing.ErrPlaceHolds
	}
	b, err := runbook.Parse(body)
	if err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	if b.At != s.Name() {
		return nil, refusal.Badf("runbook %s is for the site %s, and this is %s: store it there, with candid --desk "+
			"%s runbook "+
			"put", b.Name, b.At, s.Name(), b.At)
	}
	vols, err := s.volumesOf(b)
	if err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	if b.Witness != "" {
		if _, err := s.Catalog.Peer(b.Witness); err != nil {
			return nil, refusal.Wrap(refusal.Misuse, fmt.Errorf("witness: %w", err))
		}
	}
	for name := range b.Paths {
		if !slices.ContainsFunc(vols, func(v bookVolume) bool { return v.is(name) }) {
			return nil, refusal.Badf("paths names %s, which the runbook does not bring up", name)
		}
	}
	for _, st := range slices.Concat(b.Steps, b.After) {
		for _, h := range []string{st.Hook, st.Check.Hook} {
			if _, known := s.Conf.Hooks[h]; h != "" && !known {
				return nil, refusal.Badf("hook %s is not in site.yaml: add it under hooks", h)
			}
		}
	}
	if old, err := s.Catalog.Runbook(b.Name); err == nil && old.Body == body {
		return s.Runbook(b.Name)
	}
	row := &catalog.Runbook{Name: b.Name, Body: body, Changed: catalog.At(s.Clock.Now()), ChangedBy: by}
	err = s.Catalog.Atomically(func(c *catalog.Catalog) error { // a cadence that was changed begins now
		return errors.Join(c.PutRunbook(row), c.KeepTask(catalog.DrillTask+b.Name, s.Clock.Now()))
	})
	if err != nil {
		return nil, err
	}
	s.run.Changed("runbooks")
	return s.Runbook(b.Name)
}

// bookVolume is a volume that a runbook brings up.
type bookVolume struct {
	*catalog.Volume
	group string // empty: it is named itself
	step  int
	path  string
}

func (v *bookVolume) is(name string) bool {
	return v.Name == name || route.NameAtOrigin(v.Volume) == name
}

// volumesOf finds the volumes that a runbook names, in its order.
func (s *Service) volumesOf(b *runbook.Runbook) (out []bookVolume, err error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for i, st := range b.Steps {
		for _, name := range st.Names {
			found, group, err := s.named(vols, name, st.Group)
			if err != nil {
				return nil, fmt.Errorf("bring_up: %w", err)
			}
			for _, v := range found {
				if seen[v.Lineage] {
					return nil, fmt.Errorf("bring_up: %s is brought up twice, the second time with %s", v.Name, name)
				}
				seen[v.Lineage] = true
				bv := bookVolume{Volume: v, group: group, step: i}
				for n, p := range b.Paths {
					if bv.is(n) {
						bv.path = p
					}
				}
				out = append(out, bv)
			}
		}
	}
	return out, nil
}

// named finds a volume, or the volumes of a group, by the name that it has here or at the site of its origin.
func (s *Service) named(vols []*catalog.Volume, name string, groupOnly bool) (found []*catalog.Volume, group string,
	err error) {
	if !groupOnly {
		for _, v := range vols {
			if v.Name == name {
				return []*catalog.Volume{v}, "", nil
			}
		}
		for _, v := range vols {
			if v.Part == "" && route.NameAtOrigin(v) == name {
				found = append(found, v)
			}
		}
		if len(found) == 1 {
			return found, "", nil
		}
		if len(found) > 1 {
			return nil, "", fmt.Errorf("%s is the name of volumes of several sites: write %s or %s", name, found[0].Name,
				found[1].Name)
		}
	}
	if g, err := s.Catalog.Group(name); err == nil {
		for _, m := range g.Members.V {
			i := slices.IndexFunc(vols, func(v *catalog.Volume) bool { return v.Name == m })
			if i < 0 {
				return nil, "", fmt.Errorf("the group %s has %s, which is not here", name, m)
			}
			found = append(found, vols[i])
		}
		return found, name, nil
	} else if !errors.Is(err, catalog.ErrNone) {
		return nil, "", err
	}
	members, err := s.Catalog.SetVolumes(s.Place(), name)
	if err != nil {
		return nil, "", err
	}
	for _, v := range vols {
		if slices.Contains(members, v.Name) {
			found = append(found, v)
		}
	}
	if len(found) == 0 {
		kind := "volume or group"
		if groupOnly {
			kind = "group"
		}
		return nil, "", fmt.Errorf("there is no %s %s here: what this site takes over must have arrived before", kind, name)
	}
	return found, name, nil
}

// Runbook shows one runbook, and whether it would work now.
func (s *Service) Runbook(name string) (*api.Runbook, error) {
	row, err := s.Catalog.Runbook(name)
	if err != nil {
		return nil, err
	}
	return s.runbookView(row, true)
}

// Runbooks lists the runbooks of this site, and whether they would work now.
func (s *Service) Runbooks() ([]api.Runbook, error) {
	rows, err := s.Catalog.Runbooks()
	if err != nil {
		return nil, err
	}
	out := make([]api.Runbook, 0, len(rows))
	for _, r := range rows {
		v, err := s.runbookView(r, true)
		if err != nil {
			return nil, err
		}
		out = append(out, *v)
	}
	return out, nil
}

func (s *Service) runbookView(row *catalog.Runbook, ready bool) (*api.Runbook, error) {
	b, err := runbook.Parse(row.Body)
	if err != nil {
		return nil, fmt.Errorf("stored runbook %q: %w", row.Name, err)
	}
	out := &api.Runbook{Name: row.Name, Body: row.Body, Version: row.Version, Changed: row.Changed.Time,
		ChangedBy: row.ChangedBy, At: b.At, Volumes: b.Volumes(), Steps: []string{}}
	for _, st := range slices.Concat(b.Steps, b.After) {
		out.Steps = append(out.Steps, st.Words())
	}
	if ready {
		out.Readiness, err = s.readiness(b)
	}
	return out, err
}

// RunbookHistory lists the versions of a runbook, newest first.
func (s *Service) RunbookHistory(name string) ([]api.Runbook, error) {
	rows, err := s.Catalog.RunbookVersions(name)
	if err != nil {
		return nil, err
	}
	out := make([]api.Runbook, len(rows))
	for i, r := range rows {
		out[i] = api.Runbook{Name: r.Name, Body: r.Body, Version: r.Version, Changed: r.Changed.Time, ChangedBy: r.ChangedBy,
			Volumes: []string{}, Steps: []string{}}
	}
	return out, nil
}

// RemoveRunbook forgets a runbook. Nothing that it moved moves back.
func (s *Service) RemoveRunbook(name, by string) (string, error) {
	if _, err := s.Catalog.Runbook(name); err != nil {
		return "", err
	}
	rows, err := s.Catalog.Failovers(nil, openDrills, 1000)
	if err != nil {
		return "", err
	}
	for _, f := range rows {
		if f.Runbook == name {
			what := "failover"
			if f.Kind == drill {
				what = drill
			}
			return "", refusal.Conflictf("a %s by the runbook %s is not at its end: candid %s show %s", what, name, what, f.ID)
		}
	}
	err = s.Catalog.Atomically(func(c *catalog.Catalog) error {
		return errors.Join(c.RemoveRunbook(name, by, s.Clock.Now()), c.ForgetTask(catalog.DrillTask+name))
	})
	if err != nil {
		return "", err
	}
	s.run.Changed("runbooks")
	return fmt.Sprintf("Runbook %s is gone; candid runbook history %s has what it was.", name, name), nil
}

// words joins names for sentences.
func words(names []string) string { return strings.Join(names, ", ") }
