package retention

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// String says the reason as part of a sentence: "kept as …".
func (r Reason) String() string {
	switch r.Rule {
	case RuleNewest:
		return fmt.Sprintf("number %d of the newest %d", r.Rank, r.Of)
	case RuleNewestComplete:
		return "the newest complete snapshot here"
	case RuleByHand:
		return "made by hand"
	case RuleForSafety:
		return "a safety snapshot"
	case RuleRecalled:
		return "recalled from grace"
	case RuleKeepMark:
		return "marked to keep: " + r.Text
	case RuleFloor:
		return "nothing is removed here so early"
	case RuleDatedAhead:
		return "dated in the future, it displaces nothing until then"
	case RuleOutOfTurn:
		return "out of turn, it stands for nothing until it is admitted: " + r.Text
	case RuleLeftBehind:
		return "left behind when another site took over"
	case RuleOwed:
		return "owed to " + r.Place
	case RuleInUse:
		if strings.Contains(r.Place, " ") {
			return "in use by the " + r.Place
		}
		return "in use by the clone " + r.Place
	case RulePaused:
		return "paused, nothing is let go meanwhile"
	case RuleNoRules:
		return "no rules for this place, everything stays"
	case RuleSet:
		return "one of a set, of which " + r.Text
	case RuleMilestone:
		return fmt.Sprintf("milestone %s, for %s", r.Text, bucketName("daily", r.Bucket))
	}
	rule := string(r.Rule)
	if r.First {
		rule += " (the first)"
	}
	if r.For > 0 {
		return fmt.Sprintf("%s for %s, for %s", rule, Words(r.For), bucketName(r.Rule, r.Bucket))
	}
	return fmt.Sprintf("%s %d of %d, for %s", rule, r.Rank, r.Of, bucketName(r.Rule, r.Bucket))
}

// Ends returns the latest expected end over all reasons; known is false when a
// reason has none.
func (v Verdict) Ends() (end time.Time, known bool) {
	for _, r := range v.Reasons {
		if r.Until.IsZero() {
			return time.Time{}, false
		}
		if r.Until.After(end) {
			end = r.Until
		}
	}
	return end, len(v.Reasons) > 0
}

// Widest returns the widest tier that keeps the snapshot; ok is false when no tier does.
func (v Verdict) Widest() (t Tier, ok bool) {
	for _, r := range v.Reasons {
		for _, tier := range Tiers() {
			if r.Rule == Rule(tier.String()) && (!ok || tier > t) {
				t, ok = tier, true
			}
		}
	}
	return t, ok
}

// letGoWords says, by kind, what let a snapshot go that no rule keeps.
func letGoWords(rules []Rules) [3]string {
	return [3]string{
		Scheduled: scheduledWords(rules),
		ByHand:    "made by hand, its end has passed",
		Safety:    "a safety snapshot, its time is over",
	}
}

func scheduledWords(rules []Rules) string {
	var parts []string
	for i := range rules {
		parts = append(parts, rules[i].words()...)
	}
	if len(parts) == 0 {
		return "the rules here keep only the newest snapshot"
	}
	return "no longer within " + strings.Join(parts, ", ")
}

// words lists what counts and stands, narrow to wide.
func (r *Rules) words() []string {
	var parts []string
	for _, t := range Tiers() {
		if s := r.Tiers[t].String(); s != "" {
			parts = append(parts, t.String()+" "+s)
		}
	}
	if r.Newest > 0 {
		parts = append(parts, fmt.Sprintf("newest %d", r.Newest))
	}
	return parts
}

// String writes the rules on one line.
func (r *Rules) String() string {
	if r.Everything {
		return "everything"
	}
	parts := r.words()
	if n := len(parts); r.Newest > 0 && n > 1 { // newest reads best in front
		parts = append(parts[n-1:], parts[:n-1]...)
	}
	for i := range r.Milestones {
		m := &r.Milestones[i]
		parts = append(parts, fmt.Sprintf("milestone %s (%s) for %s", m.Name, m.On, Words(m.For)))
	}
	if r.ByHand > 0 {
		parts = append(parts, "by hand for "+Words(r.ByHand))
	}
	if r.Safety > 0 {
		parts = append(parts, "safety for "+Words(r.Safety))
	}
	return strings.Join(parts, ", ")
}

// String writes a step the way policies do; empty for one that keeps nothing.
func (s Step) String() string {
	text := ""
	switch {
	case s.Count > 0:
		text = fmt.Sprint(s.Count)
	case s.For > 0:
		text = "for " + Words(s.For)
	default:
		return ""
	}
	if s.First {
		text = "first " + text
	}
	return text
}

var units = []struct {
	name string
	d    time.Duration
}{{"year", 365 * 24 * time.Hour}, {"week", 7 * 24 * time.Hour}, {"day", 24 * time.Hour}, {"hour", time.Hour},
	{"minute", time.Minute}, {"second", time.Second}}

// ParseDuration reads a duration such as "90 minutes", "30 days" or "18 months". A
// month is 30 days, a year 365.
func ParseDuration(s string) (time.Duration, error) {
	n, unit, ok := strings.Cut(strings.TrimSpace(s), " ")
	unit = strings.TrimSuffix(strings.TrimSpace(unit), "s")
	if v, err := strconv.Atoi(n); ok && err == nil && v > 0 && v < 1_000_000 {
		if unit == "month" {
			unit, v = "day", v*30
		}
		for _, u := range units {
			if unit == u.name {
				if d := time.Duration(v) * u.d; d/u.d == time.Duration(v) {
					return d, nil
				}
			}
		}
	}
	return 0, fmt.Errorf("duration %q: write a number and seconds, minutes, hours, days, weeks, months or years, "+
		"such as 30 days", s)
}

// Words writes a duration the way ParseDuration reads it, in the largest unit that
// divides it.
func Words(d time.Duration) string {
	for _, u := range units {
		if d >= u.d && d%u.d == 0 && (u.name != "week" || d%(28*24*time.Hour) == 0) {
			if d == u.d {
				return "1 " + u.name
			}
			return fmt.Sprintf("%d %ss", d/u.d, u.name)
		}
	}
	return d.String()
}
