package recovery

import (
	"fmt"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
)

const (
	marksShown   = 5000
	plannedShown = 200
)

// Timeline tells what the time ruler shows of a volume between two instants.
func (s *Service) Timeline(volume string, from, to time.Time) (*api.Timeline, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return nil, err
	}
	if !from.Before(to) {
		return nil, refusal.Badf("the stretch of time must begin before it ends")
	}
	d, err := s.rules.Decide(v)
	if err != nil {
		return nil, err
	}
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return nil, err
	}
	now := s.Clock.Now()
	out := &api.Timeline{Volume: volume, From: from, To: to, Lanes: []api.Lane{}, Gaps: []api.GapSpan{},
		Planned: []time.Time{}}
	out.Lanes = append(out.Lanes, laneOf(s.Place(), d.Rows, d.Verdicts, from, to, nil))
	routes, err := s.Catalog.Routes()
	if err != nil {
		return nil, err
	}
	for _, r := range routes {
		if !r.Volumes.V.Holds(v) || !v.ActiveAt(s.Name()) {
			continue
		}
		carried, err := s.Catalog.CarriedBy(r.Name, s.Place(), v.Name)
		if err != nil {
			return nil, err
		}
		// The far side decides for itself; this is what its rules keep of what it got.
		plain := rules.SnapshotsOf(d.Rows)
		verdicts := retention.Decide(plain, rs.Keep[r.Peer], now)
		out.Lanes = append(out.Lanes, laneOf(r.Peer, d.Rows, verdicts, from, to, carried))
	}
	if out.Gaps, err = s.gapSpans(v.Name, from, to); err != nil {
		return nil, err
	}
	if v.Protected && v.ActiveAt(s.Name()) {
		at := now
		for len(out.Planned) < plannedShown {
			next, ok := rs.Next(at)
			if !ok || next.After(to) {
				break
			}
			out.Planned = append(out.Planned, next)
			at = next
		}
	}
	return out, nil
}

func laneOf(place string, rows []*catalog.Snapshot, verdicts []retention.Verdict, from, to time.Time,
	carried map[string]catalog.Carried) api.Lane {
	lane := api.Lane{Place: place, Marks: []api.TickMark{}}
	for i, r := range rows {
		k, there := carried[r.ID]
		if carried != nil && (!there || !verdicts[i].Kept()) {
			continue
		}
		seen := r.SeenUntil.Time
		if carried != nil {
			seen = k.SeenUntil.Time
		}
		if seen.Before(r.Began.Time) {
			seen = r.Began.Time
		}
		if seen.Before(from) || r.Began.After(to) {
			continue
		}
		m := api.TickMark{ID: r.ID, Taken: r.Began.Time, SeenUntil: seen, State: "kept", Tier: "none"}
		if t, ok := verdicts[i].Widest(); ok {
			m.Tier = t.String()
		} else if len(verdicts[i].Reasons) > 0 {
			m.Tier = string(verdicts[i].Reasons[0].Rule)
		}
		if end, ok := verdicts[i].Ends(); ok {
			m.Ends = &end
		}
		m.Keep, m.Why = r.KeepWhy, whyWords(verdicts[i])
		if carried == nil && !r.GraceUntil.IsZero() {
			m.State, m.Ends = "in grace", r.GraceUntil.Ptr()
		}
		lane.Marks = append(lane.Marks, m)
		if len(lane.Marks) == marksShown {
			break
		}
	}
	return lane
}

// whyWords says in one line why a snapshot stays.
func whyWords(v retention.Verdict) string {
	const most = 3
	var out []string
	for i, r := range v.Reasons {
		if i == most {
			out = append(out, fmt.Sprintf("and %d more reasons", len(v.Reasons)-most))
			break
		}
		out = append(out, r.String())
	}
	if len(out) == 0 {
		return v.LetGo
	}
	return strings.Join(out, "; ")
}

// gapSpans joins missed due times of one cause into stretches.
func (s *Service) gapSpans(volume string, from, to time.Time) ([]api.GapSpan, error) {
	gaps, err := s.Catalog.Gaps(volume, from, to)
	if err != nil {
		return nil, err
	}
	spans := []api.GapSpan{}
	for _, g := range gaps {
		if n := len(spans); n > 0 && spans[n-1].Cause == g.Cause && g.Due.Sub(spans[n-1].To) < 36*time.Hour {
			spans[n-1].To, spans[n-1].Count = g.Due.Time, spans[n-1].Count+1
			continue
		}
		spans = append(spans, api.GapSpan{From: g.Due.Time, To: g.Due.Time, Count: 1, Cause: g.Cause})
	}
	return spans, nil
}
