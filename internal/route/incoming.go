package route

import (
	"cmp"
	"encoding/hex"
	"errors"
	"slices"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/run"
	"candidharbor/internal/transfer"
	"candidharbor/internal/visible"
)

// incoming is what comes in now, by site and history, and what was refused last.
type incoming struct {
	mu sync.Mutex
	of map[incomingKey]*arriving
}

type incomingKey struct{ peer, lineage string }

type arriving struct {
	volume   string // its name here, or what it will be
	snapshot string // empty: none comes now
	since    time.Time
	began    time.Time // by the host's clock, for the rate
	meter    *transfer.Meter
	before   int64 // what the meter said when it began
	pace     run.RecentRate
	refused  string
}

const (
	mostIncoming = 10000 // histories that are remembered; of more, some that were refused are forgotten
	longestName  = 130   // bytes
)

func (in *incoming) forgetOne() {
	for key, a := range in.of {
		if a.snapshot == "" {
			delete(in.of, key)
			return
		}
	}
}

// begin notes that a snapshot comes in; what it returns notes how that ended.
func (in *incoming) begin(peer string, q *transfer.CarryRequest, m *transfer.Meter,
	now time.Time) func(err error, now time.Time) {
	key := incomingKey{peer, hex.EncodeToString(q.Lineage[:])}
	name := q.Volume + "@" + q.Origin // as the peer says; it is not judged yet
	name = visible.Line(name[:min(len(name), longestName)])
	a := &arriving{volume: name, snapshot: q.Root.String(), since: now, began: time.Now(), meter: m,
		before: m.SentBytes.Load()}
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.of == nil {
		in.of = map[incomingKey]*arriving{}
	}
	if was := in.of[key]; was != nil {
		a.refused = was.refused
	} else if len(in.of) >= mostIncoming {
		in.forgetOne()
	}
	in.of[key] = a
	return func(err error, now time.Time) {
		in.mu.Lock()
		defer in.mu.Unlock()
		if in.of[key] != a {
			return // another one of it comes already
		}
		var no *transfer.Refusal
		switch {
		case errors.As(err, &no):
			in.of[key] = &arriving{volume: a.volume, since: now, refused: no.What}
		case a.refused != "" && err != nil: // the line was cut: it is still so
			in.of[key] = &arriving{volume: a.volume, since: a.since, refused: a.refused}
		default:
			delete(in.of, key)
		}
	}
}

// tell adds what is known of a history that comes from a site.
func (in *incoming) tell(key incomingKey, v *api.Incoming) {
	in.mu.Lock()
	defer in.mu.Unlock()
	a := in.of[key]
	if a == nil {
		return
	}
	since := a.since
	v.Since, v.Refused, v.State = &since, a.refused, "refused"
	if a.snapshot != "" {
		v.State, v.Snapshot, v.DoneBytes = "coming", a.snapshot, a.meter.SentBytes.Load()-a.before
		v.Rate = int64(a.pace.Rate(time.Now(), a.began, v.DoneBytes))
	}
}

func (in *incoming) keys() (all map[incomingKey]string) {
	in.mu.Lock()
	defer in.mu.Unlock()
	all = map[incomingKey]string{}
	for k, a := range in.of {
		all[k] = a.volume
	}
	return all
}

// Incoming lists what other sites bring here, and what is taken from them: a line for each site and volume.
func (s *Service) Incoming() ([]api.Incoming, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	arrived, err := s.Catalog.Arrivals(s.Place())
	if err != nil {
		return nil, err
	}
	now := s.incoming.keys()
	out := []api.Incoming{}
	add := func(key incomingKey, name string) {
		v := api.Incoming{From: key.peer, Volume: name, State: "at rest", Up: s.pairing.Up(key.peer)}
		if a, ok := arrived[name]; ok {
			v.Copies, v.LastArrived, v.Newest = a.Copies, a.Last.Ptr(), a.Newest.Ptr()
		}
		if !v.Up {
			v.State = "no line"
		}
		s.incoming.tell(key, &v)
		delete(now, key)
		out = append(out, v)
	}
	for _, v := range vols {
		if _, ok := arrived[v.Name]; ok && !v.ActiveAt(s.Name()) {
			add(incomingKey{cmp.Or(v.Via, v.ActiveSite()), v.Lineage}, v.Name)
		}
	}
	for key, name := range now { // of which nothing arrived yet, or which another site brings too
		if v, err := s.Catalog.VolumeOfLineage(key.lineage); err == nil {
			name = v.Name
		} else if !errors.Is(err, catalog.ErrNone) {
			return nil, err
		}
		add(key, name)
	}
	slices.SortFunc(out, func(a, b api.Incoming) int {
		return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.Volume, b.Volume))
	})
	return out, nil
}
