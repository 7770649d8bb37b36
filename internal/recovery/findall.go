package recovery

import (
	"cmp"
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/refusal"
)

// searchFor is how long a search over all volumes takes before it tells what it found so far, and how it goes on.
const searchFor = 10 * time.Second

// FindAll searches the snapshots of all volumes that these eyes see, in the order of their names. It begins behind the
// volume named by ask.Behind.
func (e *Viewer) FindAll(ctx context.Context, ask api.FindAllAsk) (*api.FindAll, error) {
	all, err := e.volumeNames()
	if err != nil {
		return nil, err
	}
	slices.Sort(all)
	out := &api.FindAll{Items: []api.FoundIn{}, LeftOut: []api.LeftOutIn{}}
	limit, ends := cmp.Or(ask.Limit, 100), time.Now().Add(searchFor)
	one := api.FindAsk{Pattern: ask.Pattern, Since: ask.Since, Until: ask.Until, Deleted: ask.Deleted,
		MinSize: ask.MinSize, MaxSize: ask.MaxSize, Kind: ask.Kind, Limit: limit}
	for i, name := range all {
		if name <= ask.Behind {
			continue
		}
		found, err := e.Find(ctx, name, one)
		if refusal.ClassOf(err) == refusal.Missing {
			continue // it was removed meanwhile
		} else if err != nil {
			return nil, err
		}
		out.Volumes, out.Snapshots, out.Total = out.Volumes+1, out.Snapshots+found.Snapshots, out.Total+found.Total
		for _, f := range found.Items {
			out.Items = append(out.Items, api.FoundIn{Volume: name, Found: f})
		}
		for _, id := range found.LeftOut {
			out.LeftOut = append(out.LeftOut, api.LeftOutIn{Volume: name, Snapshot: id})
		}
		if len(out.Items) > 4*limit { // not to hold more than are told
			out.Items = newestFound(out.Items, limit)
		}
		if i+1 < len(all) && time.Now().After(ends) {
			out.Next, out.Left = name, len(all)-i-1
			break
		}
	}
	out.Items = newestFound(out.Items, limit)
	return out, nil
}

func newestFound(all []api.FoundIn, limit int) []api.FoundIn {
	slices.SortStableFunc(all, func(a, b api.FoundIn) int { return b.Modified.Compare(a.Modified) })
	return all[:min(len(all), limit)]
}

// Locate tells in which volumes a path of the host lies, or lay: those of this site first, and of those the one that is
// nearest to it.
func (e *Viewer) Locate(path string) ([]api.Located, error) {
	if !filepath.IsAbs(path) {
		return nil, refusal.Badf("path %q is not absolute: begin with a slash, or name a volume before it", path)
	}
	path = filepath.Clean(path)
	names, err := e.volumeNames()
	if err != nil {
		return nil, err
	}
	out := []api.Located{}
	for _, name := range names {
		v, err := e.volume(name)
		if err != nil {
			continue // it was removed meanwhile
		}
		if rel, err := filepath.Rel(v.Path, path); v.Path != "" && err == nil && rel != ".." &&
			!strings.HasPrefix(rel, "../") {
			out = append(out, api.Located{Volume: name, Path: inVolume(rel), At: v.Path,
				Here: v.ActiveAt(e.s.Name()) && v.Protected})
		}
	}
	slices.SortStableFunc(out, func(a, b api.Located) int {
		switch {
		case a.Here && !b.Here:
			return -1
		case b.Here && !a.Here:
			return 1
		}
		return len(b.At) - len(a.At)
	})
	if len(out) == 0 {
		return nil, refusal.Missingf("no volume lies at or above %s: candid volume list tells where they lie", path)
	}
	return out, nil
}

// inVolume is a relative path as volumes have it: the top is empty.
func inVolume(rel string) string {
	if rel == "." {
		return ""
	}
	return rel
}
