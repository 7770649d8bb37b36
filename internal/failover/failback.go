package failover

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
)

// Failback brings home what another site took over by a runbook: a planned failover the other way. By a runbook of the
// same name here it follows that; else all volumes that went by it come back to where they were.
func (s *Service) Failback(ctx context.Context, name string, ask api.FailoverAsk, by string) (*api.Failover, error) {
	if ask.Unplanned {
		return nil, refusal.Badf("a failback has both sites at work: without the other one it is a failover, --unplanned")
	}
	if _, err := s.Catalog.Runbook(name); err == nil {
		if f, herr := s.goneBy(name); herr == nil && len(f) == 0 {
			if err := s.homeElsewhere(name); err != nil {
				return nil, err
			}
		}
		return s.Failover(ctx, name, ask, by)
	}
	gone, err := s.goneBy(name)
	if err != nil {
		return nil, err
	}
	if len(gone) == 0 {
		return nil, refusal.Conflictf("no volume of this site was taken over by a runbook %s: candid failover list", name)
	}
	var names []string
	for _, v := range gone {
		names = append(names, v.Name)
	}
	row := &catalog.Runbook{Name: name, Body: fmt.Sprintf("runbook: %s\nat: %s\nbring_up: [[%s]]\n", name, s.Name(),
		strings.Join(names, ", "))}
	return s.failover(ctx, row, ask, by)
}

// goneBy are the volumes of this site that another one took over by a runbook.
func (s *Service) goneBy(name string) (gone []*catalog.Volume, err error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	for _, v := range vols {
		line := s.authority.Line(v)
		if v.Origin != s.Name() || v.ActiveAt(s.Name()) || len(line) == 0 {
			continue
		}
		for _, r := range line {
			if r.Site == v.Active && r.Why == "runbook "+name {
				gone = append(gone, v)
				break
			}
		}
	}
	return gone, nil
}

// homeElsewhere refuses to fail back at the site that took over.
func (s *Service) homeElsewhere(name string) error {
	row, err := s.Catalog.Runbook(name)
	if err != nil {
		return err
	}
	b, err := parse(row)
	if err != nil {
		return err
	}
	vols, err := s.volumesOf(b)
	if err != nil {
		return err
	}
	for _, v := range vols {
		if v.ActiveAt(s.Name()) && v.Origin != s.Name() {
			return refusal.Conflictf("%s is home at %s, and failing back is done there: candid --desk %s failback %s", v.Name,
				v.Origin, v.Origin, name)
		}
	}
	return nil
}

// Away lists what of this site others took over, by the runbook by which it went.
func (s *Service) Away() ([]api.Away, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	out := []api.Away{}
	for _, v := range vols {
		line := s.authority.Line(v)
		if v.Origin != s.Name() || v.ActiveAt(s.Name()) || len(line) == 0 {
			continue
		}
		for i := len(line) - 1; i >= 0; i-- {
			name, by := strings.CutPrefix(line[i].Why, "runbook ")
			if line[i].Site != v.Active || !by {
				continue
			}
			k := slices.IndexFunc(out, func(a api.Away) bool { return a.Runbook == name && a.Site == v.Active })
			if k < 0 {
				k = len(out)
				out = append(out, api.Away{Runbook: name, Site: v.Active, Since: time.Unix(0, line[i].At)})
			}
			out[k].Volumes = append(out[k].Volumes, v.Name)
			break
		}
	}
	return out, nil
}
