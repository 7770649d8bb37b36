package route

import (
	"errors"
	"slices"

	"candidharbor/internal/catalog"
)

// OpenBack has this site carry volumes to another one, which was active of them before: by a route of its own, to which
// they are added.
//
// What it took itself it has: of that the newest snapshot is noted as carried, so that nobody takes it for without.
func (s *Service) OpenBack(site string, volumes []string) error {
	name := "back-to-" + site
	if len(name) > 63 {
		name = name[:63]
	}
	s.rows.Lock()
	defer s.rows.Unlock()
	r, err := s.Catalog.Route(name)
	switch {
	case errors.Is(err, catalog.ErrNone):
		r = &catalog.Route{Name: name, Peer: site, Made: catalog.At(s.Clock.Now())}
	case err != nil:
		return err
	}
	for _, v := range volumes {
		if !slices.Contains(r.Volumes.V.Names, v) {
			r.Volumes.V.Names = append(r.Volumes.V.Names, v)
		}
	}
	if err := s.Catalog.PutRoute(r); err != nil {
		return err
	}
	for _, name := range volumes {
		v, err := s.Catalog.Volume(name)
		if err != nil {
			return err
		}
		row, err := s.Catalog.LastTakenBy(s.Place(), v.Lineage, site)
		if err != nil {
			return err
		}
		if row == nil || !row.LeftUntil.IsZero() {
			continue
		}
		if err := s.Catalog.PutCarried(r.Name, catalog.Carried{Snapshot: row.ID, At: catalog.At(s.Clock.Now()),
			SeenUntil: row.SeenUntil, Marked: row.Marked}); err != nil {
			return err
		}
	}
	s.run.Changed("routes")
	return nil
}

// RoutesWith are the routes between this site and another one that have a volume, and whether this site pulls by one of
// them.
func (s *Service) RoutesWith(site string, v *catalog.Volume) (names []string, pull bool, err error) {
	routes, err := s.Catalog.Routes()
	if err != nil {
		return nil, false, err
	}
	for _, r := range routes {
		if r.Peer != site {
			continue
		}
		if r.Terms.V.Pull {
			if r.Volumes.V.Holds(v) || r.Volumes.V.Holds(&catalog.Volume{Name: NameAtOrigin(v), Labels: v.Labels}) {
				names, pull = append(names, r.Name), true
			}
		} else if s.Carries(r, v) {
			names = append(names, r.Name)
		}
	}
	return names, pull, nil
}

// carriesWhenActive reports whether a route has volumes that it would carry if this site were active of them.
func (s *Service) carriesWhenActive(r *catalog.Route) bool {
	vols, err := s.Catalog.Volumes()
	return err == nil && slices.ContainsFunc(vols, func(v *catalog.Volume) bool {
		if v.ActiveAt(s.Name()) {
			return false
		}
		active := *v
		active.Active = s.Name()
		return s.Carries(r, &active)
	})
}
