package retention

import (
	"fmt"
	"strings"
	"time"
)

// String says the reason as part of a sentence: "kept as …".
func (r Reason) String() string {
	switch r.Rule {
	case "newest":
		return fmt.Sprintf("number %d of the newest %d", r.Rank, r.Of)
	case "newest complete":
		return "the newest complete snapshot here"
	case "by hand":
		return "made by hand"
	case "safety":
		return "a safety snapshot"
	case "recalled":
		return "recalled from grace"
	case "owed":
		return "owed to " + r.Place
	case "no rules":
		return "no rules for this place, everything stays"
	}
	return fmt.Sprintf("%s %d of %d, for %s", r.Rule, r.Rank, r.Of, bucketName(r.Rule, r.Bucket))
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
			if r.Rule == tier.String() && (!ok || tier > t) {
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
		Safety:    fmt.Sprintf("a safety snapshot older than %d days", int(SafetyPeriod.Hours()/24)),
	}
}

func scheduledWords(rules []Rules) string {
	var parts []string
	for _, r := range rules {
		for _, t := range Tiers() {
			if r.Count[t] > 0 {
				parts = append(parts, fmt.Sprintf("%s %d", t, r.Count[t]))
			}
		}
		if r.Newest > 0 {
			parts = append(parts, fmt.Sprintf("newest %d", r.Newest))
		}
	}
	if len(parts) == 0 {
		return "the rules here keep only the newest snapshot"
	}
	return "no longer within " + strings.Join(parts, ", ")
}
