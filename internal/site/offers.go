package site

import (
	"fmt"
	"slices"
	"strings"

	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
)

func proposedPolicies(text string) ([]*compiled, error) {
	if text == "" {
		return nil, nil
	}
	var out []*compiled
	for _, body := range strings.Split(text, "\n---\n") {
		p, err := policy.Parse(body)
		if err != nil {
			return nil, err
		}
		out = append(out, &compiled{Policy: p, body: body})
	}
	return out, nil
}

// less says where other proposed rules would keep less here than those that apply. Rules
// that come with the very first copy take nothing from anyone; after that, no rules mean
// that everything is kept.
func (s *Site) less(v *catalog.Volume, rules string) ([]string, error) {
	if v.Proposed == "" && v.Offered == "" {
		rows, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{Limit: 2})
		if err != nil || len(rows) < 2 {
			return nil, err
		}
	}
	was, err := proposedPolicies(v.Proposed)
	if err != nil {
		return nil, err
	}
	will, err := proposedPolicies(rules)
	if err != nil {
		return nil, err
	}
	var a, b ruleset
	a.combine(was)
	b.combine(will)
	out := retention.Less(a.keep[s.Place()], b.keep[s.Place()])
	if b.grace < a.grace {
		out = append(out, fmt.Sprintf("grace of %s becomes %s", retention.Words(a.grace), retention.Words(b.grace)))
	}
	if len(a.paused) > 0 && len(b.paused) == 0 {
		out = append(out, "a pause ends")
	}
	return slices.Compact(out), nil
}

// weigh decides what becomes of rules that come along: longer keeping applies at once,
// shorter keeping waits for a person.
func (s *Site) weigh(v *catalog.Volume, rules string) (proposed, offered string, err error) {
	if rules == v.Proposed {
		return rules, "", nil
	}
	less, err := s.less(v, rules)
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
func (s *Site) AcceptRules(name string) (string, error) {
	v, err := s.cat.Volume(name)
	if err != nil {
		return "", err
	}
	if v.Offered == "" {
		return "", conflict("no rules for %s wait to be accepted here", name)
	}
	less, err := s.less(v, v.Offered)
	if err != nil {
		return "", err
	}
	if err := s.cat.SetRules(name, v.Offered, ""); err != nil {
		return "", err
	}
	s.changed("policies")
	return fmt.Sprintf("The rules that %s proposes for %s apply here now: %s. The next pruning sends into grace what they do not keep.", v.Origin, name, strings.Join(less, "; ")), nil
}
