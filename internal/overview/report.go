package overview

import (
	"cmp"
	"context"
	"slices"
	"time"

	"candidharbor/api"
	"candidharbor/core/objective"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/recovery"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
)

// Objectives tells how well objectives were met since a time, for every volume and place.
// A time before the volume was protected does not count.
func (s *Service) Objectives(ctx context.Context, since time.Time) (*api.Objectives, error) {
	now := s.Clock.Now()
	if since.IsZero() {
		since = now.AddDate(0, 0, -30)
	}
	if !since.Before(now) {
		return nil, refusal.Badf("the report must begin in the past: %s has not come yet", phrase.Stamp(since))
	}
	out := &api.Objectives{Site: s.Name(), Since: since, Until: now, Rows: []api.ObjectiveRow{}, Gaps: []api.GapReport{},
		Late: []api.LateStretch{}}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	for _, v := range vols {
		rs, err := s.rules.RulesFor(v)
		if err != nil {
			return nil, err
		}
		from := since
		if v.Added.After(from) {
			from = v.Added.Time
		}
		if !from.Before(now) {
			continue
		}
		gaps, err := s.Catalog.Gaps(v.Name, from, now)
		if err != nil {
			return nil, err
		}
		for _, g := range gaps {
			out.Gaps = append(out.Gaps, api.GapReport{Volume: v.Name, Due: g.Due.Time, Cause: g.Cause})
		}
		pauses, err := s.pausesOf(v, from, now)
		if err != nil {
			return nil, err
		}
		places, err := s.reportPlaces(v, rs)
		if err != nil {
			return nil, err
		}
		for _, place := range places {
			states, err := s.Catalog.States(v.Name, place, from, now)
			if err != nil {
				return nil, err
			}
			list := make([]objective.State, len(states))
			reached := 0
			for i, x := range states {
				list[i] = objective.State{Known: x.Known.Time, As: x.State.Time}
				if !x.Known.Before(from) {
					reached++
				}
			}
			m := objective.Measure(list, rs.Objectives[place], pauses, from, now)
			row := api.ObjectiveRow{Volume: v.Name, Place: place, ObjectiveSeconds: int64(rs.Objectives[place].Seconds()),
				OnTargetSeconds: int64(m.OnTarget.Seconds()),
				LateSeconds:     int64(m.Late.Seconds()), UnprotectedSeconds: int64(m.Unprotected.Seconds()),
				PausedSeconds: int64(m.Paused.Seconds()), LateCount: len(m.Stretches), WorstAgeSeconds: int64(m.WorstAge.Seconds()),
				States: reached}
			if !m.WorstAt.IsZero() {
				row.WorstAt = &m.WorstAt
			}
			row.OnTargetPercent = 100
			if asked := now.Sub(from) - m.Paused; asked > 0 {
				row.OnTargetPercent = 100 * m.OnTarget.Seconds() / asked.Seconds()
			}
			if place == s.Place() {
				row.Gaps = len(gaps)
			}
			for _, x := range m.Stretches {
				out.Late = append(out.Late, api.LateStretch{Volume: v.Name, Place: place, From: x.From, To: x.To, Open: x.Open})
			}
			out.Rows = append(out.Rows, row)
		}
	}
	if out.Drills, err = s.failover.DrillRows(since); err != nil {
		return nil, err
	}
	out.Recovery, err = s.recoveryRows(ctx, since)
	return out, err
}

// recoveryRows sums up the trials of restores since a time, here and the last ones elsewhere.
func (s *Service) recoveryRows(ctx context.Context, since time.Time) ([]api.RecoveryRow, error) {
	rows, err := s.Catalog.Runs(catalog.RunFilter{Kind: recovery.TrialKind, States: recovery.TrialStates,
		Limit: recovery.MostTrials})
	if err != nil {
		return nil, err
	}
	var all []api.Trial
	for _, r := range slices.Backward(rows) { // oldest first
		if !r.Ended.Before(since) {
			t, err := s.recovery.LastTestOf(r)
			if err != nil {
				return nil, err
			}
			all = append(all, t)
		}
	}
	for _, t := range s.recovery.TestsAtPeers(ctx) {
		if !t.At.Before(since) {
			all = append(all, t)
		}
	}
	out := []api.RecoveryRow{}
	at := map[[2]string]int{}
	for _, t := range all {
		key := [2]string{t.Volume, t.Site}
		i, ok := at[key]
		if !ok {
			i = len(out)
			at[key] = i
			out = append(out, api.RecoveryRow{Volume: t.Volume, Place: t.Site})
		}
		x := &out[i]
		x.Trials++
		if t.Good {
			x.Good++
		}
		x.LastAt, x.LastGood, x.LastSeconds, x.WorstSeconds = t.At, t.Good, t.WholeSeconds,
			max(x.WorstSeconds, t.WholeSeconds)
		x.ObjectiveSeconds = cmp.Or(t.ObjectiveSecs, x.ObjectiveSeconds)
	}
	slices.SortFunc(out, func(a, b api.RecoveryRow) int {
		return cmp.Or(cmp.Compare(a.Volume, b.Volume), cmp.Compare(a.Place, b.Place))
	})
	return out, nil
}

// pausesOf are the times in which a volume was paused, the present one included.
func (s *Service) pausesOf(v *catalog.Volume, from, now time.Time) ([]objective.Stretch, error) {
	rows, err := s.Catalog.Pauses(v.Name, from)
	if err != nil {
		return nil, err
	}
	var out []objective.Stretch
	for _, p := range rows {
		out = append(out, objective.Stretch{From: p.Since.Time, To: p.Until.Time})
	}
	if !v.Paused.IsZero() {
		out = append(out, objective.Stretch{From: v.Paused.Time, To: now})
	}
	return out, nil
}

// reportPlaces are the places where a volume has or should have copies, this one first.
func (s *Service) reportPlaces(v *catalog.Volume, rs *rules.Ruleset) ([]string, error) {
	places := []string{s.Place()}
	if !v.ActiveAt(s.Name()) {
		return places, nil
	}
	routes, err := s.Catalog.Routes()
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{s.Place(): true}
	for _, r := range routes {
		if r.Volumes.V.Holds(v) && !seen[r.Peer] {
			seen[r.Peer] = true
			places = append(places, r.Peer)
		}
	}
	known, err := s.Catalog.StatePlaces(v.Name)
	if err != nil {
		return nil, err
	}
	for _, p := range known {
		if !seen[p] {
			seen[p] = true
			places = append(places, p)
		}
	}
	return places, nil
}
