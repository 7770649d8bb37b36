package rules

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
)

const (
	capVolume = "volume"
	capPlace  = "place"
	capPeer   = "peer"

	OldestGoes = "oldest goes"

	// capSays begins the reason of what went because of a cap.
	capSays = "over the cap of "
)

func capName(c *catalog.Cap) string { return c.Scope + " " + c.Name }

func capWords(c *catalog.Cap) string {
	var parts []string
	if c.Snapshots > 0 {
		parts = append(parts, phrase.Many(c.Snapshots, "snapshot"))
	}
	if c.Bytes > 0 {
		parts = append(parts, phrase.Size(c.Bytes))
	}
	return strings.Join(parts, " and ")
}

// PutCap sets an upper bound.
func (s *Service) PutCap(ask api.CapPut) (*api.Cap, error) {
	c := &catalog.Cap{Scope: ask.Scope, Name: ask.Name, Snapshots: ask.Snapshots, Bytes: ask.Bytes, Reached: ask.Reached}
	switch c.Scope {
	case capVolume:
		if _, err := s.Catalog.Volume(c.Name); err != nil {
			return nil, err
		}
	case capPeer:
		if _, err := s.Catalog.Peer(c.Name); err != nil {
			return nil, err
		}
	case capPlace:
		if c.Name != s.Place() {
			return nil, refusal.Badf("place %q is not one of this site: its place is %s", c.Name, s.Place())
		}
	default:
		return nil, refusal.Badf("a cap is of a volume, a peer or a place, not of %q", c.Scope)
	}
	if c.Snapshots < 0 || c.Bytes < 0 || (c.Snapshots == 0 && c.Bytes == 0) {
		return nil, refusal.Badf("the cap of %s bounds nothing: give a number of snapshots, of bytes, or both", capName(c))
	}
	if c.Reached == "" {
		c.Reached = datadir.StopTaking
	}
	if c.Reached != OldestGoes && c.Reached != datadir.StopTaking {
		return nil, refusal.Badf("when the cap of %s is reached, either %q or %q; not %q", capName(c), OldestGoes,
			datadir.StopTaking, c.Reached)
	}
	if err := s.Catalog.PutCap(c); err != nil {
		return nil, err
	}
	s.run.Changed("snapshots")
	return s.capView(c)
}

// RemoveCap takes an upper bound away.
func (s *Service) RemoveCap(scope, name string) (string, error) {
	if err := s.Catalog.RemoveCap(scope, name); err != nil {
		return "", err
	}
	s.run.Changed("snapshots")
	return fmt.Sprintf("There is no cap of %s %s any more. What it let go stays in grace.", scope, name), nil
}

// Caps lists the upper bounds with what there is.
func (s *Service) Caps() ([]api.Cap, error) {
	rows, err := s.Catalog.Caps()
	if err != nil {
		return nil, err
	}
	return catalog.Each(rows, s.capView)
}

func (s *Service) capView(c *catalog.Cap) (*api.Cap, error) {
	rows, err := s.capped(c)
	if err != nil {
		return nil, err
	}
	unique, err := s.freed(idsOf(rows))
	if err != nil {
		return nil, err
	}
	v := &api.Cap{Scope: c.Scope, Name: c.Name, Snapshots: c.Snapshots, Bytes: c.Bytes, Reached: c.Reached,
		HasSnapshots: len(rows), HasBytes: unique}
	v.IsReached = c.Snapshots > 0 && len(rows) >= c.Snapshots || c.Bytes > 0 && unique >= c.Bytes
	has := phrase.Many(len(rows), "snapshot")
	if c.Bytes > 0 {
		has += " with " + phrase.Size(unique) + phrase.Pick(len(rows), " of its own", " of their own")
	}
	v.Sentence = fmt.Sprintf("At most %s; there %s %s.", capWords(c), phrase.Pick(len(rows), "is", "are"), has)
	switch {
	case c.Reached == OldestGoes:
		v.Sentence += " Beyond it the oldest enter grace, except those marked to keep, under the floor, owed, and the newest."
	case v.IsReached:
		v.Sentence += " Nothing more is taken until " + phrase.Pick(len(rows), "it goes.", "some of them go.")
	default:
		v.Sentence += " When it is reached nothing more is taken."
	}
	return v, nil
}

func idsOf(rows []*catalog.Snapshot) []string {
	ids := make([]string, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	return ids
}

func (s *Service) isUnder(c *catalog.Cap, v *catalog.Volume) bool {
	switch c.Scope {
	case capVolume:
		return v.Name == c.Name
	case capPeer:
		return v.Origin == c.Name || v.Via == c.Name
	}
	return true
}

// capped lists the snapshots that a cap counts, oldest first: those in grace are on their
// way already.
func (s *Service) capped(c *catalog.Cap) ([]*catalog.Snapshot, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	var out []*catalog.Snapshot
	for _, v := range vols {
		if !s.isUnder(c, v) {
			continue
		}
		rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			if r.GraceUntil.IsZero() {
				out = append(out, r)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b *catalog.Snapshot) int { return a.Began.Compare(b.Began.Time) })
	return out, nil
}

// Full says why nothing more of a volume is taken or taken in, empty when it is, and how
// many bytes more may come; 0: any.
func (s *Service) Full(v *catalog.Volume) (why string, room int64, err error) {
	caps, err := s.Catalog.Caps()
	if err != nil {
		return "", 0, err
	}
	for _, c := range caps {
		if c.Reached != datadir.StopTaking || !s.isUnder(c, v) {
			continue
		}
		view, err := s.capView(c)
		if err != nil {
			return "", 0, err
		}
		if view.IsReached {
			return fmt.Sprintf("the cap of %s is reached: %s", capName(c), strings.TrimSuffix(view.Sentence, ".")), 0, nil
		}
		if left := c.Bytes - view.HasBytes; c.Bytes > 0 && (room == 0 || left < room) {
			room = left
		}
	}
	return "", room, nil
}

// untouchable reports whether something keeps a snapshot that no cap undercuts.
func untouchable(v retention.Verdict) bool {
	return slices.ContainsFunc(v.Reasons, func(r retention.Reason) bool {
		switch r.Rule {
		case retention.RuleKeepMark, retention.RuleFloor, retention.RuleOwed, retention.RuleInUse,
			retention.RuleNewestComplete, retention.RuleRecalled, retention.RulePaused, retention.RuleLeftBehind:
			return true
		}
		return false
	})
}

// overCaps lists what the caps let go of what the rules keep, with why. going is what goes
// anyway.
func (s *Service) overCaps(verdicts map[string]retention.Verdict, going map[string]bool) ([]pruneStep, error) {
	caps, err := s.Catalog.Caps()
	if err != nil {
		return nil, err
	}
	var steps []pruneStep
	for _, c := range caps {
		if c.Reached != OldestGoes {
			continue
		}
		rows, err := s.capped(c)
		if err != nil {
			return nil, err
		}
		rows = slices.DeleteFunc(rows, func(r *catalog.Snapshot) bool { return going[r.ID] })
		// What arrived out of turn displaces nothing: it goes before what is older.
		slices.SortStableFunc(rows, func(a, b *catalog.Snapshot) int { return cmp.Compare(turnOf(a), turnOf(b)) })
		var may [][]*catalog.Snapshot // sets go as a whole
		seen := map[string]bool{}
		for _, r := range rows {
			set, err := s.Set(r)
			if err != nil {
				return nil, err
			}
			if seen[r.ID] || slices.ContainsFunc(set, func(m *catalog.Snapshot) bool {
				v, known := verdicts[m.ID]
				return !known || untouchable(v)
			}) {
				continue
			}
			for _, m := range set {
				seen[m.ID] = true
			}
			may = append(may, set)
		}
		n, err := s.fewest(c, rows, may)
		if err != nil {
			return nil, err
		}
		why := fmt.Sprintf("%s%s: at most %s", capSays, capName(c), capWords(c))
		for _, set := range may[:n] {
			for _, m := range set {
				if m.GraceUntil.IsZero() && !going[m.ID] {
					going[m.ID] = true
					steps = append(steps, pruneStep{row: m, cause: object.ExpiredByCap, why: why})
				}
			}
		}
	}
	return steps, nil
}

// turnOf is 0 for what arrived out of turn and 1 for everything else.
func turnOf(r *catalog.Snapshot) int {
	if r.OutOfTurn != "" {
		return 0
	}
	return 1
}

// fewest is how many of the sets that may go must go, from the front, for a cap to be
// kept, or all when that is not enough.
func (s *Service) fewest(c *catalog.Cap, rows []*catalog.Snapshot, may [][]*catalog.Snapshot) (int, error) {
	over := func(n int) (bool, error) {
		gone := map[string]bool{}
		for _, set := range may[:n] {
			for _, m := range set {
				gone[m.ID] = true
			}
		}
		var left []object.ID
		for _, r := range rows {
			if !gone[r.ID] {
				id, err := object.ParseID(r.ID)
				if err != nil {
					return false, err
				}
				left = append(left, id)
			}
		}
		if c.Snapshots > 0 && len(left) > c.Snapshots {
			return true, nil
		}
		if c.Bytes == 0 || len(left) == 0 {
			return false, nil
		}
		bytes, err := s.Store.Freed(left)
		return bytes > c.Bytes, err
	}
	lo, hi := 0, len(may)
	for lo < hi {
		mid := (lo + hi) / 2
		is, err := over(mid)
		if err != nil {
			return 0, err
		}
		if is {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return lo, nil
}

// usageEvery is how often it is noted how full the store is, and usageKept for how long.
const (
	usageEvery = 6 * time.Hour
	usageKept  = 400 * 24 * time.Hour
	trendOver  = 60 * 24 * time.Hour
)

// quotaOf bounds what a peer brings.
func (s *Service) quotaOf(peer string, bytes int64) error {
	_, err := s.PutCap(api.CapPut{Scope: capPeer, Name: peer, Bytes: bytes, Reached: datadir.StopTaking})
	return err
}
