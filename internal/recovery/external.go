package recovery

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/cadence"
	"candidharbor/core/object"
	"candidharbor/internal/authority"
	"candidharbor/internal/beneath"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/visible"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sys/unix"
)

// externalSnapshot is a point-in-time directory that the filesystem or another tool left.
type externalSnapshot struct {
	Name  string // its path below what all have in common
	Path  string
	root  string
	Taken time.Time
}

// timeParts are what a pattern may have of a time, and which digits that is.
var timeParts = map[string]string{"%Y": `(?P<Y>\d{4})`, "%m": `(?P<m>\d{2})`, "%d": `(?P<d>\d{2})`,
	"%H": `(?P<H>\d{2})`, "%M": `(?P<M>\d{2})`, "%S": `(?P<S>\d{2})`}

// externalPattern turns a path with a time in it into what finds it and what reads it.
func externalPattern(pattern string) (glob string, read *regexp.Regexp, base string, err error) {
	if !filepath.IsAbs(pattern) {
		return "", nil, "", refusal.Badf("pattern %q must be a whole path, such as /srv/shares/.moments/daily-%%Y-%%m-%%d",
			pattern)
	}
	pattern = filepath.Clean(pattern)
	at := strings.IndexAny(pattern, "%*")
	if at < 0 {
		return "", nil, "", refusal.Badf("pattern %q has no time in it: write %%Y, %%m, %%d, %%H, %%M and %%S where year, "+
			"month, day, hour, minute and second stand", pattern)
	}
	base = pattern[:strings.LastIndexByte(pattern[:at], '/')]
	text := regexp.QuoteMeta(pattern)
	glob = pattern
	seen := map[string]bool{}
	for part, digits := range timeParts {
		if n := strings.Count(pattern, part); n > 1 {
			return "", nil, "", refusal.Badf("pattern %q has %s more than once", pattern, part)
		} else if n == 1 {
			seen[part] = true
		}
		text = strings.Replace(text, part, digits, 1)
		glob = strings.Replace(glob, part, strings.Repeat("[0-9]", strings.Count(digits, "{4}")*2+2), 1)
	}
	if !seen["%Y"] || !seen["%m"] || !seen["%d"] {
		return "", nil, "", refusal.Badf("pattern %q needs at least year, month and day: %%Y, %%m and %%d", pattern)
	}
	if strings.Contains(glob, "%") {
		return "", nil, "", refusal.Badf("pattern %q: only %%Y, %%m, %%d, %%H, %%M and %%S are known", pattern)
	}
	read, err = regexp.Compile("^" + strings.ReplaceAll(text, `\*`, `[^/]*`) + "$")
	return glob, read, base, err
}

// SetExternal says where others leave point-in-time directories of a volume; an empty pattern
// says that nobody does.
func (s *Service) SetExternal(volume string, ask api.FoundPut) (*api.FoundList, error) {
	v, err := s.tree(volume)
	if err != nil {
		return nil, err
	}
	if !v.ActiveAt(s.Name()) {
		return nil, authority.Elsewhere(v, "what others left of it is found there")
	}
	if ask.Pattern != "" {
		_, _, base, err := externalPattern(ask.Pattern)
		if err != nil {
			return nil, err
		}
		if _, _, err := s.UnderRoot(base, true); err != nil {
			return nil, err
		}
		if ask.Zone != "" {
			if _, err := cadence.LoadZone(ask.Zone); err != nil {
				return nil, refusal.Wrap(refusal.Misuse, err)
			}
		}
	}
	if err := s.Catalog.PutExternalSource(&catalog.ExternalSource{Volume: v.Name, Pattern: ask.Pattern,
		Zone: ask.Zone}); err != nil {
		return nil, err
	}
	return s.External(volume)
}

// externalNow lists what others left, newest first.
func (s *Service) externalNow(v *catalog.Volume) ([]externalSnapshot, error) {
	where, err := s.Catalog.ExternalSource(v.Name)
	if err != nil || where.Pattern == "" {
		return nil, err
	}
	glob, read, base, err := externalPattern(where.Pattern)
	if err != nil {
		return nil, err
	}
	zone := time.UTC
	if where.Zone != "" {
		if zone, err = cadence.LoadZone(where.Zone); err != nil {
			return nil, err
		}
	}
	paths, err := filepath.Glob(glob)
	if err != nil {
		return nil, err
	}
	var out []externalSnapshot
	for _, p := range paths {
		m := read.FindStringSubmatch(p)
		resolved, root, rerr := s.UnderRoot(p, true) // a link among them may lead anywhere
		st, serr := os.Stat(p)
		if m == nil || rerr != nil || serr != nil || !st.IsDir() {
			continue
		}
		n := func(part string) int {
			i := read.SubexpIndex(part)
			if i < 0 {
				return 0
			}
			v, _ := strconv.Atoi(m[i])
			return v
		}
		at := time.Date(n("Y"), time.Month(n("m")), n("d"), n("H"), n("M"), n("S"), 0, zone)
		if int(at.Month()) != n("m") || at.Day() != n("d") || at.After(s.Clock.Now()) {
			continue // no such day, or not yet
		}
		out = append(out, externalSnapshot{Name: strings.TrimPrefix(strings.TrimPrefix(p, base), "/"), Path: resolved,
			root: root, Taken: at})
	}
	slices.SortFunc(out, func(a, b externalSnapshot) int {
		return cmp.Or(b.Taken.Compare(a.Taken), cmp.Compare(a.Name, b.Name))
	})
	return out, nil
}

func (s *Service) externalOne(v *catalog.Volume, name string) (*externalSnapshot, error) {
	all, err := s.externalNow(v)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Name == name {
			return &all[i], nil
		}
	}
	return nil, refusal.Missingf("nothing that others left of %s is named %s: candid found list %s shows what there is",
		v.Name, name, v.Name)
}

// External lists what others left of a volume, newest first, and what of it is in its history.
func (s *Service) External(volume string) (*api.FoundList, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return nil, err
	}
	out := &api.FoundList{Volume: volume, Items: []api.FoundMoment{}}
	where, err := s.Catalog.ExternalSource(v.Name)
	if err != nil {
		return nil, err
	}
	out.FoundPut = api.FoundPut{Pattern: where.Pattern, Zone: where.Zone}
	all, err := s.externalNow(v)
	if err != nil {
		return nil, err
	}
	taken, first, err := s.takenOver(v)
	if err != nil {
		return nil, err
	}
	for _, f := range all {
		out.Items = append(out.Items, api.FoundMoment{Name: f.Name, Path: f.Path, Taken: f.Taken,
			Snapshot: taken[f.Taken.Unix()], CanTake: taken[f.Taken.Unix()] == "" && (first.IsZero() || f.Taken.Before(first))})
	}
	return out, nil
}

// takenOver is what of a volume's history was taken over, by second, and when the history
// proper begins.
func (s *Service) takenOver(v *catalog.Volume) (taken map[int64]string, first time.Time, err error) {
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	taken = map[int64]string{}
	for _, r := range rows {
		if r.Cause == string(object.CauseFound) {
			taken[r.Began.Unix()] = r.ID
		} else if first.IsZero() || r.Began.Before(first) {
			first = r.Began.Time
		}
	}
	return taken, first, err
}

// BrowseExternal lists a directory of what others left, as it is on the disk.
func (s *Service) BrowseExternal(volume, name, dir string) (*api.FoundBrowse, error) {
	v, err := s.tree(volume)
	if err != nil {
		return nil, err
	}
	f, err := s.externalOne(v, name)
	if err != nil {
		return nil, err
	}
	rel, err := tree.CleanPath(phrase.RawPath(dir))
	if err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	fd, err := beneath.Open(f.root, f.Path)
	if err != nil {
		return nil, refusal.Badf("%s cannot be read: %s", f.Path, datadir.Plain(err))
	}
	root, err := os.OpenRoot(beneath.Name(fd))
	unix.Close(fd)
	if err != nil {
		return nil, refusal.Badf("%s cannot be read: %s", f.Path, datadir.Plain(err))
	}
	defer root.Close()
	at, err := root.Open(cmp.Or(rel, "."))
	if err != nil {
		return nil, refusal.Missingf("%s has no %s", f.Name, dir)
	}
	defer at.Close()
	entries, err := at.ReadDir(browsePage)
	if err != nil && len(entries) == 0 && rel != "" {
		if st, serr := at.Stat(); serr == nil && !st.IsDir() {
			return nil, refusal.Badf("%s is a file: candid restore %s %s --found %s brings it back", dir, volume,
				visible.Word(dir), visible.Word(name))
		}
	}
	out := &api.FoundBrowse{Name: name, Path: phrase.Printable([]byte(rel)), Taken: f.Taken, Entries: []api.Entry{},
		More: len(entries) == browsePage}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			continue
		}
		one := api.Entry{Name: phrase.Printable([]byte(e.Name())), Kind: tree.KindOf(info).String(), Mode: fmt.Sprintf("%04o",
			info.Mode().Perm()), Modified: info.ModTime()}
		if info.Mode().IsRegular() {
			one.Size = info.Size()
		}
		out.Entries = append(out.Entries, one)
	}
	slices.SortFunc(out.Entries, func(a, b api.Entry) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}

// scanExternal reads what others left into the store. The writer's lease holds it until it is
// committed or let go.
func (s *Service) scanExternal(ctx context.Context, v *catalog.Volume, f *externalSnapshot, lease *store.Lease,
	prog *tree.Progress) (*store.Writer, *object.Root, error) {
	ck, err := capture.ChunkerOf(v)
	if err != nil {
		return nil, nil, err
	}
	// With a cache of its own, so that what was read once, to plan, is not read again.
	cache := tree.OpenCache(filepath.Join(s.Path, "scan"), v.Lineage+"-"+store.LeaseName(f.Path), f.Path)
	defer cache.Close()
	w := s.Store.NewWriter(lease)
	res, err := tree.Scan(ctx, tree.ScanOptions{Path: f.Path, Beneath: f.root, Excludes: v.Excludes.V, Chunker: ck,
		Sink: w, Get: s.Store.Get, Cache: cache, Progress: prog})
	if err == nil {
		err = errors.Join(w.Flush(), res.Remember())
	}
	if err != nil {
		w.Close()
		return nil, nil, fmt.Errorf("%s, which others left, could not be read: %w", f.Path, err)
	}
	at := f.Taken.UnixNano()
	return w, &object.Root{Lineage: records.LineageOf(v.Lineage), Volume: v.Name, Origin: s.Name(), Path: []byte(f.Path),
			Labels: v.Labels.V, Excludes: v.Excludes.V, Began: at, Ended: at,
			Consistency: object.Still, Cause: object.CauseFound, Top: res.Top, Links: res.Links, HasLinks: res.HasLinks,
			Files: res.Files, Dirs: res.Dirs, Others: res.Others, Bytes: res.Bytes,
			Remarks: res.Remarks, RemarkCount: res.RemarkCount, ChunkAvg: uint32(v.ChunkAvg), Sequence: uint64(f.Taken.Unix())},
		nil
}

// TakeExternal takes what others left into a volume's history, with its own time: those named,
// or all that can be. Its place is before the history proper (term 0), so that it stands for
// its moments and for nothing after.
func (s *Service) TakeExternal(volume string, names []string, by string) (api.Run, error) {
	v, err := s.tree(volume)
	if err != nil {
		return api.Run{}, err
	}
	all, err := s.externalNow(v)
	if err != nil {
		return api.Run{}, err
	}
	taken, first, err := s.takenOver(v)
	if err != nil {
		return api.Run{}, err
	}
	var want []externalSnapshot
	for _, f := range slices.Backward(all) { // oldest first
		named := slices.Contains(names, f.Name)
		switch {
		case len(names) > 0 && !named:
			continue
		case taken[f.Taken.Unix()] != "":
			if named {
				return api.Run{}, refusal.Conflictf("%s is in the history already, as snapshot %s", f.Name,
					taken[f.Taken.Unix()][:12])
			}
			continue
		case !first.IsZero() && !f.Taken.Before(first):
			if named {
				return api.Run{}, refusal.Conflictf("%s is of %s, and %s has snapshots of its own since %s: it can be browsed "+
					"and restored from where it is", f.Name, phrase.Stamp(f.Taken), v.Name, phrase.Stamp(first))
			}
			continue
		}
		want = append(want, f)
	}
	for _, n := range names {
		if !slices.ContainsFunc(want, func(f externalSnapshot) bool { return f.Name == n }) {
			_, err := s.externalOne(v, n)
			return api.Run{}, err
		}
	}
	if len(want) == 0 {
		return api.Run{}, refusal.Missingf("there is nothing that others left of %s to be taken over: candid found list "+
			"%s tells of each", v.Name, v.Name)
	}
	j, err := s.run.Start("take over", v.Name, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		j.Say("waiting for another run on this volume")
		release, err := s.run.Hold(ctx, run.KeyVolume.Of(v.Name))
		if err != nil {
			return nil, "", err
		}
		defer release()
		var prog tree.Progress
		j.Begin(func() api.Progress {
			return api.Progress{DoneBytes: prog.Bytes.Load(), Files: prog.Files.Load()}
		})
		var stored int64
		for i := range want {
			j.Say(fmt.Sprintf("reading %s (%d of %d)", want[i].Name, i+1, len(want)))
			n, err := s.takeOne(ctx, v, &want[i], &prog)
			if err != nil {
				return nil, "", fmt.Errorf("%w. %d of %d were taken over", err, i, len(want))
			}
			stored += n
		}
		return nil, fmt.Sprintf("%s of %s taken over, %s new in the store; the oldest is of %s. From now on the rules "+
			"decide how long they stay", phrase.Many(len(want), "moment"), v.Name, phrase.Size(stored),
			phrase.Stamp(want[0].Taken)), nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

func (s *Service) takeOne(ctx context.Context, v *catalog.Volume, f *externalSnapshot, prog *tree.Progress) (
	stored int64, err error) {
	lease := s.Store.NewLease()
	defer lease.Release()
	w, root, err := s.scanExternal(ctx, v, f, lease, prog)
	if err != nil {
		return 0, err
	}
	defer w.Close()
	id, err := w.Commit(root)
	if err != nil {
		return 0, err
	}
	row, err := s.records.RowOf(id, root)
	if err != nil {
		return 0, err
	}
	row.Volume = v.Name
	_, row.Stored, _ = w.Stats()
	err = s.Catalog.PutSnapshot(row)
	s.run.Changed("snapshots", v.Name)
	return row.Stored, err
}

// resolveOrExternal finds what is to be restored: a snapshot, here or elsewhere, or what others
// left.
func (s *Service) resolveOrExternal(ctx context.Context, v *catalog.Volume, ask *api.RestoreAsk) (*catalog.Snapshot,
	string, *catalog.Peer, error) {
	if ask.Found == "" {
		return s.resolve(ctx, v, ask.At, ask.From)
	}
	f, err := s.externalOne(v, ask.Found)
	if err != nil {
		return nil, "", nil, err
	}
	at := catalog.At(f.Taken)
	return &catalog.Snapshot{ID: "found " + f.Name + strings.Repeat(" ", 12), Volume: v.Name, Began: at, Ended: at,
		SeenUntil: at}, "what others left of " + phrase.Stamp(f.Taken) + ", in " + f.Path, nil, nil
}

// heldExternal reads what others left, for a restore of it.
func (s *Service) heldExternal(ctx context.Context, r *restoring) (*object.Root, error) {
	f, err := s.externalOne(r.v, r.ask.Found)
	if err != nil {
		return nil, err
	}
	r.found = s.Store.NewLease()
	w, root, err := s.scanExternal(ctx, r.v, f, r.found, &tree.Progress{})
	if err != nil {
		return nil, err
	}
	w.Close()
	return root, nil
}
