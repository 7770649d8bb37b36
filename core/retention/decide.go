package retention

import (
	"slices"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/lineage"
)

// Kind is how a snapshot came about.
type Kind uint8

// The kinds that retention tells apart.
const (
	Scheduled Kind = iota
	ByHand
	Safety
)

// Snapshot is what Decide needs to know of one.
type Snapshot struct {
	Position  lineage.Position
	Taken     time.Time
	SeenUntil time.Time // zero: not seen again since it was taken
	Kind      Kind
	End       time.Time // a hand-made one's own end, when given
	Recalled  time.Time // taken back out of grace, to stay until then
	Floor     time.Time // the place removes nothing before then
	Keep      *Keep     // a keep mark
	OutOfTurn string    // why it stays and stands for nothing, of itself, until a person admits it
	LeftUntil time.Time // not zero: left behind when another site took over; it stays until then
	OwedTo    []string  // places that want it and do not have it
	UsedBy    []string  // clones that stand on it, by name, or what else does in several words
}

// Keep is a keep mark.
type Keep struct {
	Reason string
	Until  time.Time // zero: until let go by hand
}

// Tier is a retention step.
type Tier uint8

// The tiers, from narrow to wide.
const (
	Hourly Tier = iota
	Daily
	Weekly
	Monthly
	Yearly
	numTiers
)

var tierNames = [...]string{"hourly", "daily", "weekly", "monthly", "yearly"}

func (t Tier) String() string { return tierNames[t] }

// Tiers lists all tiers from narrow to wide.
func Tiers() []Tier { return []Tier{Hourly, Daily, Weekly, Monthly, Yearly} }

// Step says how many buckets of a tier are kept: the newest Count that have a snapshot,
// or all that are not older than For. The zero value keeps none.
type Step struct {
	Count int
	For   time.Duration
	First bool // the first of a bucket stands for it, not the last
}

// Milestone keeps the snapshot that stands at the end of chosen days, for long.
type Milestone struct {
	Name string
	On   *cadence.Days
	For  time.Duration
}

// Rules say what one policy keeps at one place.
type Rules struct {
	Zone       *time.Location
	WeekShift  int // days from Monday to the day on which weeks begin
	Newest     int
	Tiers      [numTiers]Step
	Milestones []Milestone
	ByHand     time.Duration // how long a hand-made one without its own end stays; 0: until removed
	Safety     time.Duration // how long a safety snapshot stays; 0: SafetyPeriod
	Everything bool          // a place without rules keeps everything
	Paused     bool          // the reason for Everything is a pause
}

// SafetyPeriod is how long a safety snapshot stays unless rules say otherwise.
const SafetyPeriod = 7 * 24 * time.Hour

// Ahead is how far in the future a snapshot may be dated before it is taken for wrong:
// clocks of sites differ a little.
const Ahead = 5 * time.Minute

// Rule is the code of what keeps a snapshot: one of these, or the name of a tier.
type Rule string

// The rules beside tiers.
const (
	RuleNewest         Rule = "newest"
	RuleNewestComplete Rule = "newest complete"
	RuleByHand         Rule = "by hand"
	RuleForSafety      Rule = "safety"
	RuleRecalled       Rule = "recalled"
	RuleKeepMark       Rule = "keep mark"
	RuleFloor          Rule = "floor"
	RuleDatedAhead     Rule = "dated ahead"
	RuleOutOfTurn      Rule = "out of turn"
	RuleLeftBehind     Rule = "left behind"
	RuleOwed           Rule = "owed"
	RuleInUse          Rule = "in use"
	RulePaused         Rule = "paused"
	RuleNoRules        Rule = "no rules"
	RuleSet            Rule = "set"
	RuleMilestone      Rule = "milestone"
)

// Reason says why a snapshot is kept.
type Reason struct {
	Rule   Rule
	Bucket time.Time     // start of the newest bucket it stands for, tiers and milestones only
	Rank   int           // 1 is the newest; tiers by count and newest only
	Of     int           // how many the rule keeps
	For    time.Duration // how long the rule keeps; tiers by duration and milestones only
	First  bool          // it stands for its bucket as the first, not the last
	Until  time.Time     // expected end; zero: not known or none
	Place  string        // owed only
	Text   string        // name of a milestone, reason of a keep mark
}

// Verdict is what was decided for one snapshot.
type Verdict struct {
	Reasons []Reason // none: expired
	LetGo   string   // when expired: the rule that last let it go, in words
}

// Kept reports whether any rule keeps the snapshot.
func (v Verdict) Kept() bool { return len(v.Reasons) > 0 }

// Decide returns a verdict for each snapshot, in the order given. Several rules are
// the union of what each keeps. No rules at all keep everything.
//
// Snapshots made by hand and safety snapshots neither count nor stand for a bucket; nor
// do those dated in the future, which stay until the clock has passed them, and those that
// arrived out of turn, which stay until a person admits them. What was left behind stays until its time, whatever
// its kind.
func Decide(snaps []Snapshot, rules []Rules, now time.Time) []Verdict {
	out := make([]Verdict, len(snaps))
	order := newestFirst(snaps)
	scheduled := make([]int32, 0, len(order))
	latest := now.Add(Ahead)
	for _, i := range order {
		switch {
		case !snaps[i].LeftUntil.IsZero():
			if now.Before(snaps[i].LeftUntil) {
				out[i].Reasons = append(out[i].Reasons, Reason{Rule: RuleLeftBehind, Until: snaps[i].LeftUntil})
			}
		case snaps[i].Kind != Scheduled:
		case snaps[i].OutOfTurn != "":
			out[i].Reasons = append(out[i].Reasons, Reason{Rule: RuleOutOfTurn, Text: snaps[i].OutOfTurn})
		case snaps[i].Taken.After(latest):
			out[i].Reasons = append(out[i].Reasons, Reason{Rule: RuleDatedAhead, Until: snaps[i].Taken})
		default:
			scheduled = append(scheduled, i)
		}
	}
	why := Rule("")
	if len(rules) == 0 {
		why = RuleNoRules
	}
	for i := range rules {
		if rules[i].Everything && rules[i].Paused {
			why = RulePaused
		} else if rules[i].Everything {
			why = RuleNoRules
		}
	}
	if why != "" {
		for i := range out {
			out[i].Reasons = append(out[i].Reasons, Reason{Rule: why})
		}
	}
	for i := range rules {
		if !rules[i].Everything {
			rules[i].apply(snaps, scheduled, now, out)
		}
	}
	own(snaps, rules, now, out)
	if i := slices.IndexFunc(order, func(i int32) bool {
		return snaps[i].OutOfTurn == "" && snaps[i].LeftUntil.IsZero()
	}); i >= 0 {
		out[order[i]].Reasons = append(out[order[i]].Reasons, Reason{Rule: RuleNewestComplete})
	}
	words := letGoWords(rules)
	for i := range out {
		if !out[i].Kept() {
			out[i].LetGo = words[snaps[i].Kind]
			if !snaps[i].LeftUntil.IsZero() {
				out[i].LetGo = "left behind, its time is over"
			}
		}
	}
	return out
}

func newestFirst(snaps []Snapshot) []int32 {
	order := make([]int32, len(snaps))
	sorted := true // as those of one origin come
	for i := range order {
		order[i] = int32(i)
		sorted = sorted && (i == 0 || snaps[i].Position.Compare(snaps[i-1].Position) < 0)
	}
	if sorted {
		return order
	}
	// Positions are sorted beside their indexes: comparing through an index would
	// fetch two far places in memory each time.
	type placed struct {
		lineage.Position
		index int32
	}
	keys := make([]placed, len(snaps))
	for i := range snaps {
		keys[i] = placed{snaps[i].Position, int32(i)}
	}
	slices.SortFunc(keys, func(a, b placed) int { return b.Position.Compare(a.Position) })
	for i := range keys {
		order[i] = keys[i].index
	}
	return order
}

func (r *Rules) apply(snaps []Snapshot, scheduled []int32, now time.Time, out []Verdict) {
	spacing := typicalSpacing(snaps, scheduled)
	for rank, i := range scheduled[:min(r.Newest, len(scheduled))] {
		reason := Reason{Rule: RuleNewest, Rank: rank + 1, Of: r.Newest}
		if spacing > 0 {
			reason.Until = snaps[scheduled[0]].seen(now).Add(time.Duration(r.Newest-rank) * spacing)
		}
		out[i].Reasons = append(out[i].Reasons, reason)
	}
	for _, t := range Tiers() {
		switch {
		case r.Tiers[t].Count == 0 && r.Tiers[t].For == 0:
		case r.Tiers[t].First:
			r.firsts(t, snaps, scheduled, now, out)
		default:
			r.lasts(t, snaps, scheduled, now, out)
		}
	}
	for i := range r.Milestones {
		r.milestone(&r.Milestones[i], snaps, scheduled, now, out)
	}
}

func typicalSpacing(snaps []Snapshot, scheduled []int32) time.Duration {
	n := min(len(scheduled), 16)
	if n < 2 {
		return 0
	}
	d := snaps[scheduled[0]].Taken.Sub(snaps[scheduled[n-1]].Taken)
	return max(0, d/time.Duration(n-1))
}

// seen is up to when the snapshot is known to stand; nobody has seen the future.
func (s *Snapshot) seen(now time.Time) time.Time {
	t := s.SeenUntil
	if t.After(now) {
		t = now
	}
	if t.After(s.Taken) {
		return t
	}
	return s.Taken
}

// own applies the ends that snapshots have of themselves, marks, floors and what is owed.
func own(snaps []Snapshot, rules []Rules, now time.Time, out []Verdict) {
	byHand, forever, safety := time.Duration(0), len(rules) == 0, time.Duration(0)
	for i := range rules {
		byHand = max(byHand, rules[i].ByHand)
		forever = forever || rules[i].ByHand == 0
		safety = max(safety, rules[i].Safety)
	}
	if safety == 0 {
		safety = SafetyPeriod
	}
	for i := range snaps {
		s := &snaps[i]
		add := func(r Reason) { out[i].Reasons = append(out[i].Reasons, r) }
		switch s.Kind {
		case ByHand:
			end := s.End
			if end.IsZero() && !forever {
				end = s.Taken.Add(byHand)
			}
			if end.IsZero() || now.Before(end) {
				add(Reason{Rule: RuleByHand, Until: end})
			}
		case Safety:
			if end := s.Taken.Add(safety); now.Before(end) {
				add(Reason{Rule: RuleForSafety, Until: end})
			}
		}
		if now.Before(s.Recalled) {
			add(Reason{Rule: RuleRecalled, Until: s.Recalled})
		}
		if s.Keep != nil && (s.Keep.Until.IsZero() || now.Before(s.Keep.Until)) {
			add(Reason{Rule: RuleKeepMark, Until: s.Keep.Until, Text: s.Keep.Reason})
		}
		if now.Before(s.Floor) {
			add(Reason{Rule: RuleFloor, Until: s.Floor})
		}
		for _, p := range s.OwedTo {
			add(Reason{Rule: RuleOwed, Place: p})
		}
		for _, name := range s.UsedBy {
			add(Reason{Rule: RuleInUse, Place: name})
		}
	}
}
