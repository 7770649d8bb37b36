package rules

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/lineage"
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

// decided is a volume's snapshots at this place with their verdicts.
type decided struct {
	Rows       []*catalog.Snapshot // newest first
	Verdicts   []retention.Verdict
	ByID       map[string]int
	at         time.Time
	setMembers []string // volumes that share sets with it
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
		for name, d := range c.byVolume {
			if slices.Contains(d.setMembers, v) {
				delete(c.byVolume, name)
			}
		}
	}
}

// Decide gives verdicts on all snapshots of a volume here; they are kept for a while.
func (s *Service) Decide(v *catalog.Volume) (*decided, error) {
	now := s.Clock.Now()
	s.verdicts.mu.Lock()
	d, drops := s.verdicts.byVolume[v.Name], s.verdicts.drops
	s.verdicts.mu.Unlock()
	if d != nil && now.Sub(d.at) < verdictsFresh && !now.Before(d.at) {
		return d, nil
	}
	rs, err := s.RulesFor(v)
	if err != nil {
		return nil, err
	}
	rows, err := s.Catalog.KeptSnapshots(s.Place(), v.Name) // nobody changes what is shown
	if err != nil {
		return nil, err
	}
	if d, err = s.decideRows(v, rows, rs, now, s.RulesFor); err != nil {
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

// DecideWith decides by given rules; sets are decided as one, by the present rules of the
// other volumes.
func (s *Service) DecideWith(v *catalog.Volume, rs *Ruleset, now time.Time) (*decided, error) {
	return s.decideAmong(v, rs, now, s.RulesFor)
}

func (s *Service) decideAmong(v *catalog.Volume, rs *Ruleset, now time.Time, others func(*catalog.Volume) (*Ruleset,
	error)) (*decided, error) {
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return nil, err
	}
	return s.decideRows(v, rows, rs, now, others)
}

func (s *Service) decideRows(v *catalog.Volume, rows []*catalog.Snapshot, rs *Ruleset, now time.Time,
	others func(*catalog.Volume) (*Ruleset, error)) (*decided, error) {
	d, err := s.decideAlone(v, rows, rs, now)
	if err != nil {
		return nil, err
	}
	return d, s.bySet(v, d, now, others)
}

func (s *Service) decideAlone(v *catalog.Volume, rows []*catalog.Snapshot, rs *Ruleset, now time.Time) (*decided,
	error) {
	snaps := SnapshotsOf(rows)
	owed, err := s.owedFar(v, rs, rows, snaps, now)
	if err != nil {
		return nil, err
	}
	used, err := s.used(v.Lineage)
	if err != nil {
		return nil, err
	}
	for i := range snaps {
		snaps[i].OwedTo, snaps[i].UsedBy = owed[rows[i].ID], used[rows[i].ID]
	}
	for i, r := range rows {
		snaps[i].Floor = s.floorOf(r)
	}
	d := &decided{Rows: rows, Verdicts: retention.Decide(snaps, rs.At(s.Place(), v), now), ByID: make(map[string]int,
		len(rows)), at: now}
	for i, r := range rows {
		d.ByID[r.ID] = i
	}
	return d, nil
}

// At is what decides at a place of this site: a pause lets nothing go.
func (rs *Ruleset) At(place string, v *catalog.Volume) []retention.Rules {
	rules := rs.Keep[place]
	if len(rs.Paused) > 0 || !v.Paused.IsZero() {
		return append(slices.Clone(rules), retention.Rules{Everything: true, Paused: true})
	}
	return rules
}

// floorOf is the time before which this place does not remove a snapshot.
func (s *Service) floorOf(r *catalog.Snapshot) time.Time {
	if s.Floor == 0 {
		return time.Time{}
	}
	here := r.Ended.Time
	if !r.Arrived.IsZero() {
		here = r.Arrived.Time
	}
	return here.Add(s.Floor)
}

// SnapshotsOf are rows as retention sees them.
func SnapshotsOf(rows []*catalog.Snapshot) []retention.Snapshot {
	snaps := make([]retention.Snapshot, len(rows))
	for i, r := range rows {
		snaps[i] = retention.Snapshot{Position: lineage.Position{Term: uint64(r.Term), Sequence: uint64(r.Sequence)},
			Taken: r.Began.Time, SeenUntil: r.SeenUntil.Time, End: r.OwnEnd.Time, Recalled: r.RecalledUntil.Time,
			OutOfTurn: r.OutOfTurn, LeftUntil: r.LeftUntil.Time}
		if r.KeepWhy != "" {
			snaps[i].Keep = &retention.Keep{Reason: r.KeepWhy, Until: r.KeepUntil.Time}
		}
		switch r.Cause {
		case "by hand":
			snaps[i].Kind = retention.ByHand
		case "safety":
			snaps[i].Kind = retention.Safety
		}
	}
	return snaps
}

// OwedFunc finds, by snapshot, the places that would keep it and do not have it yet.
type OwedFunc func(v *catalog.Volume, rs *Ruleset, rows []*catalog.Snapshot, snaps []retention.Snapshot,
	now time.Time) (map[string][]string, error)

// OwedLimit bounds how many snapshots of a volume wait for one far place; beyond it
// the oldest are let go, and the route's sentence tells of it.
const OwedLimit = 500

// FarVerdicts decides as a far place will by the rules proposed to it.
func FarVerdicts(rs *Ruleset, place string, snaps []retention.Snapshot, now time.Time) []retention.Verdict {
	plain := slices.Clone(snaps)
	for i := range plain {
		plain[i].OwedTo, plain[i].Recalled = nil, time.Time{}
	}
	return retention.Decide(plain, rs.Keep[place], now)
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
