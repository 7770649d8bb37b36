package recovery

import (
	"context"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/core/names"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
)

// finders are the name indexes of volumes that were searched of late. They are made when
// someone looks, and brought up to date by what changed since.
type finders struct {
	mu  sync.Mutex
	all map[string]*Finder // by volume
}

// Finder searches the names of one history.
type Finder struct {
	turn   chan struct{} // whoever puts something in has the rest
	X      *names.Index
	Bad    map[string]bool // snapshots that could not be read
	badAt  time.Time       // when that was found, by the host's clock
	used   time.Time
	looked bool // for what was kept of it
	kept   int  // the lives and snapshots of the index that is kept

	// How far the reading of names is, for whom it takes long; at: the snapshot, from 1; 0: none is read.
	names  atomic.Int64
	at, of atomic.Int32
}

// findersKept is how many volumes' indexes are kept: of a million names one takes 100 MB.
const findersKept = 4

func (f *finders) of(volume string, now time.Time) *Finder {
	f.mu.Lock()
	defer f.mu.Unlock()
	one := f.all[volume]
	if one == nil {
		if f.all == nil {
			f.all = map[string]*Finder{}
		}
		for len(f.all) >= findersKept {
			oldest := ""
			for name, o := range f.all {
				if oldest == "" || o.used.Before(f.all[oldest].used) {
					oldest = name
				}
			}
			delete(f.all, oldest)
		}
		one = NewFinder()
		f.all[volume] = one
	}
	one.used = now
	return one
}

// NewFinder knows no snapshot yet.
func NewFinder() *Finder { return &Finder{turn: make(chan struct{}, 1), Bad: map[string]bool{}} }

// enter waits for the index, until done is called.
func (f *Finder) enter(ctx context.Context) (done func(), err error) {
	select {
	case f.turn <- struct{}{}:
		return func() { <-f.turn }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Bring makes the index one of the snapshots in rows, which are oldest first.
func (f *Finder) Bring(ctx context.Context, s *Service, rows []*catalog.Snapshot) error {
	if time.Since(f.badAt) > badFor {
		clear(f.Bad)
	}
	defer f.at.Store(0)
	for tries := 0; ; {
		known, next := map[object.ID]bool{}, 0
		if f.X != nil {
			for _, one := range f.X.Snaps() {
				known[one.ID] = true
			}
		}
		ids := make([]object.ID, len(rows))
		kept := 0
		for i, r := range rows {
			var err error
			if ids[i], err = object.ParseID(r.ID); err != nil {
				return err
			}
			if known[ids[i]] {
				next = i + 1
				kept++
			}
		}
		// What arrived late, or out of order, and an index mostly of what is gone by now
		// make it anew.
		late := slices.ContainsFunc(rows[:next], func(r *catalog.Snapshot) bool {
			id, _ := object.ParseID(r.ID)
			return !known[id] && !f.Bad[r.ID]
		})
		if f.X == nil || late || len(known) > 2*kept+64 {
			f.X, next = names.New(), 0
		}
		fresh := next == 0
		f.names.Store(0)
		f.X.Tell(&f.names)
		again := false
		for i := next; i < len(rows) && !again; i++ {
			if f.Bad[rows[i].ID] {
				continue
			}
			if err := ctx.Err(); err != nil { // what is indexed so far stays
				return err
			}
			f.of.Store(int32(len(rows) - next))
			f.at.Store(int32(i - next + 1))
			snap := names.Snap{ID: ids[i], Taken: rows[i].Began.Time}
			root, err := s.rules.RootOf(rows[i])
			if err == nil {
				f.X.Expect(root.Files + root.Dirs + root.Others)
				err = f.X.Add(s.Store.Get, snap, root.Tree())
			}
			if err == nil {
				continue
			}
			f.X, again = nil, true
			switch {
			case !fresh: // what the index knew last may have been removed and swept since
			// the one before was, meanwhile
			case root != nil && names.New().Add(s.Store.Get, snap, root.Tree()) == nil && tries < mostAnew:
				tries++
			default:
				s.Log.Warn("a snapshot could not be read for a search and is left out", "snapshot", rows[i].ID, "error", err)
				f.Bad[rows[i].ID], f.badAt = true, time.Now()
			}
		}
		if !again {
			return nil
		}
	}
}

// NamesRead tells of which volumes the names are being read for a search; a file owner learns only that they are.
func (e *Viewer) NamesRead() ([]api.NamesRead, error) {
	seen, err := e.volumeNames()
	if err != nil {
		return nil, err
	}
	out := []api.NamesRead{}
	e.s.finders.mu.Lock()
	defer e.s.finders.mu.Unlock()
	for _, name := range seen {
		f := e.s.finders.all[name]
		if f == nil || f.at.Load() == 0 {
			continue
		}
		one := api.NamesRead{Volume: name}
		if e.who == nil {
			one.Names, one.Snapshot, one.Of = f.names.Load(), f.at.Load(), f.of.Load()
		}
		out = append(out, one)
	}
	return out, nil
}

// badFor is how long a snapshot that could not be read is left out: it may be healed by then.
const badFor = 10 * time.Minute

// mostAnew bounds how often an index is begun anew because snapshots go while it is made.
const mostAnew = 3
