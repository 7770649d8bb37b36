package rules

import (
	"fmt"
	"slices"
	"strings"

	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
)

// ProposedPolicies reads the documents that came along with a volume.
func ProposedPolicies(text string) ([]*Compiled, error) {
	if text == "" {
		return nil, nil
	}
	var out []*Compiled
	for _, body := range strings.Split(text, "\n---\n") {
		p, err := policy.Parse(body)
		if err != nil {
			return nil, err
		}
		out = append(out, &Compiled{Policy: p, body: body})
	}
	return out, nil
}

// Loosened says where other proposed rules would keep less here than those that apply. Rules
// that come with the very first copy take nothing from anyone; after that, no rules mean
// that everything is kept.
func (s *Service) Loosened(v *catalog.Volume, rules string) ([]string, error) {
	if v.Proposed == "" && v.Offered == "" {
		rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{Limit: 2})
		if err != nil || len(rows) < 2 {
			return nil, err
		}
	}
	was, err := ProposedPolicies(v.Proposed)
	if err != nil {
		return nil, err
	}
	will, err := ProposedPolicies(rules)
	if err != nil {
		return nil, err
	}
	var a, b Ruleset
	a.Combine(was)
	b.Combine(will)
	out := retention.Less(a.Keep[s.Place()], b.Keep[s.Place()])
	if b.Grace < a.Grace {
		out = append(out, fmt.Sprintf("grace of %s becomes %s", retention.Words(a.Grace), retention.Words(b.Grace)))
	}
	if len(a.Paused) > 0 && len(b.Paused) == 0 {
		out = append(out, "a pause ends")
	}
	return slices.Compact(out), nil
}

// EvaluateOffer decides what becomes of rules that come along: longer keeping applies at once,
// shorter keeping waits for a person.
func (s *Service) EvaluateOffer(v *catalog.Volume, rules string) (proposed, offered string, err error) {
	if rules == v.Proposed {
		return rules, "", nil
	}
	less, err := s.Loosened(v, rules)
	if err != nil {
		return "", "", err
	}
	if len(less) > 0 {
		return v.Proposed, rules, nil
	}
	return rules, "", nil
}

// AcceptRules lets the rules that a volume's origin proposes apply here although they
// keep less.
func (s *Service) AcceptRules(name string) (string, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return "", err
	}
	if v.Offered == "" {
		return "", refusal.Conflictf("no rules for %s wait to be accepted here", name)
	}
	less, err := s.Loosened(v, v.Offered)
	if err != nil {
		return "", err
	}
	if err := s.Catalog.SetRules(name, v.Offered, ""); err != nil {
		return "", err
	}
	s.run.Changed("policies")
	return fmt.Sprintf("The rules that %s proposes for %s apply here now: %s. The next pruning sends into grace what "+
		"they do not keep.", v.Origin, name, strings.Join(less, "; ")), nil
}
