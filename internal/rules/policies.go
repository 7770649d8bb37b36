package rules

import (
	"fmt"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/core/cadence"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
)

// PutPolicy checks and stores a policy document.
//
// One that lets snapshots go needs to be accepted.
func (s *Service) PutPolicy(body, by string, accept bool) (*api.Policy, error) {
	p, err := policy.Parse(body)
	if err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	if old, err := s.Catalog.Policy(p.Name); err == nil && old.Body == body {
		return s.Policy(p.Name)
	}
	if err := s.KnownHooks(p.Quiesce); err != nil {
		return nil, err
	}
	check, err := s.CheckPolicy(s.run.Context(), body)
	if err != nil {
		return nil, err
	}
	if n := len(check.Letting); n > 0 && !accept {
		return nil, refusal.Conflictf("nothing was stored: under this policy %s would expire, %s of them here come back "+
			"after grace and a sweep; candid policy diff lists them, and storing it needs to be accepted",
			phrase.Many(n, "snapshot"), phrase.Size(check.Bytes))
	}
	affected, err := s.affected(p)
	if err != nil {
		return nil, err
	}
	row := &catalog.Policy{Name: p.Name, Body: body, Changed: catalog.At(s.Clock.Now()), ChangedBy: by}
	if err := s.Catalog.PutPolicy(row); err != nil {
		return nil, err
	}
	s.forgetPolicies()
	if err := s.DueFromNow(affected); err != nil {
		return nil, err
	}
	return s.Policy(p.Name)
}

// affected are the volumes whose due times a document changes.
func (s *Service) affected(p *policy.Policy) ([]string, error) {
	all, err := s.CompiledPolicies()
	if err != nil {
		return nil, err
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	next := &Compiled{Policy: p}
	was := &Compiled{Policy: &policy.Policy{}}
	for _, c := range all {
		if c.Name == p.Name {
			was = c
		}
	}
	same := was.Paused == p.Paused && slices.EqualFunc(was.Take, p.Take, func(a, b *cadence.Cadence) bool {
		return a.String() == b.String() && a.Zone().String() == b.Zone().String()
	})
	var out []string
	for _, v := range vols {
		if next.Holds(v) && !(same && was.Holds(v)) {
			out = append(out, v.Name)
		}
	}
	return out, nil
}

// DueFromNow begins the due times of volumes anew: what a cadence would have asked for
// before it applied was not missed.
func (s *Service) DueFromNow(volumes []string) error {
	for _, v := range volumes {
		if err := s.Catalog.Scheduled(v, s.Clock.Now()); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) forgetPolicies() {
	s.policies.mu.Lock()
	s.policies.all = nil
	s.policies.mu.Unlock()
	s.run.Changed("policies")
}

// RemovePolicy deletes a policy. Volumes that no other policy chooses keep all they have;
// of others snapshots may expire that only this one kept, which needs to be accepted.
func (s *Service) RemovePolicy(name, by string, accept bool) (string, error) {
	p, err := s.Policy(name)
	if err != nil {
		return "", err
	}
	_, letting, err := s.lettingUnder(s.run.Context(), name, nil)
	if err != nil {
		return "", err
	}
	if n := len(letting); n > 0 && !accept {
		return "", refusal.Conflictf("nothing was removed: without policy %s %s would expire that other policies do not "+
			"keep, such as that of %s taken %s; to accept that: candid policy remove %s --yes",
			name, phrase.Many(n, "snapshot"), letting[0].Volume, phrase.Stamp(letting[0].Taken), name)
	}
	if err := s.Catalog.RemovePolicy(name, by, s.Clock.Now()); err != nil {
		return "", err
	}
	s.forgetPolicies()
	all, err := s.CompiledPolicies()
	if err != nil {
		return "", err
	}
	var bare []string
	for _, n := range p.Volumes {
		v, err := s.Catalog.Volume(n)
		if err != nil {
			return "", err
		}
		if !slices.ContainsFunc(all, func(c *Compiled) bool { return c.Holds(v) }) {
			bare = append(bare, n)
		}
	}
	if len(bare) == 0 {
		return fmt.Sprintf("Policy %s is gone.", name), nil
	}
	return fmt.Sprintf("Policy %s is gone. No policy chooses %s any more: nothing is taken of them, and what they "+
		"have stays.", name, strings.Join(bare, ", ")), nil
}

// Policy returns one policy.
func (s *Service) Policy(name string) (*api.Policy, error) {
	all, err := s.Policies()
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Name == name {
			return &all[i], nil
		}
	}
	return nil, refusal.Missingf("policy %q: not found; candid policy list shows what there is", name)
}

// Policies lists all policies.
func (s *Service) Policies() ([]api.Policy, error) {
	all, err := s.CompiledPolicies()
	if err != nil {
		return nil, err
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	said, err := s.Catalog.Descriptions(catalog.DescribedPolicy)
	if err != nil {
		return nil, err
	}
	out := make([]api.Policy, 0, len(all))
	for _, c := range all {
		p := api.Policy{Paused: c.Paused, Name: c.Name, Description: said[c.Name],
			Body: c.Row.Body, Version: c.Row.Version, Changed: c.Row.Changed.Time,
			ChangedBy: c.Row.ChangedBy, Volumes: []string{}, Take: []string{}, Keep: []string{}}
		for _, v := range vols {
			if c.Holds(v) {
				p.Volumes = append(p.Volumes, v.Name)
			}
		}
		for _, t := range c.Take {
			p.Take = append(p.Take, t.String())
		}
		for place, r := range c.Keep {
			p.Keep = append(p.Keep, place+": "+r.String())
		}
		slices.Sort(p.Keep)
		out = append(out, p)
	}
	return out, nil
}
