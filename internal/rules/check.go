package rules

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/policy"
)

// CheckPolicy tells what is wrong with a document, what is hardly meant, and what it
// would let go at once, place by place.
func (s *Service) CheckPolicy(ctx context.Context, body string) (*api.PolicyCheck, error) {
	out := &api.PolicyCheck{Problems: []api.Problem{}, Hints: []api.Problem{}, Volumes: []string{}, Letting: []api.Going{}}
	p, err := policy.Parse(body)
	if err != nil {
		for _, pr := range err.(policy.Problems) {
			out.Problems = append(out.Problems, api.Problem(pr))
		}
		return out, nil
	}
	out.Name = p.Name
	if err := s.KnownHooks(p.Quiesce); err != nil {
		out.Problems = append(out.Problems, api.Problem{What: err.Error()})
		return out, nil
	}
	for _, h := range p.Hints {
		out.Hints = append(out.Hints, api.Problem(h))
	}
	if out.Volumes, out.Letting, err = s.lettingUnder(ctx, p.Name, &Compiled{Policy: p, Row: &catalog.Policy{Name: p.Name,
		Body: body}}); err != nil {
		return nil, err
	}
	if len(out.Volumes) == 0 {
		out.Hints = append(out.Hints, api.Problem{What: "it chooses no volume yet: no volume here has these labels or names"})
	}
	if err := s.nameHints(out, p); err != nil {
		return nil, err
	}
	if err := errors.Join(s.placeHints(out, p), s.farHints(out, p)); err != nil {
		return nil, err
	}
	out.Bytes, err = s.FreedHere(out.Letting)
	return out, err
}

// nameHints warns of names that no volume here has.
func (s *Service) nameHints(out *api.PolicyCheck, p *policy.Policy) error {
	for _, n := range p.Names {
		if _, err := s.Catalog.Volume(n); errors.Is(err, catalog.ErrNone) {
			out.Hints = append(out.Hints, api.Problem{What: fmt.Sprintf("it names the volume %s, and there is none of that "+
				"name here: candid volume list tells those there are", n)})
		} else if err != nil {
			return err
		}
	}
	return nil
}

// FreedHere is what comes back at this place when snapshots go.
func (s *Service) FreedHere(going []api.Going) (int64, error) {
	var ids []string
	for _, g := range going {
		if g.Place == s.Place() {
			ids = append(ids, g.ID)
		}
	}
	return s.freed(ids)
}

// lettingUnder lists the volumes that a policy would choose, and what would be let go, if
// it took the place of the stored one of a name; nil stands for none.
func (s *Service) lettingUnder(ctx context.Context, name string, next *Compiled) (volumes []string, letting []api.Going,
	err error) {
	volumes, letting = []string{}, []api.Going{}
	all, err := s.CompiledPolicies()
	if err != nil {
		return nil, nil, err
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, nil, err
	}
	rules := func(v *catalog.Volume) (rs *Ruleset, was, is bool) {
		var mine []*Compiled
		for _, c := range all {
			switch {
			case !c.Holds(v):
			case c.Name == name:
				was = true
			default:
				mine = append(mine, c)
			}
		}
		if is = next != nil && next.Holds(v); is {
			mine = append(mine, next)
		}
		rs = &Ruleset{}
		rs.Combine(mine)
		return rs, was, is
	}
	then := func(v *catalog.Volume) (*Ruleset, error) {
		if rs, was, is := rules(v); was || is {
			return rs, nil
		}
		return s.RulesFor(v)
	}
	for _, v := range vols {
		if err := ctx.Err(); err != nil {
			return nil, nil, err
		}
		rs, was, is := rules(v)
		if is {
			volumes = append(volumes, v.Name)
		}
		if !was && !is {
			continue
		}
		going, err := s.Letting(v, rs, then)
		if err != nil {
			return nil, nil, err
		}
		letting = append(letting, going...)
	}
	return volumes, letting, nil
}

// Letting lists what other rules for a volume would let go that the present ones keep: at
// this place, and at those to which routes carried copies. others are the rules of the
// volumes that share sets with it.
func (s *Service) Letting(v *catalog.Volume, rs *Ruleset, others func(*catalog.Volume) (*Ruleset, error)) ([]api.Going,
	error) {
	now := s.Clock.Now()
	before, err := s.Decide(v)
	if err != nil {
		return nil, err
	}
	after, err := s.decideRows(v, before.Rows, rs, now, others)
	if err != nil {
		return nil, err
	}
	var out []api.Going
	going := func(row *catalog.Snapshot, place string, verdict retention.Verdict) {
		out = append(out, api.Going{ID: row.ID, Volume: v.Name, Place: place, Taken: row.Began.Time, What: "enters grace",
			Why: verdict.LetGo})
	}
	for i, row := range after.Rows {
		if before.Verdicts[i].Kept() && !after.Verdicts[i].Kept() && row.GraceUntil.IsZero() {
			going(row, s.Place(), after.Verdicts[i])
		}
	}
	if !v.ActiveAt(s.Name()) {
		return out, nil
	}
	old, err := s.RulesFor(v)
	if err != nil {
		return nil, err
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return nil, err
	}
	for _, r := range routes {
		if !r.Volumes.V.Holds(v) {
			continue
		}
		carried, err := s.Catalog.CarriedBy(r.Name, s.Place(), v.Name)
		if err != nil {
			return nil, err
		}
		var there []*catalog.Snapshot
		for _, row := range after.Rows {
			if _, ok := carried[row.ID]; ok {
				there = append(there, row)
			}
		}
		was := retention.Decide(SnapshotsOf(there), old.At(r.Peer, v), now)
		for i, verdict := range retention.Decide(SnapshotsOf(there), rs.At(r.Peer, v), now) {
			if was[i].Kept() && !verdict.Kept() {
				going(there[i], r.Peer, verdict)
			}
		}
	}
	return out, nil
}

// placeHints tells of places that no route reaches, and of times that never come.
func (s *Service) placeHints(out *api.PolicyCheck, p *policy.Policy) error {
	routes, err := s.Catalog.Routes()
	if err != nil {
		return err
	}
	peers, err := s.Catalog.Peers()
	if err != nil {
		return err
	}
	hint := func(format string, args ...any) {
		out.Hints = append(out.Hints, api.Problem{What: fmt.Sprintf(format, args...)})
	}
	for place, rules := range p.Keep {
		if place == s.Place() || strings.HasPrefix(place, s.Name()+"/") {
			continue
		}
		takes := func(p *catalog.Peer) bool { return p.Name == place && p.Grants.V.Read } // copies for itself
		if slices.ContainsFunc(routes, func(r *catalog.Route) bool { return r.Peer == place }) ||
			slices.ContainsFunc(peers, takes) {
			continue
		}
		if n := len(rules.Milestones); n > 0 {
			hint("milestone %s is kept at %s, but no route goes there: nothing reaches it", rules.Milestones[0].Name, place)
			continue
		}
		hint("%s is to keep copies, but no route goes there: nothing reaches it", place)
	}
	for _, c := range p.Take {
		if _, ok := c.Next(s.Clock.Now()); !ok && !c.AtStart() {
			hint("%s never comes due any more", c)
		}
	}
	for place, d := range p.Objectives {
		if place != s.Place() && d < time.Minute {
			hint("an objective of %s at %s is shorter than any carry takes", retention.Words(d), place)
		}
	}
	slices.SortFunc(out.Hints, func(a, b api.Problem) int { return a.Line - b.Line })
	return nil
}

// DiffPolicy compares a document with the stored one of its name.
func (s *Service) DiffPolicy(ctx context.Context, body string) (*api.PolicyDiff, error) {
	check, err := s.CheckPolicy(ctx, body)
	if err != nil {
		return nil, err
	}
	d := &api.PolicyDiff{Check: *check, Lines: []api.DiffLine{}}
	old := ""
	if row, err := s.Catalog.Policy(check.Name); err == nil && len(check.Problems) == 0 {
		old, d.Version = row.Body, row.Version
	}
	d.Lines = diffLines(strings.Split(strings.TrimRight(old, "\n"), "\n"), strings.Split(strings.TrimRight(body, "\n"),
		"\n"))
	if old == "" {
		d.Lines = slices.DeleteFunc(d.Lines, func(l api.DiffLine) bool { return l.Sign == "-" })
	}
	return d, nil
}

// diffLines compares by a longest common subsequence. Documents are short; of long ones
// all lines are reported.
func diffLines(a, b []string) []api.DiffLine {
	if len(a)*len(b) > 4<<20 {
		var out []api.DiffLine
		for _, l := range a {
			out = append(out, api.DiffLine{Sign: "-", Text: l})
		}
		for _, l := range b {
			out = append(out, api.DiffLine{Sign: "+", Text: l})
		}
		return out
	}
	lcs := make([][]int, len(a)+1)
	for i := range lcs {
		lcs[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for k := len(b) - 1; k >= 0; k-- {
			if a[i] == b[k] {
				lcs[i][k] = lcs[i+1][k+1] + 1
			} else {
				lcs[i][k] = max(lcs[i+1][k], lcs[i][k+1])
			}
		}
	}
	out := []api.DiffLine{}
	i, k := 0, 0
	for i < len(a) || k < len(b) {
		switch {
		case i < len(a) && k < len(b) && a[i] == b[k]:
			out = append(out, api.DiffLine{Sign: " ", Text: a[i]})
			i, k = i+1, k+1
		case i < len(a) && (k == len(b) || lcs[i+1][k] >= lcs[i][k+1]):
			out = append(out, api.DiffLine{Sign: "-", Text: a[i]})
			i++
		default:
			out = append(out, api.DiffLine{Sign: "+", Text: b[k]})
			k++
		}
	}
	return out
}

// PolicyHistory lists all versions of a policy, newest first.
func (s *Service) PolicyHistory(name string) ([]api.PolicyVersion, error) {
	rows, err := s.Catalog.PolicyVersions(name)
	out := make([]api.PolicyVersion, len(rows))
	for i, r := range rows {
		out[i] = api.PolicyVersion{Version: r.Version, Changed: r.Changed.Time, ChangedBy: r.ChangedBy, Body: r.Body,
			Removed: r.Body == ""}
	}
	return out, err
}
