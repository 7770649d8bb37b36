package rules

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
)

// policyCache holds compiled policies until one changes.
type policyCache struct {
	mu  sync.Mutex
	all []*Compiled
}

// Compiled is a policy that was read.
type Compiled struct {
	*policy.Policy
	Row  *catalog.Policy // nil: proposed by the origin
	body string
}

// Holds reports whether the policy chooses a volume.
func (c *Compiled) Holds(v *catalog.Volume) bool {
	sel := catalog.Selection{Labels: c.Labels, Names: c.Names}
	return sel.Holds(v)
}

// CompiledPolicies are all policies, read once until one changes.
func (s *Service) CompiledPolicies() ([]*Compiled, error) {
	s.policies.mu.Lock()
	defer s.policies.mu.Unlock()
	if s.policies.all != nil {
		return s.policies.all, nil
	}
	rows, err := s.Catalog.Policies()
	if err != nil {
		return nil, err
	}
	all := make([]*Compiled, 0, len(rows))
	for _, r := range rows {
		p, err := policy.Parse(r.Body)
		if err != nil {
			return nil, fmt.Errorf("stored policy %q: %w", r.Name, err)
		}
		all = append(all, &Compiled{p, r, r.Body})
	}
	s.policies.all = all
	return all, nil
}

// Ruleset is what all policies together say of a volume.
type Ruleset struct {
	Policies   []*Compiled
	Take       []*cadence.Cadence
	Keep       map[string][]retention.Rules // by place
	Objectives map[string]time.Duration
	Grace      time.Duration
	Skip       bool
	Proposed   bool     // rules came from the origin, not from here
	Active     bool     // this site takes the snapshots
	Paused     []string // policies that are
	Recovery   time.Duration
}

// RulesFor is what all policies together say of a volume.
func (s *Service) RulesFor(v *catalog.Volume) (*Ruleset, error) {
	all, err := s.CompiledPolicies()
	if err != nil {
		return nil, err
	}
	var mine []*Compiled
	for _, p := range all {
		if p.Holds(v) {
			mine = append(mine, p)
		}
	}
	rs := &Ruleset{}
	if len(mine) == 0 && v.Proposed != "" { // without, everything stays, whatever is offered
		rs.Proposed = true
		if mine, err = ProposedPolicies(v.Proposed); err != nil {
			return nil, fmt.Errorf("rules proposed for %s: %w", v.Name, err)
		}
		if v.Offered != "" { // what either keeps stays until a person has accepted
			more, err := ProposedPolicies(v.Offered)
			if err != nil {
				return nil, fmt.Errorf("rules offered for %s: %w", v.Name, err)
			}
			mine = append(mine, more...)
		}
	}
	rs.Active = v.ActiveAt(s.Name())
	rs.Combine(mine)
	// Objectives are of roles: where another site is active, those of the two have changed places.
	if v.Active != v.Origin {
		rs.swapObjectives(v.Origin, v.Active)
	}
	return rs, nil
}

func (rs *Ruleset) swapObjectives(a, b string) {
	forA, hasA := rs.Objectives[a]
	forB, hasB := rs.Objectives[b]
	delete(rs.Objectives, a)
	delete(rs.Objectives, b)
	if hasA {
		rs.Objectives[b] = forA
	}
	if hasB {
		rs.Objectives[a] = forB
	}
}

// Combine makes the ruleset of some policies.
func (rs *Ruleset) Combine(mine []*Compiled) {
	rs.Policies, rs.Keep, rs.Objectives, rs.Skip, rs.Grace = mine, map[string][]retention.Rules{},
		map[string]time.Duration{}, len(mine) > 0, 0
	for _, p := range mine {
		if p.Paused {
			rs.Paused = append(rs.Paused, p.Name)
		}
		if (!rs.Proposed || rs.Active) && !p.Paused {
			rs.Take = append(rs.Take, p.Take...)
		}
		if p.Recovery > 0 && (rs.Recovery == 0 || p.Recovery < rs.Recovery) {
			rs.Recovery = p.Recovery
		}
		for place, r := range p.Keep {
			rs.Keep[place] = append(rs.Keep[place], r)
		}
		for place, d := range p.Objectives {
			if old, ok := rs.Objectives[place]; !ok || d < old {
				rs.Objectives[place] = d
			}
		}
		rs.Skip = rs.Skip && p.SkipUnchanged
		rs.Grace = max(rs.Grace, p.Grace)
	}
	// A policy without rules for a place keeps everything there, and what is kept is the union.
	for place := range rs.Keep {
		if slices.ContainsFunc(mine, func(p *Compiled) bool { _, has := p.Keep[place]; return !has }) {
			delete(rs.Keep, place)
		}
	}
	if len(mine) == 0 {
		rs.Grace = policy.DefaultGrace
	}
}

// KeepsAll returns the policies that keep everything at a place, because they have no rules
// for it, where another one has.
func (rs *Ruleset) KeepsAll(place string) (names []string) {
	others := false
	for _, p := range rs.Policies {
		if _, has := p.Keep[place]; has {
			others = true
		} else {
			names = append(names, p.Name)
		}
	}
	if !others {
		return nil
	}
	return names
}

// Proposal is what policies ask of other places than this site's, as documents. They go
// along also to a place that they do not name, from where copies may go on to one.
func (rs *Ruleset) Proposal(here string) string {
	var bodies []string
	far := false
	for _, p := range rs.Policies { // all of them: one that does not name a place keeps everything there
		bodies = append(bodies, p.body)
		for place := range p.Keep {
			far = far || place != here
		}
	}
	if !far {
		return ""
	}
	return strings.Join(bodies, "\n---\n")
}

// Next returns the first due time after t over all cadences.
func (rs *Ruleset) Next(t time.Time) (time.Time, bool) {
	var best time.Time
	for _, c := range rs.Take {
		if n, ok := c.Next(t); ok && (best.IsZero() || n.Before(best)) {
			best = n
		}
	}
	return best, !best.IsZero()
}

// HoldSetting is the setting that says why nothing is removed.
const HoldSetting = "removal held"

// OnlyOnChange reports whether what comes due in a span is only to be taken on change.
func (rs *Ruleset) OnlyOnChange(from, to time.Time) bool {
	for _, c := range rs.Take {
		if _, _, looks := c.OnChange(); looks {
			continue
		}
		if at, ok := c.Next(from); ok && !at.After(to) {
			return false
		}
	}
	return true
}

// OnlyLooks reports whether at a due time one only looks whether something changed.
func (rs *Ruleset) OnlyLooks(due time.Time) bool {
	for _, c := range rs.Take {
		if _, _, looks := c.OnChange(); looks {
			continue
		}
		if at, ok := c.Next(due.Add(-time.Nanosecond)); ok && at.Equal(due) {
			return false
		}
	}
	return true
}
