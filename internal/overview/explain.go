package overview

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/retention"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
)

// Explain says in sentences what answers for a moment of a volume and why; without a
// moment, what protects the volume and by which rules.
func (s *Service) Explain(volume, at string) (*api.Explanation, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return nil, err
	}
	out := &api.Explanation{Volume: volume, Sentences: []string{}, Gaps: []api.GapReport{}}
	if at == "" {
		return out, s.explainVolume(out, v)
	}
	return out, s.explainMoment(out, v, at)
}

func (s *Service) explainVolume(out *api.Explanation, v *catalog.Volume) error {
	say := func(format string, args ...any) { out.Sentences = append(out.Sentences, fmt.Sprintf(format, args...)) }
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return err
	}
	now := s.Clock.Now()
	switch {
	case v.ActiveSite() == authority.Nobody:
		say("It is not known who is active of %s; nothing is taken of it here until that is said: candid authority show %s.",
			v.Name, v.Name)
	case !v.ActiveAt(s.Name()):
		say("%s holds copies of a volume of the site %s; it is taken at %s.", v.Name, v.Origin, v.ActiveSite())
	case !v.Protected:
		say("%s was removed: nothing is taken of it any more. What it has stays until removed for itself.", v.Name)
	case !v.Paused.IsZero():
		say("%s is paused since %s: nothing is taken, and nothing it has here expires.", v.Name, phrase.Stamp(v.Paused.Time))
	}
	if len(rs.Policies) == 0 {
		say("No policy chooses it: nothing is taken by itself, and everything it has stays.")
	}
	for _, p := range rs.Policies {
		switch {
		case rs.Proposed:
			say("Its rules here come from %s, as policy %s there; no policy of this site chooses it.", v.Origin, p.Name)
		case slices.Contains(p.Names, v.Name):
			say("Policy %s chooses it by name.", p.Name)
		default:
			say("Policy %s chooses it, because it has %s.", p.Name, phrase.LabelWords(p.Labels))
		}
		if p.Paused {
			say("Policy %s is paused: it takes nothing, and what it chooses does not expire.", p.Name)
		}
		for _, c := range p.Take {
			if next, ok := c.Next(now); ok && !p.Paused && !rs.Proposed {
				if _, least, looks := c.OnChange(); looks {
					if _, _, told := s.capture.ChangedSince(v); told {
						say("It takes %s. Changes are told by the change journal; it also notes every %s that nothing changed, next %s.",
							c, retention.Words(least), phrase.Stamp(next))
					} else {
						say("It takes %s. Changes are looked for every %s, because no change journal vouches for it (%s); next %s.", c,
							retention.Words(least), s.capture.WhyNoJournal(v), phrase.Stamp(next))
					}
					continue
				}
				say("It takes %s; next %s.", c, phrase.Stamp(next))
			} else if c.AtStart() && !p.Paused && !rs.Proposed {
				say("It takes one whenever the service starts.")
			}
		}
	}
	if err := s.explainGroup(v, rs, say); err != nil {
		return err
	}
	if v.Offered != "" {
		less, err := s.rules.Loosened(v, v.Offered)
		if err != nil {
			return err
		}
		say("%s proposes to keep less here: %s. Until that is accepted, with candid volume accept-rules %s, what either "+
			"the old or the new rules keep stays.", v.Origin, strings.Join(less, "; "), v.Name)
	}
	if len(rs.Policies) > 1 && !rs.Proposed {
		say("With %d policies, the cadences of all apply and what any of them keeps is kept; the longest grace counts "+
			"(%s), the strictest objective, and unchanged states are skipped only if all of them skip.",
			len(rs.Policies), retention.Words(rs.Grace))
	}
	named := map[string]bool{}
	for _, p := range rs.Policies {
		for place := range p.Keep {
			named[place] = true
		}
	}
	for _, place := range slices.Sorted(maps.Keys(named)) {
		if all := rs.KeepsAll(place); len(all) > 0 {
			say("At %s everything stays: %s %s no rules for it, and what any policy keeps is kept.", place,
				strings.Join(all, ", "), phrase.HasOrHave(len(all)))
			continue
		}
		var rules []string
		for i := range rs.Keep[place] {
			rules = append(rules, rs.Keep[place][i].String())
		}
		say("At %s it keeps %s.", place, strings.Join(rules, ", and "))
	}
	if !named[s.Place()] && len(rs.Policies) > 0 {
		say("Of %s they say nothing: everything stays here.", s.Place())
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return err
	}
	for _, r := range routes {
		if s.routes.Carries(r, v) && !named[r.Peer] && len(rs.Policies) > 0 {
			say("Of %s they say nothing: everything that comes there stays.", r.Peer)
			named[r.Peer] = true // another route to it says no more
		}
	}
	if s.Floor > 0 {
		say("Nothing is removed here before %s have passed: the floor of this place.", s.Conf.Floor)
	}
	for _, place := range slices.Sorted(maps.Keys(rs.Objectives)) {
		say("Its newest state at %s may get %s old.", place, retention.Words(rs.Objectives[place]))
	}
	d, err := s.rules.Decide(v)
	if err != nil {
		return err
	}
	counts := map[retention.Rule]int{}
	for i := range d.Rows {
		rules := map[retention.Rule]bool{} // two policies can keep one for two reasons of a kind
		for _, r := range d.Verdicts[i].Reasons {
			rules[r.Rule] = true
		}
		for r := range rules {
			counts[r]++
		}
	}
	var parts []string
	for _, rule := range []retention.Rule{retention.RuleNewest, "hourly", "daily", "weekly", "monthly", "yearly",
		retention.RuleMilestone, retention.RuleByHand, retention.RuleForSafety, retention.RuleKeepMark,
		retention.RuleRecalled,
		retention.RuleFloor, retention.RuleOwed, retention.RuleInUse, retention.RuleDatedAhead, retention.RuleOutOfTurn,
		retention.RuleLeftBehind, retention.RulePaused, retention.RuleNoRules} {
		if n := counts[rule]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d as %s", n, rule))
		}
	}
	if len(d.Rows) > 0 {
		say("Of its %s here are kept: %s. One may be kept for several reasons.", phrase.Many(len(d.Rows), "snapshot"),
			strings.Join(parts, ", "))
	}
	return nil
}

func (s *Service) explainMoment(out *api.Explanation, v *catalog.Volume, at string) error {
	say := func(format string, args ...any) { out.Sentences = append(out.Sentences, fmt.Sprintf(format, args...)) }
	row, answer, err := s.rules.Moment(v, at)
	if err != nil {
		var e *refusal.Error
		if t, terr := time.Parse(time.RFC3339Nano, at); terr == nil && errors.As(err, &e) && e.Class == refusal.Missing {
			out.At = &t
			say("%s.", phrase.UpperFirst(err.Error()))
			return nil
		}
		return err
	}
	moment := row.Began.Time
	if t, err := time.Parse(time.RFC3339Nano, at); err == nil {
		moment = t
	}
	out.At, out.Answer = &moment, answer
	view, err := s.rules.SnapshotView(row, nil)
	if err != nil {
		return err
	}
	out.Snapshot = view
	say("%s answers for it: %s.", row.ID[:12], answer)
	switch {
	case view.State == "in grace":
		say("It is in grace until %s, because: %s. To keep it: candid snapshot recall %s", phrase.Stamp(row.GraceUntil.Time),
			row.LetGo, row.ID[:12])
	case len(view.Reasons) == 0:
		say("No rule keeps it any more: %s. The next pruning sends it into grace.", view.LetGo)
	default:
		say("It is kept here as %s.", strings.Join(view.Reasons, ", and as "))
		if view.Ends != nil {
			say("The rules let it go about %s.", phrase.Stamp(*view.Ends))
		} else {
			say("It has no expected end.")
		}
	}
	if err := s.explainFar(say, v, row); err != nil {
		return err
	}
	gaps, err := s.Catalog.Gaps(v.Name, rules.NewestState(row), moment)
	if err != nil {
		return err
	}
	for _, g := range gaps {
		out.Gaps = append(out.Gaps, api.GapReport{Volume: v.Name, Due: g.Due.Time, Cause: g.Cause})
	}
	if n := len(gaps); n > 0 {
		say("Between it and the moment %s missed, the last one of %s: %s.", phrase.ManyWere(n, "due time"),
			phrase.Stamp(gaps[n-1].Due.Time), gaps[n-1].Cause)
	}
	return nil
}

// explainFar says why the snapshot is, or is not, at the far places.
func (s *Service) explainFar(say func(string, ...any), v *catalog.Volume, row *catalog.Snapshot) error {
	if !v.ActiveAt(s.Name()) {
		return nil
	}
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return err
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return err
	}
	for _, r := range routes {
		if !r.Volumes.V.Holds(v) {
			continue
		}
		rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return err
		}
		carried, err := s.Catalog.CarriedBy(r.Name, s.Place(), v.Name)
		if err != nil {
			return err
		}
		k, there := carried[row.ID]
		verdicts := retention.Decide(rules.SnapshotsOf(rows), rs.Keep[r.Peer], s.Clock.Now())
		for i, other := range rows {
			if other.ID != row.ID {
				continue
			}
			why := "no rule there wants it: " + verdicts[i].LetGo
			if verdicts[i].Kept() {
				why = "kept there as " + verdicts[i].Reasons[0].String()
			}
			switch {
			case there:
				say("%s has it since %s; by the rules proposed to it, %s.", r.Peer, phrase.Stamp(k.At.Time), why)
			case verdicts[i].Kept():
				say("%s does not have it yet; it is owed, to be %s.", r.Peer, why)
			default:
				say("%s does not have it, and %s.", r.Peer, why)
			}
		}
	}
	return nil
}
