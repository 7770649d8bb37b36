package retention

import (
	"slices"
	"time"

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
	OwedTo    []string  // places that want it and do not have it
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

// Rules is what one policy keeps at one place.
type Rules struct {
	Zone       *time.Location
	Newest     int
	Count      [numTiers]int
	ByHand     time.Duration // how long a hand-made one without its own end stays; 0: until removed
	Everything bool          // a place without rules keeps everything
}

// SafetyPeriod is how long a safety snapshot stays.
const SafetyPeriod = 7 * 24 * time.Hour

// Reason says why a snapshot is kept.
type Reason struct {
	Rule   string    // newest, hourly … yearly, by hand, safety, recalled, owed, newest complete, no rules
	Bucket time.Time // start of the newest bucket it stands for, tiers only
	Rank   int       // 1 is the newest
	Of     int       // how many the rule keeps
	Until  time.Time // expected end; zero: not known or none
	Place  string    // owed only
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
func Decide(snaps []Snapshot, rules []Rules, now time.Time) []Verdict {
	out := make([]Verdict, len(snaps))
	order := newestFirst(snaps)
	scheduled := make([]int32, 0, len(order))
	for _, i := range order {
		if snaps[i].Kind == Scheduled {
			scheduled = append(scheduled, i)
		}
	}
	everything := len(rules) == 0
	for _, r := range rules {
		everything = everything || r.Everything
	}
	if everything {
		for i := range out {
			out[i].Reasons = append(out[i].Reasons, Reason{Rule: "no rules"})
		}
	}
	for _, r := range rules {
		if !r.Everything {
			r.apply(snaps, scheduled, now, out)
		}
	}
	own(snaps, rules, now, out)
	if len(order) > 0 {
		first := order[0]
		out[first].Reasons = append(out[first].Reasons, Reason{Rule: "newest complete"})
	}
	words := letGoWords(rules)
	for i := range out {
		if !out[i].Kept() {
			out[i].LetGo = words[snaps[i].Kind]
		}
	}
	return out
}

func newestFirst(snaps []Snapshot) []int32 {
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
	order := make([]int32, len(snaps))
	for i := range keys {
		order[i] = keys[i].index
	}
	return order
}

func (r *Rules) apply(snaps []Snapshot, scheduled []int32, now time.Time, out []Verdict) {
	spacing := typicalSpacing(snaps, scheduled)
	for rank, i := range scheduled[:min(r.Newest, len(scheduled))] {
		reason := Reason{Rule: "newest", Rank: rank + 1, Of: r.Newest}
		if spacing > 0 {
			reason.Until = snaps[scheduled[0]].seen().Add(time.Duration(r.Newest-rank) * spacing)
		}
		out[i].Reasons = append(out[i].Reasons, reason)
	}
	for _, t := range Tiers() {
		if r.Count[t] > 0 {
			r.tier(t, snaps, scheduled, now, out)
		}
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

func (s *Snapshot) seen() time.Time {
	if s.SeenUntil.After(s.Taken) {
		return s.SeenUntil
	}
	return s.Taken
}

// tier walks from the newest position down. A bucket belongs to the first snapshot
// that stands in it. Buckets are claimed as a growing run towards the past; only
// clocks that ran backwards make a hole in it, which the set of claims then fills.
func (r *Rules) tier(t Tier, snaps []Snapshot, scheduled []int32, now time.Time, out []Verdict) {
	cal := calendar{zone: r.Zone, tier: t}
	claimed := make(map[int64]struct{})
	var low, high int64 // all buckets in [low, high] are claimed once begun
	begun := false
	limit := r.Count[t]
	found := 0
	current := cal.bucket(now)
	for _, i := range scheduled {
		s := &snaps[i]
		from, to := cal.bucket(s.Taken), cal.bucket(s.seen())
		newest, any := int64(0), false
		switch {
		case !begun:
			low, high, begun = from, to, true
			newest, any = to, true
		case from >= low && to <= high:
		default:
			for b := to; b >= from; b-- {
				if b >= low && b <= high {
					b = low // skip what is claimed
					continue
				}
				if _, taken := claimed[b]; taken {
					continue
				}
				if !any {
					newest, any = b, true
				}
				if b == low-1 {
					low = b
				} else {
					claimed[b] = struct{}{}
				}
			}
		}
		if !any {
			continue
		}
		found++
		reason := Reason{Rule: t.String(), Bucket: cal.start(newest), Rank: found, Of: limit}
		reason.Until = cal.start(max(current, newest) + int64(limit-found) + 1)
		out[i].Reasons = append(out[i].Reasons, reason)
		if found == limit {
			return
		}
		if len(claimed) > 0 {
			for {
				if _, ok := claimed[low-1]; !ok {
					break
				}
				delete(claimed, low-1)
				low--
			}
		}
	}
}

// own applies the ends that snapshots have of themselves, and what is owed.
func own(snaps []Snapshot, rules []Rules, now time.Time, out []Verdict) {
	byHand, forever := time.Duration(0), len(rules) == 0
	for _, r := range rules {
		byHand = max(byHand, r.ByHand)
		forever = forever || r.ByHand == 0
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
				add(Reason{Rule: "by hand", Until: end})
			}
		case Safety:
			if end := s.Taken.Add(SafetyPeriod); now.Before(end) {
				add(Reason{Rule: "safety", Until: end})
			}
		}
		if now.Before(s.Recalled) {
			add(Reason{Rule: "recalled", Until: s.Recalled})
		}
		for _, p := range s.OwedTo {
			add(Reason{Rule: "owed", Place: p})
		}
	}
}
