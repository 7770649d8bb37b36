package route

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/core/lineage"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/transfer"
)

// history is a volume that a peer may read.
type history struct {
	Lineage object.LineageID  `cbor:"1,keyasint"`
	Volume  string            `cbor:"2,keyasint"` // at its origin
	Origin  string            `cbor:"3,keyasint"`
	Labels  map[string]string `cbor:"4,keyasint,omitempty"`
	Rules   string            `cbor:"5,keyasint,omitempty"` // proposed for the place of who asks
}

// header is what a peer needs to know of a snapshot before it asks for it.
type header struct {
	ID       object.ID         `cbor:"1,keyasint"`
	Term     uint64            `cbor:"2,keyasint"`
	Sequence uint64            `cbor:"3,keyasint"`
	Began    int64             `cbor:"4,keyasint"`
	Seen     int64             `cbor:"5,keyasint,omitempty"`
	Marked   int64             `cbor:"6,keyasint,omitempty"`
	Cause    string            `cbor:"7,keyasint"`
	Labels   map[string]string `cbor:"8,keyasint,omitempty"`
	Keep     string            `cbor:"9,keyasint,omitempty"`
	Ends     int64             `cbor:"10,keyasint,omitempty"` // its own end
	Set      string            `cbor:"11,keyasint,omitempty"`
	Ended    int64             `cbor:"12,keyasint,omitempty"`
	Watched  int64             `cbor:"13,keyasint,omitempty"`
	Files    int64             `cbor:"14,keyasint,omitempty"`
	Bytes    int64             `cbor:"15,keyasint,omitempty"`
}

// HistoriesAsk asks what there is to read.
type HistoriesAsk struct {
	Unless []byte `cbor:"1,keyasint,omitempty"` // state that who asks has seen already
}

// Histories answers with everything, or with only that the state is the one named.
type Histories struct {
	All   []history `cbor:"1,keyasint,omitempty"`
	State []byte    `cbor:"2,keyasint"`
	Same  bool      `cbor:"3,keyasint,omitempty"`
}

// HistoryAsk asks for the snapshots of one history, a page at a time.
type HistoryAsk struct {
	Lineage object.LineageID `cbor:"1,keyasint"`
	After   string           `cbor:"2,keyasint,omitempty"` // cursor
}

// HistoryPage is a page of a history.
type HistoryPage struct {
	Headers []header `cbor:"1,keyasint"`
	Next    string   `cbor:"2,keyasint,omitempty"`
}

// Fetch asks for a snapshot to be brought over the same stream.
type Fetch struct {
	Root  object.ID   `cbor:"1,keyasint"`
	Bases []object.ID `cbor:"2,keyasint"` // that who asks has
	SetOf uint32      `cbor:"3,keyasint,omitempty"`
}

const headersPage = 2000

// carryAll is the choice of a route that carries every snapshot.
const carryAll = "all"

// pullWork is what a route that pulls has to take of one volume.
type pullWork struct {
	h     history
	name  string              // here
	want  []*catalog.Snapshot // newest first; only what headers say
	marks []*catalog.Snapshot // here, but not with their newest marks
	bases []object.ID         // newest first, that both have
	mates []*catalog.Snapshot // not wanted for themselves, but of a set
	known catalog.Known
}

// LookThere asks the other end of a route that pulls what it has. Where that end is as a
// look that left nothing to do found it, and this site too, nothing more is asked.
func (s *Service) LookThere(r *catalog.Route, link *transfer.Link, whole bool) (work []*pullWork, same bool,
	err error) {
	mine, err := s.stateHere(r)
	if err != nil {
		return nil, false, err
	}
	s.mu.Lock()
	was := s.looked[r.Name]
	s.mu.Unlock()
	var ask HistoriesAsk
	now := s.Clock.Now()
	if !whole && was != nil && was.here == mine && now.Before(was.at.Add(lookAnew)) && !now.Before(was.at) {
		ask.Unless = was.there
	}
	var hs Histories
	if err := link.Ask("histories", ask, &hs); err != nil {
		return nil, false, err
	}
	if hs.Same {
		return nil, true, nil
	}
	for _, h := range hs.All {
		far := &catalog.Volume{Name: h.Volume + "@" + h.Origin, Origin: h.Origin,
			Labels: catalog.JSON[catalog.Labels]{V: h.Labels}}
		near := &catalog.Volume{Name: h.Volume}
		if h.Origin == s.Name() || !(r.Volumes.V.Holds(far) || h.Origin == r.Peer && r.Volumes.V.Holds(near)) {
			continue
		}
		if h.Origin != r.Peer && !r.Terms.V.Onward && !slices.Contains(r.Volumes.V.Names, far.Name) {
			continue
		}
		w, err := s.lookAt(r, link, h, far)
		if err != nil {
			return nil, false, err
		}
		work = append(work, w)
	}
	slices.SortFunc(work, func(a, b *pullWork) int { return cmp.Compare(a.name, b.name) })
	s.mu.Lock()
	delete(s.looked, r.Name)
	if !slices.ContainsFunc(work, func(w *pullWork) bool { return len(w.want)+len(w.marks) > 0 }) {
		s.looked[r.Name] = &looked{there: hs.State, here: mine, at: now}
	}
	s.mu.Unlock()
	return work, false, nil
}

// looked is what a look of a route that pulls found when it left nothing to do.
type looked struct {
	there []byte
	here  object.ID
	at    time.Time
}

// lookAnew bounds how long a look is relied on: time itself changes what rules want.
const lookAnew = 24 * time.Hour

// stateHere sums up what decides at this end what a route that pulls wants.
func (s *Service) stateHere(r *catalog.Route) (sum object.ID, err error) {
	all, err := s.rules.CompiledPolicies()
	if err != nil {
		return sum, err
	}
	h := object.NewSum()
	say := func(v ...any) { fmt.Fprintf(h, "%q\n", fmt.Sprint(v...)) }
	say(r.Volumes.V, r.Terms.V)
	for _, p := range all {
		say(p.Row.Name, p.Row.Version)
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return sum, err
	}
	for _, v := range vols {
		if v.Origin == s.Name() {
			continue
		}
		say(v.Name, v.Lineage, v.Labels.V, v.Proposed, v.Offered)
		rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return sum, err
		}
		for _, row := range rows {
			say(row.ID, row.Marked.UnixNano(), row.SeenUntil.UnixNano())
		}
	}
	return object.ID(h.Sum(nil)), nil
}

func (s *Service) lookAt(r *catalog.Route, link *transfer.Link, h history, v *catalog.Volume) (*pullWork, error) {
	v.Lineage, v.Proposed = hex.EncodeToString(h.Lineage[:]), h.Rules
	if here, err := s.Catalog.VolumeOfLineage(v.Lineage); err == nil {
		v = here
	} else if !errors.Is(err, catalog.ErrNone) {
		return nil, err
	}
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return nil, err
	}
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return nil, err
	}
	have := map[string]*catalog.Snapshot{}
	for _, row := range rows {
		have[row.ID] = row
	}
	w := &pullWork{h: h, name: v.Name, known: catalog.Known{Volume: v.Name}}
	there := map[string]bool{}
	all := slices.Clone(rows)
	for after, more := "", true; more; {
		var page HistoryPage
		if err := link.Ask("history", HistoryAsk{Lineage: h.Lineage, After: after}, &page); err != nil {
			return nil, err
		}
		for i := range page.Headers {
			row := page.Headers[i].Row()
			if at := rules.NewestState(row); at.After(w.known.Newest) {
				w.known.Newest = at
			}
			there[row.ID] = true
			if old := have[row.ID]; old == nil {
				all = append(all, row)
			} else if row.Marked.After(old.Marked.Time) || row.SeenUntil.After(old.SeenUntil.Time) {
				w.marks = append(w.marks, row)
			}
		}
		if len(all) > MostHeaders {
			return nil, &transfer.Refusal{What: fmt.Sprintf("%s names more than %d snapshots of %s", r.Peer, MostHeaders,
				v.Name), Final: true}
		}
		more, after = page.Next != "" && page.Next != after, page.Next
	}
	key, value, byLabel := strings.Cut(r.Terms.V.Carry, "=")
	verdicts := retention.Decide(rules.SnapshotsOf(all), rs.At(s.Place(), v), s.Clock.Now())
	for i, row := range all {
		id, err := object.ParseID(row.ID)
		if err != nil {
			return nil, err
		}
		if have[row.ID] != nil {
			if there[row.ID] {
				w.bases = append(w.bases, id)
			}
			continue
		}
		chosen := r.Terms.V.Carry == carryAll || verdicts[i].Kept()
		if byLabel {
			chosen = row.Labels.V[key] == value
		}
		if chosen && row.Cause != string(object.CauseSafety) {
			w.want = append(w.want, row)
		} else if row.SetID != "" && row.Cause != string(object.CauseSafety) {
			w.mates = append(w.mates, row)
		}
	}
	w.bases = w.bases[:min(len(w.bases), basesNamed)]
	return w, nil
}

// wholeSets adds to what is wanted whatever is of the same sets, and puts all in order.
func wholeSets(work []*pullWork) (setOf map[string]uint32) {
	setOf = map[string]uint32{}
	for _, w := range work {
		for _, row := range w.want {
			if row.SetID != "" {
				setOf[row.SetID] = 0
			}
		}
	}
	for _, w := range work {
		for _, row := range w.mates {
			if _, is := setOf[row.SetID]; is {
				w.want = append(w.want, row)
			}
		}
		for _, row := range w.want {
			if row.SetID != "" {
				setOf[row.SetID]++
			}
		}
		w.known.Backlog = len(w.want)
		w.sort()
	}
	return setOf
}

func (w *pullWork) sort() {
	slices.SortFunc(w.want, func(a, b *catalog.Snapshot) int {
		return lineage.Position{Term: uint64(b.Term), Sequence: uint64(b.Sequence)}.Compare(
			lineage.Position{Term: uint64(a.Term), Sequence: uint64(a.Sequence)})
	})
}

// MostHeaders bounds what a peer can make this site hold in memory.
const MostHeaders = 2_000_000

// Row is the row that a header says, without what only this place knows.
func (h *header) Row() *catalog.Snapshot {
	at := func(n int64) catalog.Time {
		if n == 0 {
			return catalog.Time{}
		}
		return catalog.At(time.Unix(0, n))
	}
	return &catalog.Snapshot{ID: h.ID.String(), Term: int64(h.Term), Sequence: int64(h.Sequence), Began: at(h.Began),
		SeenUntil: at(h.Seen), Marked: at(h.Marked), Cause: h.Cause,
		Labels: catalog.JSON[catalog.Labels]{V: h.Labels}, KeepWhy: h.Keep, OwnEnd: at(h.Ends), SetID: h.Set,
		Ended: at(h.Ended), WatchedUntil: at(h.Watched), Files: h.Files, Bytes: h.Bytes}
}

// pullAll takes everything that is wanted: marks first, then the newest of every volume,
// then the older ones.
func (s *Service) pullAll(ctx context.Context, j *run.Job, r *catalog.Route, peer *catalog.Peer,
	meter *transfer.Meter) (done int, err error) {
	if err := s.pairing.TwoSites(peer.Name); err != nil {
		return 0, err
	}
	link, _, err := s.pairing.Link(ctx, peer)
	if err != nil {
		return 0, err
	}
	work, same, err := s.LookThere(r, link, false)
	if err != nil || same {
		return 0, err
	}
	sets := wholeSets(work)
	if err := s.knowThere(r.Name, work); err != nil {
		return 0, err
	}
	if slices.ContainsFunc(work, func(w *pullWork) bool { return len(w.bases) == 0 }) {
		// From now on what is wanted here is owed to this site, however long the first takes.
		if err := s.tellSource(r, link, work); err != nil {
			return 0, err
		}
	}
	for _, w := range work {
		for _, row := range w.marks {
			if err := s.pullOne(ctx, link, peer, w, row, 0, r.Terms.V.Standby, meter); err != nil && !transfer.Gone(err) {
				return 0, err
			}
		}
	}
	for round := 0; ; round++ {
		any := false
		for _, w := range work {
			if round >= len(w.want) {
				continue
			}
			any = true
			row := w.want[round]
			j.Say(fmt.Sprintf("taking %s of %s", row.ID[:12], w.name))
			err := s.pullOne(ctx, link, peer, w, row, sets[row.SetID], r.Terms.V.Standby, meter)
			switch {
			case transfer.Gone(err):
				j.Logf("%s of %s was removed at %s before it could be taken", row.ID[:12], w.name, peer.Name)
			case err != nil:
				return done, fmt.Errorf("%s of %s: %w", row.ID[:12], w.name, err)
			default:
				done++
			}
			w.known.Backlog--
		}
		if !any {
			break
		}
	}
	if err := s.knowThere(r.Name, work); err != nil {
		return done, err
	}
	return done, s.tellSource(r, link, work)
}

func (s *Service) pullOne(ctx context.Context, link *transfer.Link, peer *catalog.Peer, w *pullWork,
	row *catalog.Snapshot, setOf uint32, standby string, meter *transfer.Meter) error {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return err
	}
	st, err := link.Open("fetch", Fetch{Root: id, Bases: w.bases, SetOf: setOf})
	if err != nil {
		return err
	}
	defer st.Close()
	var q transfer.CarryRequest
	if err := st.Answer(&q); err != nil {
		return err
	}
	if q.Root != id || q.Lineage != w.h.Lineage || q.Origin != w.h.Origin || q.Volume != w.h.Volume {
		return &transfer.Refusal{What: fmt.Sprintf("%s answered with another snapshot than was asked for", peer.Name),
			Final: true}
	}
	q.Standby = standby
	if err := s.takeIn(ctx, peer, link.Key, &q, st, meter); err != nil {
		st.Refuse(err)
		return err
	}
	if !slices.Contains(w.bases, id) {
		w.bases = append([]object.ID{id}, w.bases[:min(len(w.bases), basesNamed-1)]...)
	}
	return nil
}

// knowThere stores what was found at the other end, for the route's sentence.
func (s *Service) knowThere(route string, work []*pullWork) error {
	s.run.Tell("routes")
	return s.changeRoute(route, func(r *catalog.Route) error {
		r.Known.V = []catalog.Known{}
		for _, w := range work {
			r.Known.V = append(r.Known.V, w.known)
		}
		return nil
	})
}
