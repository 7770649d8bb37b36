package failover

import (
	"fmt"
	"slices"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/runbook"
)

// idleSentences tell of what this site took over and does not serve, as after it was put back.
func (s *Service) idleSentences(vols []*catalog.Volume, add func(api.Sentence)) error {
	open, err := s.Catalog.Failovers(nil, openDrills, 1000)
	if err != nil {
		return err
	}
	for _, row := range open {
		if row.Kind != drill { // it brings it up, or says why not
			return nil
		}
	}
	backs, err := s.Catalog.StandBacks()
	if err != nil {
		return err
	}
	down := map[string]bool{}
	for _, b := range backs {
		down[b.Lineage] = true
	}
	var names []string
	for _, v := range vols {
		if v.ActiveAt(s.Name()) && (down[v.Lineage] || v.Origin != s.Name() && !v.Protected) {
			names = append(names, v.Name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	x := api.Sentence{Text: fmt.Sprintf("This site is the active one of %s, and serves nothing of it.", some(names)),
		Weight: "act", About: "idle", Next: "Write a runbook that brings it up here", Command: "candid runbook put FILE",
		Link: "/volumes/" + names[0]}
	by, err := s.bringsUp(names[0])
	if err != nil {
		return err
	}
	if by != "" {
		x.Next, x.Command, x.Link = "Bring it up", "candid failover "+by+" --unplanned", "/recovery"
	}
	add(x)
	return nil
}

// bringsUp names a runbook that brings a volume up; empty: none does.
func (s *Service) bringsUp(volume string) (string, error) {
	rows, err := s.Catalog.Runbooks()
	if err != nil {
		return "", err
	}
	for _, row := range rows {
		b, err := runbook.Parse(row.Body)
		if err != nil {
			continue
		}
		vols, err := s.volumesOf(b)
		if err == nil && slices.ContainsFunc(vols, func(v bookVolume) bool { return v.Name == volume }) {
			return b.Name, nil
		}
	}
	return "", nil
}
