package route

import (
	"errors"
	"slices"

	"candidharbor/internal/catalog"
)

// OpenBack has this site carry volumes to another one, which was active of them before: by a route of its own, to which
// they are added.
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
