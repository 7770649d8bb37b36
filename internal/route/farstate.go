package route

import (
	"hash/maphash"
	"slices"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/rules"
)

// farStates keeps how far routes are with volumes while nothing changed, for those who look. A carry decides anew.
type farStates struct {
	mu    sync.Mutex
	seed  maphash.Seed
	known map[farKey]*farState
	drops int // how often something was dropped
}

type farKey struct{ route, volume string }

type farState struct {
	backlog, carried int
	newest           time.Time
	sets             bool // it shares sets with other volumes, whose changes are its own
	until            time.Time
}

// Rules let snapshots go by time alone; so a state is looked at anew after farFresh to twice that, not all at once.
const farFresh = 4 * time.Minute

func (f *farStates) drop(volumes []string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.drops++
	if len(volumes) == 0 {
		f.known = nil
		return
	}
	for k, st := range f.known {
		if st.sets || slices.Contains(volumes, k.volume) {
			delete(f.known, k)
		}
	}
}

func (f *farStates) get(k farKey, now time.Time) (st *farState, drops int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	st = f.known[k]
	if st != nil && (now.After(st.until) || now.Before(st.until.Add(-2*farFresh))) {
		st = nil
	}
	return st, f.drops
}

// put keeps a state, unless something changed since it was asked for.
func (f *farStates) put(k farKey, st *farState, now time.Time, drops int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.drops != drops {
		return
	}
	if f.known == nil {
		f.known, f.seed = map[farKey]*farState{}, maphash.MakeSeed()
	}
	spread := time.Duration(maphash.Comparable(f.seed, k) % uint64(farFresh))
	st.until = now.Add(farFresh + spread)
	f.known[k] = st
}

// ForgetFar has all that FarState tells found out anew.
func (s *Service) ForgetFar() { s.far.drop(nil) }

// FarState tells how far a route is with a volume.
func (s *Service) FarState(r *catalog.Route, v *catalog.Volume, rs *rules.Ruleset, now time.Time) (*api.RouteVolume,
	error) {
	key := farKey{r.Name, v.Name}
	st, drops := s.far.get(key, now)
	if st == nil {
		var err error
		if st, err = s.farStateNow(r, v, rs, now); err != nil {
			return nil, err
		}
		s.far.put(key, st, now, drops)
	}
	rv := &api.RouteVolume{Volume: v.Name, Backlog: st.backlog, Carried: st.carried}
	if !st.newest.IsZero() {
		at := st.newest
		rv.Newest, rv.LagSeconds = &at, int64(max(0, now.Sub(at)).Seconds())
	}
	return rv, nil
}

func (s *Service) farStateNow(r *catalog.Route, v *catalog.Volume, rs *rules.Ruleset, now time.Time) (*farState,
	error) {
	rows, err := s.Catalog.KeptSnapshots(s.Place(), v.Name) // it is only shown
	if err != nil {
		return nil, err
	}
	carried, err := s.Catalog.CarriedBy(r.Name, s.Place(), v.Name)
	if err != nil {
		return nil, err
	}
	want, err := s.wantedFar(r, v, rs, rows, rules.SnapshotsOf(rows), carried, now)
	if err != nil {
		return nil, err
	}
	st := &farState{backlog: len(want), carried: len(carried)}
	for _, row := range rows {
		st.sets = st.sets || row.SetID != ""
		k, there := carried[row.ID]
		if !there || !st.newest.IsZero() {
			continue
		}
		st.newest = row.Began.Time
		if k.SeenUntil.After(st.newest) {
			st.newest = k.SeenUntil.Time
		}
	}
	return st, nil
}
