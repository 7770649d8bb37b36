package route

import (
	"cmp"
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
	"candidharbor/internal/transfer"
)

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
