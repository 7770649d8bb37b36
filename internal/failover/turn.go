package failover

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"candidharbor/internal/catalog"
)

// turnRoutes has this site carry what it takes from now on to the site that was active before, and to every other place
// that the rules name, where it may. Routes that are there already carry it by themselves.
func (o *act) turnRoutes(ctx context.Context) (string, error) {
	if err := o.s.authority.List(); err != nil { // who may be next is this site's to say now
		return "", err
	}
	return o.s.turnRoutes(ctx, o.doc.Volumes)
}

func (s *Service) turnRoutes(ctx context.Context, all []actVolume) (string, error) {
	want := map[string][]string{} // volumes, by site
	for _, av := range all {
		v, err := s.Catalog.Volume(av.Name)
		if err != nil {
			return "", err
		}
		rs, err := s.rules.RulesFor(v)
		if err != nil {
			return "", err
		}
		far := map[string]bool{v.Origin: true}
		for place := range rs.Keep {
			far[place] = true
		}
		for _, r := range s.authority.Line(v) { // who was active before has what it has in common
			far[r.Site] = true
		}
		delete(far, s.Name())
		for site := range far {
			want[site] = append(want[site], v.Name)
		}
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return "", err
	}
	var opened, awaits []string
	for _, site := range sortedKeys(want) {
		p, err := s.Catalog.Peer(site)
		if errors.Is(err, catalog.ErrNone) {
			continue // a place of another site, or one that is not paired
		} else if err != nil {
			return "", err
		}
		var lacks []string
		for _, name := range want[site] {
			v, err := s.Catalog.Volume(name)
			if err != nil {
				return "", err
			}
			if !slices.ContainsFunc(routes, func(r *catalog.Route) bool { return r.Peer == site && s.routes.Carries(r, v) }) {
				lacks = append(lacks, name)
			}
		}
		if len(lacks) == 0 {
			continue
		}
		if !p.Granted.V.Offer {
			awaits = append(awaits, site)
			continue
		}
		if err := s.routes.OpenBack(site, lacks); err != nil {
			return "", err
		}
		opened = append(opened, site)
	}
	s.run.Wake()
	said := "the routes that are there carry it on"
	if len(opened) > 0 {
		said = "routes to " + words(opened) + " are open"
	}
	if len(awaits) > 0 {
		said += fmt.Sprintf("; %s lets nobody bring snapshots from here: candid site grant %s offer, there", words(awaits),
			s.Name())
	}
	return said, nil
}
