package rules

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
)

const mostAtOnce = 1000 // snapshots of one call

// RemoveAtOnce removes snapshots without grace, with the sets that they are of: all of them, or none. Whoever asks
// types whose they are, as a dry run tells it.
func (s *Service) RemoveAtOnce(ask api.RemoveAtOnce, by string) (*api.RemovedAtOnce, error) {
	if len(ask.Snapshots) == 0 || len(ask.Snapshots) > mostAtOnce {
		return nil, refusal.Badf("name 1 to %d snapshots", mostAtOnce)
	}
	s.Store.MakeRoom()
	free, err := s.toRemove()
	if err != nil {
		return nil, err
	}
	defer free()
	rows, err := s.goingAtOnce(ask.Snapshots)
	if err != nil {
		return nil, err
	}
	ids, volumes := make([]string, len(rows)), []string{}
	roots := make([]object.ID, len(rows))
	out := &api.RemovedAtOnce{DryRun: ask.DryRun, Going: make([]api.Going, len(rows)), StayAt: []string{}}
	for i, m := range rows {
		if roots[i], err = object.ParseID(m.ID); err != nil {
			return nil, err
		}
		ids[i] = m.ID
		out.Going[i] = api.Going{ID: m.ID, Volume: m.Volume, Place: m.Place, Taken: m.Began.Time, What: string(removes),
			Why: RemovedByHand + " at once"}
		if !slices.Contains(volumes, m.Volume) {
			volumes = append(volumes, m.Volume)
		}
	}
	if out.Type = volumes[0]; len(volumes) > 1 {
		out.Type = phrase.Many(len(volumes), "volume")
	}
	if out.Bytes, err = s.Store.Freed(roots); err != nil {
		return nil, err
	}
	at, err := s.Catalog.CarriedTo(ids)
	if err != nil {
		return nil, err
	}
	for _, id := range ids {
		for _, site := range at[id] {
			if !slices.Contains(out.StayAt, site) {
				out.StayAt = append(out.StayAt, site)
			}
		}
	}
	out.Sentence = atOnceWords(out, volumes)
	if ask.DryRun {
		return out, nil
	}
	if ask.Type != out.Type {
		return nil, refusal.Badf("nothing is removed: to confirm it, type %q, not %q", out.Type, ask.Type)
	}
	if err := s.goAtOnce(rows, roots, ids); err != nil {
		return nil, err
	}
	s.Log.Warn("snapshots were removed at once, without grace", "by", by, "snapshots", ids, "volumes", volumes)
	s.run.Changed("snapshots", volumes...)
	return out, nil
}

// goingAtOnce returns the snapshots that go, each once, or says why one of them may not.
func (s *Service) goingAtOnce(ids []string) (rows []*catalog.Snapshot, err error) {
	seen, decisions := map[string]bool{}, map[string]*decided{}
	for _, id := range ids {
		row, err := s.Catalog.Snapshot(id)
		if err != nil {
			return nil, err
		}
		if seen[row.ID] {
			continue
		}
		set, err := s.mayRemove(row)
		if err != nil {
			return nil, err
		}
		for _, m := range set {
			if seen[m.ID] {
				continue
			}
			if err := s.mayGoAtOnce(row, m, decisions); err != nil {
				return nil, err
			}
			seen[m.ID] = true
			rows = append(rows, m)
		}
	}
	return rows, nil
}

// mayGoAtOnce says what keeps a snapshot from going without grace, beyond what keeps it from being removed at all.
func (s *Service) mayGoAtOnce(row, m *catalog.Snapshot, decisions map[string]*decided) error {
	refuse := func(format string, args ...any) error {
		return refusal.Conflictf("snapshot %s%s %s. With grace it can go: candid snapshot remove %s", m.ID[:12],
			ofSet(row, m), fmt.Sprintf(format, args...), m.ID[:12])
	}
	if last, err := s.Catalog.LastSnapshot(m.Place, m.Lineage); err != nil {
		return err
	} else if last != nil && last.ID == m.ID {
		return refuse("is the newest state of %s here, from which it would be had back: take another one first", m.Volume)
	}
	v, err := s.Catalog.Volume(m.Volume)
	if err != nil {
		return err
	}
	d := decisions[v.Name]
	if d == nil {
		rs, err := s.RulesFor(v)
		if err != nil {
			return err
		}
		if d, err = s.DecideWith(v, rs, s.Clock.Now()); err != nil { // anew: what was owed may have arrived
			return err
		}
		decisions[v.Name] = d
	}
	verdict := d.Of(m)
	if verdict == nil {
		return nil
	}
	for _, r := range verdict.Reasons {
		switch r.Rule {
		case retention.RuleOwed:
			return refuse("is owed to %s, which does not have it yet", r.Place)
		case retention.RulePaused:
			return refuse("is of a paused volume, of which nothing is let go meanwhile")
		case retention.RuleLeftBehind:
			return refusal.Conflictf("snapshot %s%s was left behind when another site took over: candid left-behind remove %s",
				m.ID[:12], ofSet(row, m), m.ID[:12])
		}
	}
	return nil
}

// goAtOnce lets the grace of snapshots end, durably, and then removes them: a crash between the two leaves what the
// next pruning removes.
func (s *Service) goAtOnce(rows []*catalog.Snapshot, roots []object.ID, ids []string) error {
	now := s.Clock.Now()
	marks := make([]*object.Mark, len(rows))
	for i, m := range rows {
		var err error
		if marks[i], err = s.graceMark(m, now, object.ExpiredByHand, RemovedByHand); err != nil {
			return err
		}
		if next := m.Marked.Add(time.Nanosecond).UnixNano(); !m.Marked.IsZero() && next > marks[i].At {
			marks[i].At = next // marks are read in the order of their times
		}
	}
	if err := s.Store.PutMarks(marks); err != nil {
		return err
	}
	if err := s.Catalog.SetGrace(rows...); err != nil {
		return err
	}
	if err := s.Store.RemoveRoots(roots...); err != nil {
		return err
	}
	return s.Catalog.ForgetSnapshots(s.Place(), ids...)
}

func atOnceWords(out *api.RemovedAtOnce, volumes []string) string {
	what := phrase.Many(len(out.Going), "snapshot") + " of " + phrase.Names(volumes, 5)
	words := fmt.Sprintf("%s would be gone from here for good, without grace; a sweep would give back %s.", what,
		phrase.Size(out.Bytes))
	if !out.DryRun {
		words = fmt.Sprintf("%s %s gone from here, and nobody can recall %s. A sweep gives back %s: candid store sweep", what,
			phrase.Pick(len(out.Going), "is", "are"), phrase.Pick(len(out.Going), "it", "them"), phrase.Size(out.Bytes))
	}
	if len(out.StayAt) > 0 {
		words = strings.TrimSuffix(words, ".") + ". " + phrase.UpperFirst(phrase.Names(out.StayAt, 5)) +
			" may still have copies, which stay there."
	}
	return words
}
