package policy

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/retention"
)

const mostKept = 1_000_000

// weekStarts returns the days from Monday to the day on which weeks begin.
func (r *reader) weekStarts(name string) int {
	if name == "" {
		return 0
	}
	for d := range 7 {
		w := strings.ToLower(time.Weekday((d + 1) % 7).String())
		if name = strings.ToLower(name); name == w || name == w[:3] {
			return d
		}
	}
	r.at("$.week_starts", fmt.Errorf("week_starts: %q is no weekday: write monday, sunday or another", name))
	return 0
}

func (r *reader) keep(place string, k placeRules, p *Policy, shift int) {
	path := "$.keep." + place
	if err := CheckPlace(place); err != nil {
		r.at("$.keep", err)
	}
	rules := retention.Rules{Zone: p.Zone, WeekShift: shift}
	any := false
	if k.Newest != nil {
		any = true
		if rules.Newest = *k.Newest; rules.Newest < 1 || rules.Newest > mostKept {
			r.at(path+".newest", fmt.Errorf("newest: %d keeps nothing or too much: give 1 to %d, or leave it out", rules.Newest,
				mostKept))
		}
	}
	for t, v := range values(k) {
		if v == nil {
			continue
		}
		any = true
		step, err := parseStep(fmt.Sprint(v))
		if err == nil && step.For > 0 && step.For < bucketLength(t) {
			err = fmt.Errorf("for %s is shorter than what one of them stands for: give at least %s", retention.Words(step.For),
				retention.Words(bucketLength(t)))
		}
		if err != nil {
			r.at(path+"."+t.String(), fmt.Errorf("%s: %w", t, err))
		}
		rules.Tiers[t] = step
	}
	for name, into := range map[string]*time.Duration{"by_hand": &rules.ByHand, "safety": &rules.Safety} {
		text := k.ByHand
		if name == "safety" {
			text = k.Safety
		}
		if text == "" {
			continue
		}
		d, err := retention.ParseDuration(text)
		if err != nil {
			r.at(path+"."+name, err)
		}
		*into = d
	}
	if !any {
		r.at("$.keep", fmt.Errorf("%s keeps nothing: give newest or a tier, or leave the place out to keep everything there",
			place))
	}
	r.reachable(path, &rules, p)
	p.Keep[place] = rules
}

func values(k placeRules) map[retention.Tier]any {
	return map[retention.Tier]any{retention.Hourly: k.Hourly, retention.Daily: k.Daily, retention.Weekly: k.Weekly,
		retention.Monthly: k.Monthly, retention.Yearly: k.Yearly}
}

// parseStep reads "14", "for 30 days", "first 8" or "first for 1 year".
func parseStep(text string) (s retention.Step, err error) {
	rest, first := strings.CutPrefix(strings.TrimSpace(text), "first ")
	if !first {
		rest, _ = strings.CutPrefix(rest, "last ")
	}
	s.First = first
	rest = strings.TrimSpace(rest)
	if long, ok := strings.CutPrefix(rest, "for "); ok {
		s.For, err = retention.ParseDuration(long)
		return s, err
	}
	if s.Count, err = strconv.Atoi(rest); err != nil {
		return s, fmt.Errorf("%q: write how many, such as 14, or for how long, such as for 30 days; first in front keeps "+
			"the first of each", text)
	}
	if s.Count < 1 || s.Count > mostKept {
		return s, fmt.Errorf("%d keeps nothing or too much: give 1 to %d, or leave it out", s.Count, mostKept)
	}
	return s, nil
}

func bucketLength(t retention.Tier) time.Duration {
	const day = 24 * time.Hour
	return map[retention.Tier]time.Duration{retention.Hourly: time.Hour, retention.Daily: day, retention.Weekly: 7 * day,
		retention.Monthly: 30 * day, retention.Yearly: 365 * day}[t]
}

// span is how far back a step usually reaches.
func span(t retention.Tier, s retention.Step) time.Duration {
	if s.For > 0 {
		return s.For
	}
	return time.Duration(s.Count) * bucketLength(t)
}

// reachable refuses a tier that cannot keep more than a wider one does, and hints at one
// that lies wholly within a narrower one.
func (r *reader) reachable(path string, rules *retention.Rules, p *Policy) {
	typical := fastest(p.Take)
	for _, t := range retention.Tiers() {
		if rules.Tiers[t] == (retention.Step{}) {
			continue
		}
		if length := bucketLength(t); typical > length && t < retention.Yearly && typical >= bucketLength(t+1) {
			r.at(path+"."+t.String(), fmt.Errorf("%s: snapshots come only every %s, so it keeps the same ones as %s; leave "+
				"it out or take more often", t, retention.Words(typical), t+1))
		}
		for n := retention.Hourly; n < t; n++ {
			if narrow := rules.Tiers[n]; narrow != (retention.Step{}) && narrow.First == rules.Tiers[t].First &&
				span(n, narrow) >= span(t, rules.Tiers[t]) {
				r.hint(path+"."+t.String(), "%s %s reaches no further back than %s %s, which keeps the same and more: it "+
					"adds nothing", t, rules.Tiers[t], n, narrow)
				break
			}
		}
	}
}

func (r *reader) milestones(d *document, p *Policy) {
	names := map[string]bool{}
	for i, m := range d.Milestones {
		path := fmt.Sprintf("$.milestones[%d]", i)
		if err := CheckName("milestone", m.Name); err != nil {
			r.at(path, err)
		} else if names[m.Name] {
			r.at(path+".name", fmt.Errorf("milestone %q is there twice: give each its own name", m.Name))
		}
		names[m.Name] = true
		on, err := cadence.ParseDays(m.On)
		if err != nil {
			r.at(path+".on", err)
		}
		long, err := retention.ParseDuration(m.For)
		if err != nil {
			r.at(path+".for", err)
		}
		if len(d.Keep) == 0 {
			r.at(path, errors.New("the policy has no keep, so every place keeps everything and a milestone adds nothing: say "+
				"what to keep, or leave the milestone out"))
			continue
		}
		places := m.At
		if len(places) == 0 {
			for place := range p.Keep {
				places = append(places, place)
			}
		}
		for _, place := range places {
			rules, ok := p.Keep[place]
			if !ok {
				r.at(path+".at", fmt.Errorf("milestone %s is at %s, for which keep says nothing, so everything stays there: add "+
					"%s to keep, or take it out here", m.Name, place, place))
				continue
			}
			if daily := rules.Tiers[retention.Daily]; long > 0 && span(retention.Daily, daily) >= long {
				r.hint(path+".for", "milestone %s for %s reaches no further back than daily %s at %s: it adds nothing", m.Name,
					retention.Words(long), daily, place)
			}
			rules.Milestones = append(slices.Clone(rules.Milestones), retention.Milestone{Name: m.Name, On: on, For: long})
			p.Keep[place] = rules
		}
	}
}

// objective hints at an objective that the cadence cannot meet.
func (r *reader) objective(place string, d time.Duration, p *Policy) {
	if slowest := fastest(p.Take); slowest > d && d > 0 {
		r.hint("$.objectives."+place, "the objective for %s is %s, but snapshots come only every %s: it will be missed "+
			"between them", place, retention.Words(d), retention.Words(slowest))
	}
}

// CheckPlace refuses what cannot be the name of a place: a site, or a store at one.
func CheckPlace(place string) error {
	name, store, both := strings.Cut(place, "/")
	err := CheckName("place", name)
	if err == nil && both {
		err = CheckName("place", store)
	}
	return err
}
