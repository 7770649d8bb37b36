// Package preview lives through time to come: it takes a snapshot whenever a cadence asks
// for one, lets go now and then what no rule keeps, and tells what would be left; how often
// it lets go makes no difference to that.
package preview

import (
	"math"
	"slices"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/lineage"
	"candidharbor/core/retention"
)

// Place is where copies are kept, by its own rules. None: everything stays.
type Place struct {
	Name  string
	Rules []retention.Rules
	Have  []retention.Snapshot // what is there at the beginning
	Grace time.Duration
}

// Growth describes a volume's space: what one state takes, and what a snapshot adds when
// it comes so long after the one before.
type Growth struct {
	Live    int64 // stored bytes of one state
	Added   int64 // stored bytes that a snapshot adds,
	Spacing time.Duration
}

// repeats says how the change between two states grows with the time between them:
// files that changed change again, so ten times as long is not ten times as much.
const repeats = 0.75

// Bytes estimates what a place's states take together at the time of a sample: one state
// whole, and for each step between two what changed, at most a whole state again.
func (g Growth) Bytes(s Sample) int64 {
	if s.Count == 0 {
		return 0
	}
	change := 0.0
	if g.Spacing > 0 {
		change = float64(g.Added) * s.Steps / math.Pow(g.Spacing.Hours(), repeats)
	}
	return g.Live + int64(min(change, float64(g.Live)*float64(s.Count-1)))
}

// steps adds up the distances between states, each in hours to the power repeats.
func steps(states []retention.Snapshot) (sum float64) {
	for i := 1; i < len(states); i++ {
		if gap := states[i].Taken.Sub(states[i-1].Taken); gap > 0 {
			sum += math.Pow(gap.Hours(), repeats)
		}
	}
	return sum
}

// Sample is how a place stands at one instant.
type Sample struct {
	At     time.Time
	Count  int
	Steps  float64 // for Growth.Bytes
	Oldest time.Time
}

// Kept is a snapshot that is left at the end.
type Kept struct {
	Taken   time.Time
	Reasons []retention.Reason
}

// Outlook is what a place would have.
type Outlook struct {
	Place   string
	Taken   int      // snapshots that came
	Samples []Sample // about a hundred, from the beginning to the end
	Ladder  []Kept   // newest first
}

// Run lives through due times from one instant to another. Sightings are not foreseen:
// every due time is taken as one at which something changed. Before it judges so many
// snapshots it asks spend, whose error ends it.
func Run(due []time.Time, places []Place, from, to time.Time, spend func(snapshots int) error) ([]Outlook, error) {
	out := make([]Outlook, len(places))
	for i, p := range places {
		var err error
		if out[i], err = p.live(due, from, to, spend); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// MostTaken bounds the due times: a snapshot every minute for a year.
const MostTaken = 600_000

// Due lists the due times of several cadences after from up to to, each once, ascending.
func Due(take []*cadence.Cadence, from, to time.Time, limit int) []time.Time {
	var due []time.Time
	for _, c := range take {
		n := 0
		for t := range c.Between(from, to) {
			if n++; n > limit {
				break
			}
			due = append(due, t)
		}
	}
	slices.SortFunc(due, time.Time.Compare)
	due = slices.CompactFunc(due, time.Time.Equal)
	return due[:min(len(due), limit)]
}

func (p *Place) live(due []time.Time, from, to time.Time, spend func(int) error) (Outlook, error) {
	o := Outlook{Place: p.Name, Taken: len(due)}
	have := slices.Clone(p.Have)
	slices.SortFunc(have, func(a, b retention.Snapshot) int { return a.Position.Compare(b.Position) })
	next := lineage.Position{Term: 1}
	if n := len(have); n > 0 {
		next = have[n-1].Position
	}
	days := max(1, int(to.Sub(from)/(24*time.Hour)))
	every := max(1, days/100)
	sample := func(at time.Time) {
		s := Sample{At: at, Count: len(have), Steps: steps(have)}
		if len(have) > 0 {
			s.Oldest = have[0].Taken
		}
		o.Samples = append(o.Samples, s)
	}
	sample(from)
	var verdicts []retention.Verdict
	for day := min(every, days); ; day = min(day+every, days) {
		at := from.Add(time.Duration(day) * 24 * time.Hour)
		if day == days {
			at = to
		}
		for len(due) > 0 && !due[0].After(at) {
			next = next.Next()
			have = append(have, retention.Snapshot{Position: next, Taken: due[0]})
			due = due[1:]
		}
		if err := spend(len(have)); err != nil {
			return o, err
		}
		// What expired within the grace before is still there.
		verdicts = retention.Decide(have, p.Rules, at.Add(-p.Grace))
		left := have[:0:0]
		kept := verdicts[:0:0]
		for i := range have {
			if verdicts[i].Kept() {
				left, kept = append(left, have[i]), append(kept, verdicts[i])
			}
		}
		have, verdicts = left, kept
		sample(at)
		if day == days {
			break
		}
	}
	if err := spend(len(have)); err != nil {
		return o, err
	}
	verdicts = retention.Decide(have, p.Rules, to)
	for i := len(have) - 1; i >= 0; i-- {
		if verdicts[i].Kept() {
			o.Ladder = append(o.Ladder, Kept{have[i].Taken, verdicts[i].Reasons})
		}
	}
	return o, nil
}
