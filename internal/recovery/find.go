package recovery

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
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
