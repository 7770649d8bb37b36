package site

import (
	"encoding/hex"
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
	all []*compiled
}

type compiled struct {
	*policy.Policy
	row  *catalog.Policy // nil: proposed by the origin
	body string
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
		all = append(all, &compiled{p, r, r.Body})
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
	proposed   bool     // rules came from the origin, not from here
	paused     []string // policies that are
	recovery   time.Duration
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
	if len(mine) == 0 && v.Proposed != "" { // without, everything stays, whatever is offered
		rs.proposed = true
		if mine, err = proposedPolicies(v.Proposed); err != nil {
			return nil, fmt.Errorf("rules proposed for %s: %w", v.Name, err)
		}
		if v.Offered != "" { // what either keeps stays until a person has accepted
			more, err := proposedPolicies(v.Offered)
			if err != nil {
				return nil, fmt.Errorf("rules offered for %s: %w", v.Name, err)
			}
			mine = append(mine, more...)
		}
	}
	rs.combine(mine)
	return rs, nil
}

func (rs *ruleset) combine(mine []*compiled) {
	rs.policies, rs.keep, rs.objectives, rs.skip, rs.grace = mine, map[string][]retention.Rules{}, map[string]time.Duration{}, len(mine) > 0, 0
	for _, p := range mine {
		if p.Paused {
			rs.paused = append(rs.paused, p.Name)
		}
		if !rs.proposed && !p.Paused {
			rs.take = append(rs.take, p.Take...)
		}
		if p.Recovery > 0 && (rs.recovery == 0 || p.Recovery < rs.recovery) {
			rs.recovery = p.Recovery
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
	// A policy without rules for a place keeps everything there, and what is kept is the union.
	for place := range rs.keep {
		if slices.ContainsFunc(mine, func(p *compiled) bool { _, has := p.Keep[place]; return !has }) {
			delete(rs.keep, place)
		}
	}
	if len(mine) == 0 {
		rs.grace = policy.DefaultGrace
	}
}

// keepsAll returns the policies that keep everything at a place, because they have no rules
// for it, where another one has.
func (rs *ruleset) keepsAll(place string) (names []string) {
	others := false
	for _, p := range rs.policies {
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

// proposal is what policies ask of other places than this site's, as documents. They go
// along also to a place that they do not name, from where copies may go on to one.
func (rs *ruleset) proposal(here string) string {
	var bodies []string
	far := false
	for _, p := range rs.policies { // all of them: one that does not name a place keeps everything there
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
	mates    []string // volumes that share sets with it
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
			if slices.Contains(d.mates, v) {
				delete(c.byVolume, name)
			}
		}
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

// decideWith decides by given rules; sets are decided as one, by the present rules of the
// other volumes.
func (s *Site) decideWith(v *catalog.Volume, rs *ruleset, now time.Time) (*decided, error) {
	return s.decideAmong(v, rs, now, s.rulesFor)
}

func (s *Site) decideAmong(v *catalog.Volume, rs *ruleset, now time.Time, others func(*catalog.Volume) (*ruleset, error)) (*decided, error) {
	rows, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return nil, err
	}
	return s.decideRows(v, rows, rs, now, others)
}

func (s *Site) decideRows(v *catalog.Volume, rows []*catalog.Snapshot, rs *ruleset, now time.Time, others func(*catalog.Volume) (*ruleset, error)) (*decided, error) {
	d, err := s.decideAlone(v, rows, rs, now)
	if err != nil {
		return nil, err
	}
	return d, s.bySet(v, d, now, others)
}

func (s *Site) decideAlone(v *catalog.Volume, rows []*catalog.Snapshot, rs *ruleset, now time.Time) (*decided, error) {
	snaps := snapshotsOf(rows)
	owed, err := s.owedFar(v, rs, rows, snaps, now)
	if err != nil {
		return nil, err
	}
	used, err := s.clonesOf()
	if err != nil {
		return nil, err
	}
	for i := range snaps {
		snaps[i].OwedTo, snaps[i].UsedBy = owed[rows[i].ID], used[rows[i].ID]
	}
	for i, r := range rows {
		snaps[i].Floor = s.floorOf(r)
	}
	d := &decided{rows: rows, verdicts: retention.Decide(snaps, rs.at(s.Place(), v), now), byID: make(map[string]int, len(rows)), at: now}
	for i, r := range rows {
		d.byID[r.ID] = i
	}
	return d, nil
}

// at is what decides at a place of this site: a pause lets nothing go.
func (rs *ruleset) at(place string, v *catalog.Volume) []retention.Rules {
	rules := rs.keep[place]
	if len(rs.paused) > 0 || !v.Paused.IsZero() {
		return append(slices.Clone(rules), retention.Rules{Everything: true, Paused: true})
	}
	return rules
}

// floorOf is the time before which this place does not remove a snapshot.
func (s *Site) floorOf(r *catalog.Snapshot) time.Time {
	if s.floor == 0 {
		return time.Time{}
	}
	here := r.Ended.Time
	if !r.Arrived.IsZero() {
		here = r.Arrived.Time
	}
	return here.Add(s.floor)
}

func snapshotsOf(rows []*catalog.Snapshot) []retention.Snapshot {
	snaps := make([]retention.Snapshot, len(rows))
	for i, r := range rows {
		snaps[i] = retention.Snapshot{Position: lineage.Position{Term: uint64(r.Term), Sequence: uint64(r.Sequence)},
			Taken: r.Began.Time, SeenUntil: r.SeenUntil.Time, End: r.OwnEnd.Time, Recalled: r.RecalledUntil.Time, OutOfTurn: r.OutOfTurn}
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

// owedFunc finds, by snapshot, the places that would keep it and do not have it yet.
type owedFunc func(v *catalog.Volume, rs *ruleset, rows []*catalog.Snapshot, snaps []retention.Snapshot, now time.Time) (map[string][]string, error)

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
		if !s.carries(r, v) {
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
	return owed, s.owedToPullers(v, rs, rows, snaps, now, owed)
}

// owedToPullers adds what sites that take snapshots for themselves would keep, of what is
// newer than the newest that they told of.
func (s *Site) owedToPullers(v *catalog.Volume, rs *ruleset, rows []*catalog.Snapshot, snaps []retention.Snapshot, now time.Time, owed map[string][]string) error {
	reports, err := s.cat.Reports(v.Lineage)
	if err != nil {
		return err
	}
	for _, told := range reports {
		if len(rs.keep[told.Peer]) == 0 {
			continue
		}
		n, has := 0, lineage.Position{Term: uint64(told.Term), Sequence: uint64(told.Sequence)}
		for i, verdict := range farVerdicts(rs, told.Peer, snaps, now) {
			if verdict.Kept() && snaps[i].Position.Compare(has) > 0 && snaps[i].Kind != retention.Safety && rows[i].GraceUntil.IsZero() && n < owedLimit {
				owed[rows[i].ID] = append(owed[rows[i].ID], told.Peer)
				n++
			}
		}
	}
	return nil
}

// wantedFar lists what the far side of a route would keep and does not have, newest
// first.
func (s *Site) wantedFar(r *catalog.Route, v *catalog.Volume, rs *ruleset, rows []*catalog.Snapshot, snaps []retention.Snapshot, now time.Time) ([]*catalog.Snapshot, error) {
	carried, err := s.cat.CarriedBy(r.Name, s.Place(), v.Name)
	if err != nil {
		return nil, err
	}
	terms := r.Terms.V
	key, value, byLabel := strings.Cut(terms.Carry, "=")
	verdicts := farVerdicts(rs, r.Peer, snaps, now)
	sets, err := s.setsWantedFar(r, v, rows, now)
	if err != nil {
		return nil, err
	}
	var want []*catalog.Snapshot
	for i, row := range rows {
		chosen := terms.Carry == carryAll || verdicts[i].Kept() || sets[row.SetID]
		if byLabel {
			chosen = row.Labels.V[key] == value
		}
		if _, there := carried[row.ID]; !there && chosen && row.OutOfTurn == "" && row.Cause != "safety" && row.GraceUntil.IsZero() {
			want = append(want, row)
		}
	}
	slices.SortFunc(want, func(a, b *catalog.Snapshot) int {
		return lineage.Position{Term: uint64(b.Term), Sequence: uint64(b.Sequence)}.Compare(lineage.Position{Term: uint64(a.Term), Sequence: uint64(a.Sequence)})
	})
	return want, nil
}

// farVerdicts decides as a far place will by the rules proposed to it.
func farVerdicts(rs *ruleset, place string, snaps []retention.Snapshot, now time.Time) []retention.Verdict {
	plain := slices.Clone(snaps)
	for i := range plain {
		plain[i].OwedTo, plain[i].Recalled = nil, time.Time{}
	}
	return retention.Decide(plain, rs.keep[place], now)
}

// setsWantedFar are the sets of which the far side of a route would keep something else.
func (s *Site) setsWantedFar(r *catalog.Route, v *catalog.Volume, rows []*catalog.Snapshot, now time.Time) (map[string]bool, error) {
	if !slices.ContainsFunc(rows, func(r *catalog.Snapshot) bool { return r.SetID != "" }) {
		return nil, nil
	}
	mates, err := s.cat.SetMates(s.Place(), v.Name)
	if err != nil {
		return nil, err
	}
	sets := map[string]bool{}
	for _, name := range mates {
		mate, err := s.cat.Volume(name)
		if err != nil || !s.carries(r, mate) {
			continue
		}
		rs, err := s.rulesFor(mate)
		if err != nil {
			return nil, err
		}
		theirs, err := s.cat.Snapshots(s.Place(), name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, err
		}
		for i, verdict := range farVerdicts(rs, r.Peer, snapshotsOf(theirs), now) {
			if theirs[i].SetID != "" && verdict.Kept() && theirs[i].GraceUntil.IsZero() {
				sets[theirs[i].SetID] = true
			}
		}
	}
	return sets, nil
}

// lineageOf parses a lineage's column.
func lineageOf(text string) (id [16]byte) {
	b, _ := hex.DecodeString(text)
	copy(id[:], b)
	return id
}

func (s *Site) initRules() {
	s.marksCompared = make(chan struct{})
	s.onChanged = s.verdicts.drop
	s.setQuota = s.quotaOf
}
