// Package objective measures how old the newest state at a place was over time, against
// how old it may get: the recovery point objective.
package objective

import (
	"slices"
	"time"
)

// State is one that came to be known at a place: from Known on, the place could bring
// back the volume as it was at As.
type State struct{ Known, As time.Time }

// Stretch is a time in which the newest state was older than the objective.
type Stretch struct {
	From, To time.Time
	Open     bool // it went on at the end
}

// Result is how a stretch of time went. The four durations add up to it.
type Result struct {
	OnTarget, Late, Unprotected time.Duration
	Paused                      time.Duration // a state was there, and none was asked for
	Stretches                   []Stretch
	WorstAge                    time.Duration
	WorstAt                     time.Time
}

// Measure goes through [from, to). Nothing is known before the first state. An objective
// of 0 is always met once a state is there. In a pause nothing is late.
func Measure(states []State, objective time.Duration, pauses []Stretch, from, to time.Time) (r Result) {
	states = slices.Clone(states)
	slices.SortFunc(states, func(a, b State) int { return a.Known.Compare(b.Known) })
	at := from
	var newest time.Time // zero: none
	step := func(until time.Time) {
		if newest.IsZero() {
			r.Unprotected += until.Sub(at)
			at = until
			return
		}
		if age := until.Sub(newest); age > r.WorstAge {
			r.WorstAge, r.WorstAt = age, until
		}
		late := newest.Add(objective)
		if objective == 0 || late.After(until) {
			late = until
		}
		if late.Before(at) {
			late = at
		}
		r.OnTarget += late.Sub(at)
		if until.After(late) {
			r.Late += until.Sub(late)
			if n := len(r.Stretches); n > 0 && r.Stretches[n-1].To.Equal(late) {
				r.Stretches[n-1].To = until
			} else {
				r.Stretches = append(r.Stretches, Stretch{From: late, To: until})
			}
		}
		at = until
	}
	advance := func(until time.Time) {
		if until.After(to) {
			until = to
		}
		for until.After(at) {
			end, paused := until, false
			for _, p := range pauses {
				switch {
				case !p.From.After(at) && p.To.After(at): // within it
					paused = true
					if p.To.Before(end) {
						end = p.To
					}
				case p.From.After(at) && p.From.Before(end):
					end = p.From
				}
			}
			if !paused || newest.IsZero() {
				step(end)
				continue
			}
			r.Paused += end.Sub(at)
			at = end
		}
	}
	for _, s := range states {
		if s.Known.After(to) {
			break
		}
		if s.As.After(s.Known) { // nobody knows the future
			s.As = s.Known
		}
		if !s.As.After(newest) {
			continue
		}
		advance(s.Known)
		newest = s.As
	}
	advance(to)
	if n := len(r.Stretches); n > 0 {
		r.Stretches[n-1].Open = r.Stretches[n-1].To.Equal(to)
	}
	return r
}
