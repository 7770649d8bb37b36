package recovery

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/core/names"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
	"candidharbor/internal/visible"
	"candidharbor/internal/volume/tree"
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
			f.X.Tell(&f.names)
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

// ByPosition are a volume's snapshots here, oldest first.
func (s *Service) ByPosition(v *catalog.Volume) ([]*catalog.Snapshot, error) {
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	slices.SortFunc(rows, func(a, b *catalog.Snapshot) int {
		return cmp.Or(cmp.Compare(a.Term, b.Term), cmp.Compare(a.Sequence, b.Sequence), cmp.Compare(a.ID, b.ID))
	})
	return rows, err
}

// Find searches all snapshots of a volume, those in grace too.
func (s *Service) Find(ctx context.Context, volume string, ask api.FindAsk) (*api.Find, error) {
	v, err := s.tree(volume)
	if err != nil {
		return nil, err
	}
	pat, err := names.ParsePattern(phrase.RawPath(ask.Pattern))
	if err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	if !ask.Until.IsZero() && ask.Until.Before(ask.Since) {
		return nil, refusal.Badf("until %s lies before since %s: nothing was there in between", phrase.Stamp(ask.Until),
			phrase.Stamp(ask.Since))
	}
	q := names.Query{Match: pat, Since: ask.Since, Until: ask.Until, Deleted: ask.Deleted, MinSize: ask.MinSize,
		MaxSize: ask.MaxSize, Limit: cmp.Or(ask.Limit, 100)}
	for k := object.File; k <= object.Symlink; k++ {
		if k.String() == ask.Kind {
			q.Kind = k
		}
	}
	if ask.After != "" {
		if _, err := fmt.Sscanf(ask.After, "%d.%d", &q.After.MTime, &q.After.No); err != nil || q.After.No == 0 {
			return nil, refusal.Badf("cursor %q is not one that a search gave", ask.After)
		}
	}
	rows, err := s.ByPosition(v)
	if err != nil {
		return nil, err
	}
	byID := map[object.ID]*catalog.Snapshot{}
	for _, r := range rows {
		id, err := object.ParseID(r.ID)
		if err != nil {
			return nil, err
		}
		byID[id] = r
	}
	f := s.finders.of(volume, s.Clock.Now())
	done, err := f.enter(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	f.Load(s, v.Lineage)
	if err := f.Bring(ctx, s, rows); err != nil {
		return nil, err
	}
	if f.Grown() && s.run.Context().Err() == nil {
		s.run.Go(func(context.Context) { f.Keep(s, v.Lineage) })
	}
	found, total := f.X.Find(q, func(id object.ID) bool { return byID[id] != nil })
	out := &api.Find{Items: []api.Found{}, Total: total, Snapshots: len(rows), LeftOut: []string{}}
	for _, r := range rows {
		if f.Bad[r.ID] {
			out.LeftOut = append(out.LeftOut, r.ID)
			out.Snapshots--
		}
	}
	for _, one := range found {
		out.Items = append(out.Items, api.Found{Path: phrase.Printable([]byte(one.Path)), Kind: one.Kind.String(),
			Size: one.Size, Modified: time.Unix(0, one.MTime), There: one.There,
			Versions: one.Versions, FirstSeen: one.First.Taken, LastSeen: rules.NewestState(byID[one.Last.ID]),
			Snapshot: one.Last.ID.String()})
	}
	if n := len(found); n == q.Limit {
		out.Next = fmt.Sprintf("%d.%d", found[n-1].Cursor.MTime, found[n-1].Cursor.No)
	}
	return out, nil
}

// mostVersions bounds how many versions of one path are listed.
const mostVersions = 1000

// Versions tells what a path was over time.
func (s *Service) Versions(volume, path string) (*api.Versions, error) {
	return s.ViewerFor(nil).Versions(volume, path)
}

// Versions tells what a path was over time, as far as it is seen.
func (e *Viewer) Versions(volume, path string) (*api.Versions, error) {
	s := e.s
	v, err := e.tree(volume)
	if err != nil {
		return nil, err
	}
	rel, err := cleanAsked(path)
	if err != nil {
		return nil, err
	}
	rows, err := s.ByPosition(v)
	if err != nil {
		return nil, err
	}
	get := object.Getter(s.Store.Get)
	var filtered *tree.FilteredTree
	if e.who != nil {
		filtered = tree.NewFilteredTree(get, e.who.Person, e.who.Grants[volume])
		get = filtered.Get
	}
	look := lookups{get: get, known: map[lookKey]*object.Entry{}}
	out := &api.Versions{Path: phrase.Printable([]byte(rel)), Items: []api.Version{}}
	var last *object.Entry
	ever := false
	for _, r := range rows {
		root, err := s.rules.RootOf(r)
		var e *object.Entry
		if err == nil {
			if filtered != nil {
				root = filtered.Root(root)
			}
			e, err = look.find(root, rel)
		}
		if err != nil {
			s.Log.Warn("a snapshot could not be read for the versions of a path and is left out", "snapshot", r.ID, "error", err)
			continue
		}
		if e == nil && !ever {
			continue
		}
		n := len(out.Items)
		what := ""
		switch {
		case !ever:
			what = "first seen"
		case e == nil && last == nil, e != nil && last != nil && sameVersion(e, last):
			one := &out.Items[n-1]
			one.Until, one.Snapshot = rules.NewestState(r), r.ID
			one.Snapshots++
			continue
		case e == nil:
			what = "not there"
		case last == nil:
			what = "back again"
		case e.Content == last.Content && e.Size == last.Size && e.Kind == last.Kind && e.MTime == last.MTime:
			what = "rights changed"
		default:
			what = "changed"
		}
		ever, last = true, e
		one := api.Version{What: what, Since: r.Began.Time, Until: rules.NewestState(r), Snapshot: r.ID, Snapshots: 1}
		if e != nil {
			view := entryView(get, e)
			one.Entry = &view
		}
		out.Items = append(out.Items, one)
	}
	if !ever {
		return nil, refusal.Missingf("no snapshot of %s here has %s: candid find %s %s looks for names like it", volume,
			out.Path, volume, visible.Word(pathBase(out.Path)))
	}
	slices.Reverse(out.Items)
	if len(out.Items) > mostVersions {
		out.Items, out.More = out.Items[:mostVersions], true
	}
	return out, nil
}

func pathBase(p string) string { return p[strings.LastIndexByte(p, '/')+1:] }

// sameVersion reports whether nothing that matters to who looks for a version changed: of
// a directory what is in it does not.
func sameVersion(a, b *object.Entry) bool {
	if a.Kind == object.Dir && b.Kind == object.Dir {
		return a.SameRights(b)
	}
	return a.Equal(b)
}

// lookups finds a path in many trees. What trees share is looked up once.
type lookups struct {
	get   object.Getter
	known map[lookKey]*object.Entry
}

type lookKey struct {
	dir  object.ID
	name string
}

// find returns nil for what is not there.
func (l *lookups) find(root *object.Root, rel string) (*object.Entry, error) {
	e := &root.Top
	if rel == "" {
		return e, nil
	}
	for _, name := range strings.Split(rel, "/") {
		if e.Kind != object.Dir {
			return nil, nil
		}
		k := lookKey{e.Content, name}
		next, ok := l.known[k]
		if !ok {
			one, there, err := object.LookupDir(l.get, e.Content, []byte(name))
			if err != nil {
				return nil, err
			}
			if there {
				next = &one
			}
			l.known[k] = next
		}
		if next == nil {
			return nil, nil
		}
		e = next
	}
	return e, nil
}
