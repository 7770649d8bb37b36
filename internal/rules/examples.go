package rules

import (
	"fmt"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/catalog"
)

// example is a policy to begin with. SITE stands for this site, FAR for each other place, VOLUMES for what it chooses
// and ZONE for the zone of its times.
type example struct{ name, title, far, body string }

var examples = []example{
	{"shared-files", "Files that people work on by day: every hour then, and each night",
		"daily: 30, weekly: 8, monthly: 12", `policy: shared-files
volumes: VOLUMES
take:
  - hourly at :00 between 07:00 and 19:00 on mon-fri
  - daily at 23:00
zone: ZONE
skip_unchanged: true
keep:
  SITE: {newest: 8, hourly: 48, daily: 14, weekly: 8, by_hand: 30 days}
FAR
objectives: {SITE: 26 hours}
grace: 24 hours
`},
	{"busy-database", "A database that changes all the time: every 15 minutes, a week back by the hour",
		"hourly: 48, daily: 30, monthly: 12", `policy: busy-database
volumes: VOLUMES
take:
  - every 15 minutes
zone: ZONE
skip_unchanged: true
keep:
  SITE: {newest: 8, hourly: 168, daily: 30, by_hand: 30 days}
FAR
objectives: {SITE: 1 hour}
grace: 24 hours
`},
	{"archive", "What is added to and seldom changed: when something changes, kept for years",
		"daily: 30, monthly: 24, yearly: 10", `policy: archive
volumes: VOLUMES
take:
  - on change, rest 5 minutes, at most every 60 minutes
  - daily at 23:00
zone: ZONE
skip_unchanged: true
keep:
  SITE: {newest: 8, daily: 30, monthly: 24, yearly: 10, by_hand: 90 days}
FAR
objectives: {SITE: 26 hours}
grace: 7 days
`},
}

// PolicyExamples are policies to begin with, written for this site, for what it has that no policy chooses and for the
// places that it knows.
func (s *Service) PolicyExamples(zone string) ([]api.PolicyExample, error) {
	chosen, err := s.unchosen()
	if err != nil {
		return nil, err
	}
	peers, err := s.Catalog.Peers()
	if err != nil {
		return nil, err
	}
	out := []api.PolicyExample{}
	for _, e := range examples {
		far := ""
		for _, p := range peers {
			far += fmt.Sprintf("  %s: {%s}\n", p.Name, e.far)
		}
		body := strings.NewReplacer("VOLUMES", chosen, "ZONE", zone, "FAR\n", far, "SITE", s.Place()).Replace(e.body)
		out = append(out, api.PolicyExample{Name: e.name, Title: e.title, Body: body})
	}
	return out, nil
}

// unchosen says, as a policy does, which volumes no policy chooses: those by a label that they all and no others have,
// or else by name.
func (s *Service) unchosen() (string, error) {
	all, err := s.CompiledPolicies()
	if err != nil {
		return "", err
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return "", err
	}
	var bare, others []*catalog.Volume
	for _, v := range vols {
		switch {
		case !v.Protected || !v.ActiveAt(s.Name()):
		case len(holding(all, v)) == 0:
			bare = append(bare, v)
		default:
			others = append(others, v)
		}
	}
	if len(bare) == 0 {
		return "{collection: shared}", nil
	}
	for k, label := range bare[0].Labels.V {
		has := func(v *catalog.Volume) bool { return v.Labels.V[k] == label }
		if plainWord(k) && plainWord(label) && !slices.ContainsFunc(others, has) &&
			!slices.ContainsFunc(bare, func(v *catalog.Volume) bool { return !has(v) }) {
			return "{" + k + ": " + label + "}", nil
		}
	}
	var names []string
	for _, v := range bare[:min(len(bare), 50)] {
		names = append(names, v.Name)
	}
	return "{names: [" + strings.Join(names, ", ") + "]}", nil
}

// plainWord reports whether a text needs no quotes in YAML.
func plainWord(text string) bool {
	words := []string{"y", "n", "yes", "no", "on", "off", "true", "false", "null", "names"}
	return text != "" && text[0] != '-' && !slices.Contains(words, strings.ToLower(text)) &&
		strings.Trim(text, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ-_") == ""
}
