package retention

import (
	"fmt"
	"slices"
	"time"
)

// Less says in words where new rules keep less than old ones, judged by the rules alone,
// whatever snapshots there are. None at all keeps everything. Empty: nowhere.
func Less(old, now []Rules) []string {
	switch {
	case len(now) == 0 || slices.ContainsFunc(now, func(r Rules) bool { return r.Everything }):
		return nil
	case len(old) == 0 || slices.ContainsFunc(old, func(r Rules) bool { return r.Everything }):
		return []string{"everything was kept, and now only " + joined(now)}
	}
	var out []string
	for i := range old {
		o := &old[i]
		if !slices.ContainsFunc(now, func(n Rules) bool { return n.WeekShift == o.WeekShift && sameZone(n.Zone, o.Zone) }) {
			out = append(out, fmt.Sprintf("hours, days and weeks of %s become those of %s, so others stand for them", o.Zone,
				now[0].Zone))
		}
		if !slices.ContainsFunc(now, func(n Rules) bool { return n.Newest >= o.Newest }) {
			out = append(out, fmt.Sprintf("newest %d becomes %s", o.Newest, orNothing(most(now, func(n *Rules) int {
				return n.Newest
			}))))
		}
		for _, t := range Tiers() {
			step := o.Tiers[t]
			if step == (Step{}) || slices.ContainsFunc(now, func(n Rules) bool {
				return n.WeekShift == o.WeekShift && sameZone(n.Zone, o.Zone) && n.Tiers[t].covers(step)
			}) {
				continue
			}
			becomes := "nothing"
			for k := range now {
				if s := now[k].Tiers[t].String(); s != "" {
					becomes = s
				}
			}
			out = append(out, fmt.Sprintf("%s %s becomes %s", t, step, becomes))
		}
		for _, m := range o.Milestones {
			if !slices.ContainsFunc(now, func(n Rules) bool {
				return slices.ContainsFunc(n.Milestones, func(x Milestone) bool {
					return x.On.String() == m.On.String() && x.For >= m.For
				})
			}) {
				out = append(out, fmt.Sprintf("milestone %s for %s goes or gets shorter", m.Name, Words(m.For)))
			}
		}
		if forever := o.ByHand == 0; !slices.ContainsFunc(now, func(n Rules) bool {
			return n.ByHand == 0 || (!forever && n.ByHand >= o.ByHand)
		}) {
			out = append(out, "snapshots by hand stay for a shorter time")
		}
		if o.Safety > SafetyPeriod && !slices.ContainsFunc(now, func(n Rules) bool { return n.Safety >= o.Safety }) {
			out = append(out, "safety snapshots stay for a shorter time")
		}
	}
	return out
}

// covers reports whether a step keeps at least what another of its tier does, whatever
// there is. A count and a duration cannot be compared.
func (s Step) covers(o Step) bool {
	return s.First == o.First && (s.Count > 0) == (o.Count > 0) && s.Count >= o.Count && s.For >= o.For
}

func sameZone(a, b *time.Location) bool { return a.String() == b.String() }

func most(rules []Rules, f func(*Rules) int) (n int) {
	for i := range rules {
		n = max(n, f(&rules[i]))
	}
	return n
}

func orNothing(n int) string {
	if n == 0 {
		return "nothing"
	}
	return fmt.Sprint(n)
}

func joined(rules []Rules) string {
	text := ""
	for i := range rules {
		if i > 0 {
			text += ", and "
		}
		text += rules[i].String()
	}
	return text
}
