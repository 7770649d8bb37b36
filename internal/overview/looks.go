package overview

import (
	"sync"
	"time"

	"candidharbor/internal/catalog"
)

// looks keeps what a look at all volumes needs of other records, and asks anew only for volumes of which something
// changed.
type looks struct {
	mu    sync.Mutex
	kept  *catalog.Looks
	at    time.Time
	dirty map[string]bool
	seen  map[string]time.Time // by lineage: up to when the newest snapshot was found unchanged since
	drops int
}

const (
	looksFresh = 10 * time.Minute // nothing is kept longer, should a change not have been told
	manyDirty  = 200              // of as many all are asked for at once
)

func (l *looks) drop(volumes []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.drops++
	if len(volumes) == 0 {
		l.kept = nil
		return
	}
	for _, v := range volumes {
		l.dirty[v] = true
	}
	if len(l.dirty) > manyDirty {
		l.kept = nil
	}
}

// sighted notes up to when a volume was found unchanged, which is all that changed of it.
func (l *looks) sighted(lineage string, until time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.drops++
	if l.kept != nil {
		l.seen[lineage] = until
	}
}

// begin returns what is kept, and the volumes to ask anew for; nil: for all.
func (l *looks) begin(now time.Time) (kept *catalog.Looks, at time.Time, dirty []string, drops int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.kept == nil || now.Sub(l.at) > looksFresh || now.Before(l.at) {
		return nil, now, nil, l.drops
	}
	for v := range l.dirty {
		dirty = append(dirty, v)
	}
	kept = l.kept
	if len(dirty)+len(l.seen) > 0 {
		kept = kept.Clone() // others may be reading it
	}
	for lineage, until := range l.seen {
		if last := kept.Last[lineage]; last != nil {
			again := *last
			again.SeenUntil = catalog.At(until.UTC())
			kept.Last[lineage] = &again
		}
	}
	return kept, l.at, dirty, l.drops
}

// end keeps a look, unless something changed meanwhile: then it is of its asker alone.
func (l *looks) end(look *catalog.Looks, at time.Time, drops int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.drops == drops {
		l.kept, l.at, l.dirty, l.seen = look, at, map[string]bool{}, map[string]time.Time{}
	}
}

// lookAt returns what a look at all of the volumes needs.
func (s *Service) lookAt(rows []*catalog.Volume, now time.Time) (*catalog.Looks, error) {
	kept, at, dirty, drops := s.looks.begin(now)
	if kept == nil {
		look, err := s.Catalog.Look(s.Place(), now, nil)
		if err == nil {
			s.looks.end(look, at, drops)
		}
		return look, err
	}
	by := make(map[string]*catalog.Volume, len(rows))
	for _, v := range rows {
		by[v.Name] = v
	}
	for _, name := range dirty {
		v := by[name]
		if v == nil { // it is of a volume that is gone
			continue
		}
		one, err := s.Catalog.Look(s.Place(), now, v)
		if err != nil {
			return nil, err
		}
		kept.Replace(v, one)
	}
	s.looks.end(kept, at, drops)
	return kept, nil
}
