package site

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/core/cadence"
	"candidharbor/core/lineage"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
)

// policyCache holds compiled policies until one changes.
type policyCache struct {
	mu  sync.Mutex
	all []*compiled
}

type compiled struct {
	*policy.Policy
	row *catalog.Policy
}

func (c *compiled) holds(v *catalog.Volume) bool {
	sel := catalog.Selection{Labels: c.Labels, Names: c.Names}
	return sel.Holds(v)
}

func (s *Site) compiledPolicies() ([]*compiled, error) {
	s.policies.mu.Lock()
	defer s.policies.mu.Unlock()
	if s.policies.all != nil {
		return s.policies.all, nil
	}
	rows, err := s.cat.Policies()
	if err != nil {
		return nil, err
	}
	all := make([]*compiled, 0, len(rows))
	for _, r := range rows {
		p, err := policy.Parse(r.Body)
		if err != nil {
			return nil, fmt.Errorf("stored policy %q: %w", r.Name, err)
		}
		all = append(all, &compiled{p, r})
	}
	s.policies.all = all
	return all, nil
}

// ruleset is what all policies together say of a volume.
type ruleset struct {
	policies   []*compiled
	take       []*cadence.Cadence
	keep       map[string][]retention.Rules // by place
	objectives map[string]time.Duration
	grace      time.Duration
	skip       bool
	proposed   bool // rules came from the origin, not from here
}

func (s *Site) rulesFor(v *catalog.Volume) (*ruleset, error) {
	all, err := s.compiledPolicies()
	if err != nil {
		return nil, err
	}
	var mine []*compiled
	for _, p := range all {
		if p.holds(v) {
			mine = append(mine, p)
		}
	}
	rs := &ruleset{}
	if len(mine) == 0 && v.Proposed != "" {
		rs.proposed = true
		for _, body := range strings.Split(v.Proposed, "\n---\n") {
			p, err := policy.Parse(body)
			if err != nil {
				return nil, fmt.Errorf("rules proposed for %s: %w", v.Name, err)
			}
			mine = append(mine, &compiled{Policy: p})
		}
	}
	rs.combine(mine)
	return rs, nil
}

func (rs *ruleset) combine(mine []*compiled) {
	rs.policies, rs.keep, rs.objectives, rs.skip, rs.grace = mine, map[string][]retention.Rules{}, map[string]time.Duration{}, len(mine) > 0, 0
	for _, p := range mine {
		if !rs.proposed {
			rs.take = append(rs.take, p.Take...)
		}
		for place, r := range p.Keep {
			rs.keep[place] = append(rs.keep[place], r)
		}
		for place, d := range p.Objectives {
			if old, ok := rs.objectives[place]; !ok || d < old {
				rs.objectives[place] = d
			}
		}
		rs.skip = rs.skip && p.SkipUnchanged
		rs.grace = max(rs.grace, p.Grace)
	}
	if len(mine) == 0 {
		rs.grace = policy.DefaultGrace
	}
}

// proposal is what this site's policies ask of a far place, as documents.
func (rs *ruleset) proposal(place string) string {
	var bodies []string
	for _, p := range rs.policies {
		if _, ok := p.Keep[place]; ok && p.row != nil {
			bodies = append(bodies, p.row.Body)
		}
	}
	return strings.Join(bodies, "\n---\n")
}

// next returns the first due time after t over all cadences.
func (rs *ruleset) next(t time.Time) (time.Time, bool) {
	var best time.Time
	for _, c := range rs.take {
		if n, ok := c.Next(t); ok && (best.IsZero() || n.Before(best)) {
			best = n
		}
	}
	return best, !best.IsZero()
}

// decided is a volume's snapshots at this place with their verdicts.
type decided struct {
	rows     []*catalog.Snapshot // newest first
	verdicts []retention.Verdict
	byID     map[string]int
	at       time.Time
}

// verdictCache saves deciding again while nothing changed.
type verdictCache struct {
	mu       sync.Mutex
	byVolume map[string]*decided
	drops    int
}

const verdictsFresh = time.Minute

func (c *verdictCache) drop(volumes []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.drops++
	if len(volumes) == 0 {
		c.byVolume = nil
	}
	for _, v := range volumes {
		delete(c.byVolume, v)
	}
}

func (s *Site) decide(v *catalog.Volume) (*decided, error) {
	now := s.clock.Now()
	s.verdicts.mu.Lock()
	d, drops := s.verdicts.byVolume[v.Name], s.verdicts.drops
	s.verdicts.mu.Unlock()
	if d != nil && now.Sub(d.at) < verdictsFresh && !now.Before(d.at) {
		return d, nil
	}
	rs, err := s.rulesFor(v)
	if err != nil {
		return nil, err
	}
	d, err = s.decideWith(v, rs, now)
	if err != nil {
		return nil, err
	}
	s.verdicts.mu.Lock()
	if s.verdicts.byVolume == nil {
		s.verdicts.byVolume = map[string]*decided{}
	}
	if s.verdicts.drops == drops { // else something changed while this was decided
		s.verdicts.byVolume[v.Name] = d
	}
	s.verdicts.mu.Unlock()
	return d, nil
}

func (s *Site) decideWith(v *catalog.Volume, rs *ruleset, now time.Time) (*decided, error) {
	rows, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return nil, err
	}
	snaps := snapshotsOf(rows)
	owed, err := s.owed(v, rs, rows, snaps, now)
	if err != nil {
		return nil, err
	}
	for i := range snaps {
		snaps[i].OwedTo = owed[rows[i].ID]
	}
	d := &decided{rows: rows, verdicts: retention.Decide(snaps, rs.keep[s.Place()], now), byID: make(map[string]int, len(rows)), at: now}
	for i, r := range rows {
		d.byID[r.ID] = i
	}
	return d, nil
}

func snapshotsOf(rows []*catalog.Snapshot) []retention.Snapshot {
	snaps := make([]retention.Snapshot, len(rows))
	for i, r := range rows {
		snaps[i] = retention.Snapshot{Position: lineage.Position{Term: uint64(r.Term), Sequence: uint64(r.Sequence)},
			Taken: r.Began.Time, SeenUntil: r.SeenUntil.Time, End: r.OwnEnd.Time, Recalled: r.RecalledUntil.Time}
		switch r.Cause {
		case "by hand":
			snaps[i].Kind = retention.ByHand
		case "safety":
			snaps[i].Kind = retention.Safety
		}
	}
	return snaps
}

// owedLimit bounds how many snapshots of a volume wait for one far place; beyond it
// the oldest are let go, and the route's sentence tells of it.
const owedLimit = 500

// owed finds what far places would keep and do not have yet.
func (s *Site) owed(v *catalog.Volume, rs *ruleset, rows []*catalog.Snapshot, snaps []retention.Snapshot, now time.Time) (map[string][]string, error) {
	routes, err := s.cat.Routes()
	if err != nil {
		return nil, err
	}
	owed := map[string][]string{}
	for _, r := range routes {
		if !r.Volumes.V.Holds(v) || v.Origin != s.Name() {
			continue
		}
		want, err := s.wantedFar(r, v, rs, rows, snaps, now)
		if err != nil {
			return nil, err
		}
		for _, row := range want[:min(len(want), owedLimit)] {
			owed[row.ID] = append(owed[row.ID], r.Peer)
		}
	}
	return owed, nil
}

// wantedFar lists what the far side of a route would keep and does not have, newest
// first.
func (s *Site) wantedFar(r *catalog.Route, v *catalog.Volume, rs *ruleset, rows []*catalog.Snapshot, snaps []retention.Snapshot, now time.Time) ([]*catalog.Snapshot, error) {
	carried, err := s.cat.CarriedBy(r.Name, s.Place(), v.Name)
	if err != nil {
		return nil, err
	}
	plain := slices.Clone(snaps)
	for i := range plain {
		plain[i].OwedTo, plain[i].Recalled = nil, time.Time{}
	}
	verdicts := retention.Decide(plain, rs.keep[r.Peer], now)
	var want []*catalog.Snapshot
	for i, row := range rows {
		if _, there := carried[row.ID]; !there && verdicts[i].Kept() && row.Cause != "safety" && row.GraceUntil.IsZero() {
			want = append(want, row)
		}
	}
	slices.SortFunc(want, func(a, b *catalog.Snapshot) int {
		return lineage.Position{Term: uint64(b.Term), Sequence: uint64(b.Sequence)}.Compare(lineage.Position{Term: uint64(a.Term), Sequence: uint64(a.Sequence)})
	})
	return want, nil
}

// PutPolicy checks and stores a policy document.
func (s *Site) PutPolicy(body, by string) (*api.Policy, error) {
	p, err := policy.Parse(body)
	if err != nil {
		return nil, &Error{Misuse, err}
	}
	row := &catalog.Policy{Name: p.Name, Body: body, Changed: catalog.At(s.clock.Now()), ChangedBy: by}
	if err := s.cat.PutPolicy(row); err != nil {
		return nil, err
	}
	s.forgetPolicies()
	return s.Policy(p.Name)
}

func (s *Site) forgetPolicies() {
	s.policies.mu.Lock()
	s.policies.all = nil
	s.policies.mu.Unlock()
	s.changed("policies")
}

// RemovePolicy deletes a policy. Volumes that no other policy chooses keep all they have.
func (s *Site) RemovePolicy(name string) (string, error) {
	p, err := s.Policy(name)
	if err != nil {
		return "", err
	}
	if err := s.cat.RemovePolicy(name); err != nil {
		return "", err
	}
	s.forgetPolicies()
	all, err := s.compiledPolicies()
	if err != nil {
		return "", err
	}
	var bare []string
	for _, n := range p.Volumes {
		v, err := s.cat.Volume(n)
		if err != nil {
			return "", err
		}
		if !slices.ContainsFunc(all, func(c *compiled) bool { return c.holds(v) }) {
			bare = append(bare, n)
		}
	}
	if len(bare) == 0 {
		return fmt.Sprintf("Policy %s is gone.", name), nil
	}
	return fmt.Sprintf("Policy %s is gone. No policy chooses %s any more: nothing is taken of them, and what they have stays.", name, strings.Join(bare, ", ")), nil
}

// Policy returns one policy.
func (s *Site) Policy(name string) (*api.Policy, error) {
	all, err := s.Policies()
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Name == name {
			return &all[i], nil
		}
	}
	return nil, missing("policy %q: not found; candid policy list shows what there is", name)
}

// Policies lists all policies.
func (s *Site) Policies() ([]api.Policy, error) {
	all, err := s.compiledPolicies()
	if err != nil {
		return nil, err
	}
	vols, err := s.cat.Volumes()
	if err != nil {
		return nil, err
	}
	out := make([]api.Policy, 0, len(all))
	for _, c := range all {
		p := api.Policy{Name: c.Name, Body: c.row.Body, Version: c.row.Version, Changed: c.row.Changed.Time, ChangedBy: c.row.ChangedBy, Volumes: []string{}, Take: []string{}, Keep: []string{}}
		for _, v := range vols {
			if c.holds(v) {
				p.Volumes = append(p.Volumes, v.Name)
			}
		}
		for _, t := range c.Take {
			p.Take = append(p.Take, t.String())
		}
		for place, r := range c.Keep {
			p.Keep = append(p.Keep, place+": "+rulesText(r))
		}
		slices.Sort(p.Keep)
		out = append(out, p)
	}
	return out, nil
}

func rulesText(r retention.Rules) string {
	var parts []string
	if r.Newest > 0 {
		parts = append(parts, fmt.Sprintf("newest %d", r.Newest))
	}
	for _, t := range retention.Tiers() {
		if r.Count[t] > 0 {
			parts = append(parts, fmt.Sprintf("%s %d", t, r.Count[t]))
		}
	}
	if r.ByHand > 0 {
		parts = append(parts, "by hand for "+policy.Words(r.ByHand))
	}
	return strings.Join(parts, ", ")
}

// CheckPolicy tells what is wrong with a document, or what it would let go at once.
func (s *Site) CheckPolicy(body string) (*api.PolicyCheck, error) {
	out := &api.PolicyCheck{Problems: []api.Problem{}, Volumes: []string{}, Letting: []api.Going{}}
	p, err := policy.Parse(body)
	if err != nil {
		for _, pr := range err.(policy.Problems) {
			out.Problems = append(out.Problems, api.Problem(pr))
		}
		return out, nil
	}
	out.Name = p.Name
	all, err := s.compiledPolicies()
	if err != nil {
		return nil, err
	}
	vols, err := s.cat.Volumes()
	if err != nil {
		return nil, err
	}
	next := &compiled{Policy: p, row: &catalog.Policy{Name: p.Name, Body: body}}
	others := slices.DeleteFunc(slices.Clone(all), func(c *compiled) bool { return c.Name == p.Name })
	var ids []string
	for _, v := range vols {
		was := slices.ContainsFunc(all, func(c *compiled) bool { return c.Name == p.Name && c.holds(v) })
		if next.holds(v) {
			out.Volumes = append(out.Volumes, v.Name)
		} else if !was {
			continue
		}
		rs := &ruleset{}
		var mine []*compiled
		for _, c := range append(slices.Clone(others), next) {
			if c.holds(v) {
				mine = append(mine, c)
			}
		}
		rs.combine(mine)
		after, err := s.decideWith(v, rs, s.clock.Now())
		if err != nil {
			return nil, err
		}
		before, err := s.decide(v)
		if err != nil {
			return nil, err
		}
		for i, row := range after.rows {
			if k, ok := before.byID[row.ID]; ok && before.verdicts[k].Kept() && !after.verdicts[i].Kept() && row.GraceUntil.IsZero() {
				out.Letting = append(out.Letting, api.Going{ID: row.ID, Volume: v.Name, Taken: row.Began.Time, What: "enters grace", Why: after.verdicts[i].LetGo})
				ids = append(ids, row.ID)
			}
		}
	}
	out.Bytes, err = s.freed(ids)
	return out, err
}

// lineageOf parses a lineage's column.
func lineageOf(text string) (id [16]byte) {
	b, _ := hex.DecodeString(text)
	copy(id[:], b)
	return id
}
