package recovery

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/rights"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	shown "candidharbor/internal/views"
	"candidharbor/internal/volume/tree"
)

// Viewer sees snapshots as one person may: a file owner what was granted and what the recorded
// rights let be read; anyone else everything.
type Viewer struct {
	s   *Service
	who *access.Owner // nil: everything
}

// ViewerFor returns the eyes of a file owner; nil: those that see everything.
func (s *Service) ViewerFor(who *access.Owner) *Viewer { return &Viewer{s, who} }

// volume finds a volume; of one that was not granted a file owner learns nothing.
func (e *Viewer) volume(name string) (*catalog.Volume, error) {
	if e.who != nil && len(e.who.Grants[name]) == 0 {
		return nil, refusal.Missingf("volume %q: nothing of such a volume was granted to you", name)
	}
	return e.s.Catalog.Volume(name)
}

// through returns how a tree of a volume is read with these eyes.
func (e *Viewer) through(volume string, get object.Getter, root *object.Root) (object.Getter, *object.Root) {
	if e.who == nil {
		return get, root
	}
	v := tree.NewFilteredTree(get, e.who.Person, e.who.Grants[volume])
	return v.Get, v.Root(root)
}

// volumeNames lists the volumes of files that are seen.
func (e *Viewer) volumeNames() ([]string, error) {
	all, err := e.s.Catalog.Volumes()
	var out []string
	for _, v := range all {
		if !v.IsDisk() && (e.who == nil || len(e.who.Grants[v.Name]) > 0) {
			out = append(out, v.Name)
		}
	}
	return out, err
}

// lookout tells whether snapshots of a volume have paths that these eyes see. A snapshot is
// opened once for all that is asked of it.
func (e *Viewer) lookout(volume string) func(snapshot, path string) bool {
	filtered := tree.NewFilteredTree(e.s.Store.Get, e.who.Person, e.who.Grants[volume])
	roots := map[string]*object.Root{} // nil: it cannot be read
	return func(snapshot, path string) bool {
		root, known := roots[snapshot]
		if !known {
			if row, err := e.s.Catalog.Snapshot(snapshot); err == nil {
				if plain, err := e.s.rules.RootOf(row); err == nil {
					root = filtered.Root(plain)
				}
			}
			roots[snapshot] = root
		}
		if root == nil {
			return false
		}
		_, err := tree.Lookup(filtered.Get, root, path)
		return err == nil
	}
}

const (
	ownerPages = 50   // of a search are gone through for what a file owner may see
	ownerPage  = 1000 // found paths each
)

// Find searches all snapshots of a volume. A file owner gets what is seen at its newest, and
// no count of what is not.
func (e *Viewer) Find(ctx context.Context, volume string, ask api.FindAsk) (*api.Find, error) {
	if _, err := e.tree(volume); err != nil {
		return nil, err
	}
	if e.who == nil {
		return e.s.FindEverywhere(ctx, volume, ask)
	}
	limit := ask.Limit
	if limit == 0 {
		limit = 100
	}
	sees := e.lookout(volume)
	var out *api.Find
	for page := 0; ; page++ {
		ask.Limit = ownerPage
		found, err := e.s.Find(ctx, volume, ask)
		if err != nil {
			return nil, err
		}
		if out == nil {
			out = &api.Find{Items: []api.Found{}, Snapshots: found.Snapshots, LeftOut: []string{}}
		}
		for _, f := range found.Items {
			if rel := phrase.RawPath(f.Path); e.granted(volume, rel) && sees(f.Snapshot, rel) {
				f.Versions, f.FirstSeen = 1, f.LastSeen // what others saw of it is not told
				out.Items = append(out.Items, f)
			}
			if len(out.Items) == limit {
				out.Total = limit
				return out, nil
			}
		}
		if ask.After = found.Next; ask.After == "" || page == ownerPages {
			out.Total = len(out.Items)
			return out, ctx.Err()
		}
	}
}

// granted tells whether a path lies in a granted folder.
func (e *Viewer) granted(volume, rel string) bool {
	return e.who == nil || slices.ContainsFunc(e.who.Grants[volume], func(g string) bool {
		return g == "" || g == rel || strings.HasPrefix(rel, g+"/")
	})
}

// Views are the snapshots as WebDAV shows them to these eyes.
func (e *Viewer) Views() shown.Source { return viewSource{e} }

// NoRun says that there is no run of a number, also of one that is not for who asks.
func NoRun(id int64) error {
	return refusal.Missingf("there is no run %d: candid run list shows those there are", id)
}

// mayUndo tells whether a file owner may take a run back: an own one, of the last day, so
// that nobody turns back what others have long gone on from.
func (e *Viewer) mayUndo(run *catalog.Run) error {
	if e.who == nil {
		return nil
	}
	if run.Kind != "restore" || run.AskedBy != e.who.Name {
		return NoRun(run.ID)
	}
	if age := e.s.Clock.Now().Sub(run.Queued.Time); age > 24*time.Hour {
		return refusal.Conflictf("run %d is %s old: what is older than a day only an operator takes back", run.ID,
			phrase.Ago(age))
	}
	return nil
}

// mayRestore checks what a file owner asks for.
func (e *Viewer) mayRestore(v *catalog.Volume, ask *api.RestoreAsk) error {
	if e.who == nil {
		return nil
	}
	switch {
	case !ask.InPlace:
		return refusal.Wrap(refusal.Refused, fmt.Errorf("you may bring files back to where they were, or download them; a "+
			"directory of the host is for operators"))
	case ask.From != "" && ask.From != e.s.Name():
		return refusal.Wrap(refusal.Refused, fmt.Errorf("bringing files from another site is for operators: ask one"))
	case len(ask.Paths) == 0:
		return refusal.Wrap(refusal.Refused, fmt.Errorf("say which files or folders: a whole volume is for operators"))
	}
	for _, p := range ask.Paths {
		if rel, err := tree.CleanPath(phrase.RawPath(p)); err != nil || !e.granted(v.Name, rel) {
			return refusal.Missingf("%s has no %s that you may see", v.Name, p)
		}
	}
	ask.From = e.s.Name()
	return nil
}

// person is as whom is restored; nil: the service.
func (e *Viewer) person() *rights.Person {
	if e.who == nil {
		return nil
	}
	return &e.who.Person
}

// Timeline tells what the time ruler shows; to a file owner only when snapshots were taken.
func (e *Viewer) Timeline(volume string, from, to time.Time) (*api.Timeline, error) {
	if _, err := e.volume(volume); err != nil {
		return nil, err
	}
	out, err := e.s.Timeline(volume, from, to)
	if err != nil || e.who == nil {
		return out, err
	}
	out.Lanes, out.Gaps, out.Planned = out.Lanes[:1], []api.GapSpan{}, []time.Time{}
	for i, m := range out.Lanes[0].Marks {
		out.Lanes[0].Marks[i] = api.TickMark{ID: m.ID, Taken: m.Taken, SeenUntil: m.SeenUntil, Tier: m.Tier, State: m.State}
	}
	return out, nil
}

// Timelines tells what the time ruler shows of volumes between two instants, in the order in which they are
// named. Those that are not there, or not for these eyes, are left out.
func (e *Viewer) Timelines(ctx context.Context, volumes []string, from, to time.Time) (*api.Page[api.Timeline], error) {
	out := &api.Page[api.Timeline]{Items: []api.Timeline{}}
	for _, name := range volumes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		t, err := e.Timeline(name, from, to)
		if refusal.ClassOf(err) == refusal.Missing {
			continue
		}
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *t)
	}
	return out, nil
}
