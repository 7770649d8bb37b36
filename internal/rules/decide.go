package rules

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/core/lineage"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
)

// decided is a volume's snapshots at this place with their verdicts.
type decided struct {
	Rows       []*catalog.Snapshot // newest first
	Verdicts   []retention.Verdict
	at         time.Time
	ofSets     bool     // some were taken together with others
	setMembers []string // volumes that share sets with it
}

// Of returns the verdict on a snapshot; nil: none was decided.
func (d *decided) Of(r *catalog.Snapshot) *retention.Verdict {
	i, ok := slices.BinarySearchFunc(d.Rows, r, catalog.NewestFirst)
	if !ok || d.Rows[i].ID != r.ID { // its row is another than it was then, or is new
		i = slices.IndexFunc(d.Rows, func(o *catalog.Snapshot) bool { return o.ID == r.ID })
	}
	if i < 0 {
		return nil
	}
	return &d.Verdicts[i]
}

// verdictCache saves deciding again while nothing changed.
type verdictCache struct {
	mu       sync.Mutex
	byVolume map[string]*decided
	drops    int
}

const verdictsFresh = time.Minute

func (c *verdictCache) drop(volumes []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.drops++
	if len(volumes) == 0 {
		c.byVolume = nil
	}
	for _, v := range volumes {
		delete(c.byVolume, v)
		for name, d := range c.byVolume {
			if slices.Contains(d.setMembers, v) {
				delete(c.byVolume, name)
			}
		}
	}
}

// Decide gives verdicts on all snapshots of a volume here; they are kept for a while.
func (s *Service) Decide(v *catalog.Volume) (*decided, error) {
	now := s.Clock.Now()
	s.verdicts.mu.Lock()
	d, drops := s.verdicts.byVolume[v.Name], s.verdicts.drops
	s.verdicts.mu.Unlock()
	if d != nil && now.Sub(d.at) < verdictsFresh && !now.Before(d.at) {
		return d, nil
	}
	rs, err := s.RulesFor(v)
	if err != nil {
		return nil, err
	}
	rows, err := s.Catalog.KeptSnapshots(s.Place(), v.Name) // nobody changes what is shown
	if err != nil {
		return nil, err
	}
	if d, err = s.decideRows(v, rows, rs, now, s.RulesFor); err != nil {
		return nil, err
	}
	s.verdicts.mu.Lock()
	if s.verdicts.byVolume == nil {
		s.verdicts.byVolume = map[string]*decided{}
	}
	if s.verdicts.drops == drops { // else something changed while this was decided
		s.verdicts.byVolume[v.Name] = d
	}
	s.verdicts.mu.Unlock()
	return d, nil
}

// DecideWith decides by given rules; sets are decided as one, by the present rules of the
// other volumes.
func (s *Service) DecideWith(v *catalog.Volume, rs *Ruleset, now time.Time) (*decided, error) {
	return s.decideAmong(v, rs, now, s.RulesFor)
}

func (s *Service) decideAmong(v *catalog.Volume, rs *Ruleset, now time.Time, others func(*catalog.Volume) (*Ruleset,
	error)) (*decided, error) {
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return nil, err
	}
	return s.decideRows(v, rows, rs, now, others)
}

func (s *Service) decideRows(v *catalog.Volume, rows []*catalog.Snapshot, rs *Ruleset, now time.Time,
	others func(*catalog.Volume) (*Ruleset, error)) (*decided, error) {
	d, err := s.decideAlone(v, rows, rs, now)
	if err != nil {
		return nil, err
	}
	return d, s.bySet(v, d, now, others)
}

func (s *Service) decideAlone(v *catalog.Volume, rows []*catalog.Snapshot, rs *Ruleset, now time.Time) (*decided,
	error) {
	room := snapsRoom.Get().(*[]retention.Snapshot)
	defer snapsRoom.Put(room)
	*room = slices.Grow((*room)[:0], len(rows))[:len(rows)]
	snaps := *room
	ofSets := fillSnapshots(snaps, rows)
	owed, err := s.owedFar(v, rs, rows, snaps, now)
	if err != nil {
		return nil, err
	}
	used, err := s.used(v.Lineage)
	if err != nil {
		return nil, err
	}
	if len(owed) > 0 || len(used) > 0 {
		for i, r := range rows {
			snaps[i].OwedTo, snaps[i].UsedBy = owed[r.ID], used[r.ID]
		}
	}
	if s.Floor != 0 {
		for i, r := range rows {
			snaps[i].Floor = s.floorOf(r)
		}
	}
	return &decided{Rows: rows, Verdicts: retention.Decide(snaps, rs.At(s.Place(), v), now), at: now,
		ofSets: ofSets}, nil
}

// At is what decides at a place of this site: a pause lets nothing go.
func (rs *Ruleset) At(place string, v *catalog.Volume) []retention.Rules {
	rules := rs.Keep[place]
	if len(rs.Paused) > 0 || !v.Paused.IsZero() {
		return append(slices.Clone(rules), retention.Rules{Everything: true, Paused: true})
	}
	return rules
}

// floorOf is the time before which this place does not remove a snapshot.
func (s *Service) floorOf(r *catalog.Snapshot) time.Time {
	if s.Floor == 0 {
		return time.Time{}
	}
	here := r.Ended.Time
	if !r.Arrived.IsZero() {
		here = r.Arrived.Time
	}
	return here.Add(s.Floor)
}

// SnapshotsOf are rows as retention sees them.
func SnapshotsOf(rows []*catalog.Snapshot) []retention.Snapshot {
	snaps := make([]retention.Snapshot, len(rows))
	fillSnapshots(snaps, rows)
	return snaps
}

// snapsRoom is used again: for a large volume it is tens of megabytes, and for each decision anew.
var snapsRoom = sync.Pool{New: func() any { return &[]retention.Snapshot{} }}

// fillSnapshots makes snaps of rows, and reports whether some are of sets.
func fillSnapshots(snaps []retention.Snapshot, rows []*catalog.Snapshot) bool {
	const share = 20_000 // what one core does of them
	var parts sync.WaitGroup
	var ofSets atomic.Bool
	for from := share; from < len(rows); from += share {
		to := min(from+share, len(rows))
		parts.Go(func() { snapshotsOf(snaps[from:to], rows[from:to], &ofSets) })
	}
	first := min(share, len(rows))
	snapshotsOf(snaps[:first], rows[:first], &ofSets)
	parts.Wait()
	return ofSets.Load()
}

func snapshotsOf(snaps []retention.Snapshot, rows []*catalog.Snapshot, ofSets *atomic.Bool) {
	for i, r := range rows {
		if r.SetID != "" {
			ofSets.Store(true)
		}
		snaps[i] = retention.Snapshot{Position: lineage.Position{Term: uint64(r.Term), Sequence: uint64(r.Sequence)},
			Taken: r.Began.Time, SeenUntil: r.SeenUntil.Time, End: r.OwnEnd.Time, Recalled: r.RecalledUntil.Time,
			OutOfTurn: r.OutOfTurn, LeftUntil: r.LeftUntil.Time}
		if r.KeepWhy != "" {
			snaps[i].Keep = &retention.Keep{Reason: r.KeepWhy, Until: r.KeepUntil.Time}
		}
		switch r.Cause {
		case "by hand":
			snaps[i].Kind = retention.ByHand
		case "safety":
			snaps[i].Kind = retention.Safety
		}
	}
}

// OwedFunc finds, by snapshot, the places that would keep it and do not have it yet.
type OwedFunc func(v *catalog.Volume, rs *Ruleset, rows []*catalog.Snapshot, snaps []retention.Snapshot,
	now time.Time) (map[string][]string, error)

// OwedLimit bounds how many snapshots of a volume wait for one far place; beyond it
// the oldest are let go, and the route's sentence tells of it.
const OwedLimit = 500

// FarVerdicts decides as a far place will by the rules proposed to it.
func FarVerdicts(rs *Ruleset, place string, snaps []retention.Snapshot, now time.Time) []retention.Verdict {
	plain := slices.Clone(snaps)
	for i := range plain {
		plain[i].OwedTo, plain[i].Recalled = nil, time.Time{}
	}
	return retention.Decide(plain, rs.Keep[place], now)
}
