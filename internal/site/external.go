package site

import (
	"cmp"
	"context"
	"encoding/json"
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
	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"
	"candidharbor/internal/visible"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sys/unix"
)

// foundSetting begins the settings that say where others leave point-in-time directories of a
// volume.
const foundSetting = "found "

// found is a point-in-time directory that the filesystem or another tool left.
type found struct {
	Name  string // its path below what all have in common
	Path  string
	root  string
	Taken time.Time
}

// timeParts are what a pattern may have of a time, and which digits that is.
var timeParts = map[string]string{"%Y": `(?P<Y>\d{4})`, "%m": `(?P<m>\d{2})`, "%d": `(?P<d>\d{2})`, "%H": `(?P<H>\d{2})`, "%M": `(?P<M>\d{2})`, "%S": `(?P<S>\d{2})`}

// foundPattern turns a path with a time in it into what finds it and what reads it.
func foundPattern(pattern string) (glob string, read *regexp.Regexp, base string, err error) {
	if !filepath.IsAbs(pattern) {
		return "", nil, "", bad("pattern %q must be a whole path, such as /srv/shares/.moments/daily-%%Y-%%m-%%d", pattern)
	}
	pattern = filepath.Clean(pattern)
	at := strings.IndexAny(pattern, "%*")
	if at < 0 {
		return "", nil, "", bad("pattern %q has no time in it: write %%Y, %%m, %%d, %%H, %%M and %%S where year, month, day, hour, minute and second stand", pattern)
	}
	base = pattern[:strings.LastIndexByte(pattern[:at], '/')]
	text := regexp.QuoteMeta(pattern)
	glob = pattern
	seen := map[string]bool{}
	for part, digits := range timeParts {
		if n := strings.Count(pattern, part); n > 1 {
			return "", nil, "", bad("pattern %q has %s more than once", pattern, part)
		} else if n == 1 {
			seen[part] = true
		}
		text = strings.Replace(text, part, digits, 1)
		glob = strings.Replace(glob, part, strings.Repeat("[0-9]", strings.Count(digits, "{4}")*2+2), 1)
	}
	if !seen["%Y"] || !seen["%m"] || !seen["%d"] {
		return "", nil, "", bad("pattern %q needs at least year, month and day: %%Y, %%m and %%d", pattern)
	}
	if strings.Contains(glob, "%") {
		return "", nil, "", bad("pattern %q: only %%Y, %%m, %%d, %%H, %%M and %%S are known", pattern)
	}
	read, err = regexp.Compile("^" + strings.ReplaceAll(text, `\*`, `[^/]*`) + "$")
	return glob, read, base, err
}

func (s *Site) foundWhere(v *catalog.Volume) (api.FoundPut, error) {
	var p api.FoundPut
	raw, err := s.cat.Setting(foundSetting + v.Name)
	if err != nil || raw == "" {
		return p, err
	}
	return p, json.Unmarshal([]byte(raw), &p)
}

// SetFound says where others leave point-in-time directories of a volume; an empty pattern
// says that nobody does.
func (s *Site) SetFound(volume string, ask api.FoundPut) (*api.FoundList, error) {
	v, err := s.cat.Volume(volume)
	if err != nil {
		return nil, err
	}
	if v.Origin != s.Name() {
		return nil, conflict("volume %s lives at the site %s: what others left of it is found there", v.Name, v.Origin)
	}
	if ask.Pattern != "" {
		_, _, base, err := foundPattern(ask.Pattern)
		if err != nil {
			return nil, err
		}
		if _, _, err := s.underRoot(base, true); err != nil {
			return nil, err
		}
		if ask.Zone != "" {
			if _, err := cadence.LoadZone(ask.Zone); err != nil {
				return nil, &Error{Misuse, err}
			}
		}
	}
	raw, err := json.Marshal(ask)
	if err != nil {
		return nil, err
	}
	if ask.Pattern == "" {
		raw = nil
	}
	if err := s.cat.Set(foundSetting+v.Name, string(raw)); err != nil {
		return nil, err
	}
	return s.Found(volume)
}

// foundNow lists what others left, newest first.
func (s *Site) foundNow(v *catalog.Volume) ([]found, error) {
	where, err := s.foundWhere(v)
	if err != nil || where.Pattern == "" {
		return nil, err
	}
	glob, read, base, err := foundPattern(where.Pattern)
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
	var out []found
	for _, p := range paths {
		m := read.FindStringSubmatch(p)
		resolved, root, rerr := s.underRoot(p, true) // a link among them may lead anywhere
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
		if int(at.Month()) != n("m") || at.Day() != n("d") || at.After(s.clock.Now()) {
			continue // no such day, or not yet
		}
		out = append(out, found{Name: strings.TrimPrefix(strings.TrimPrefix(p, base), "/"), Path: resolved, root: root, Taken: at})
	}
	slices.SortFunc(out, func(a, b found) int { return cmp.Or(b.Taken.Compare(a.Taken), cmp.Compare(a.Name, b.Name)) })
	return out, nil
}

func (s *Site) foundOne(v *catalog.Volume, name string) (*found, error) {
	all, err := s.foundNow(v)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Name == name {
			return &all[i], nil
		}
	}
	return nil, missing("nothing that others left of %s is named %s: candid found list %s shows what there is", v.Name, name, v.Name)
}

// Found lists what others left of a volume, newest first, and what of it is in its history.
func (s *Site) Found(volume string) (*api.FoundList, error) {
	v, err := s.cat.Volume(volume)
	if err != nil {
		return nil, err
	}
	out := &api.FoundList{Volume: volume, Items: []api.FoundMoment{}}
	if out.FoundPut, err = s.foundWhere(v); err != nil {
		return nil, err
	}
	all, err := s.foundNow(v)
	if err != nil {
		return nil, err
	}
	taken, first, err := s.takenOver(v)
	if err != nil {
		return nil, err
	}
	for _, f := range all {
		out.Items = append(out.Items, api.FoundMoment{Name: f.Name, Path: f.Path, Taken: f.Taken, Snapshot: taken[f.Taken.Unix()], CanTake: taken[f.Taken.Unix()] == "" && (first.IsZero() || f.Taken.Before(first))})
	}
	return out, nil
}

// takenOver is what of a volume's history was taken over, by second, and when the history
// proper begins.
func (s *Site) takenOver(v *catalog.Volume) (taken map[int64]string, first time.Time, err error) {
	rows, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
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

// BrowseFound lists a directory of what others left, as it is on the disk.
func (s *Site) BrowseFound(volume, name, dir string) (*api.FoundBrowse, error) {
	v, err := s.cat.Volume(volume)
	if err != nil {
		return nil, err
	}
	f, err := s.foundOne(v, name)
	if err != nil {
		return nil, err
	}
	rel, err := tree.CleanPath(rawPath(dir))
	if err != nil {
		return nil, &Error{Misuse, err}
	}
	fd, err := beneath.Open(f.root, f.Path)
	if err != nil {
		return nil, bad("%s cannot be read: %s", f.Path, plain(err))
	}
	root, err := os.OpenRoot(beneath.Name(fd))
	unix.Close(fd)
	if err != nil {
		return nil, bad("%s cannot be read: %s", f.Path, plain(err))
	}
	defer root.Close()
	at, err := root.Open(cmp.Or(rel, "."))
	if err != nil {
		return nil, missing("%s has no %s", f.Name, dir)
	}
	defer at.Close()
	entries, err := at.ReadDir(browsePage)
	if err != nil && len(entries) == 0 && rel != "" {
		if st, serr := at.Stat(); serr == nil && !st.IsDir() {
			return nil, bad("%s is a file: candid restore %s %s --found %s brings it back", dir, volume, visible.Word(dir), visible.Word(name))
		}
	}
	out := &api.FoundBrowse{Name: name, Path: printable([]byte(rel)), Taken: f.Taken, Entries: []api.Entry{}, More: len(entries) == browsePage}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			continue
		}
		one := api.Entry{Name: printable([]byte(e.Name())), Kind: tree.KindOf(info).String(), Mode: fmt.Sprintf("%04o", info.Mode().Perm()), Modified: info.ModTime()}
		if info.Mode().IsRegular() {
			one.Size = info.Size()
		}
		out.Entries = append(out.Entries, one)
	}
	slices.SortFunc(out.Entries, func(a, b api.Entry) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}

// scanFound reads what others left into the store. The writer's lease holds it until it is
// committed or let go.
func (s *Site) scanFound(ctx context.Context, v *catalog.Volume, f *found, lease *store.Lease, prog *tree.Progress) (*store.Writer, *object.Root, error) {
	ck, err := chunkerOf(v)
	if err != nil {
		return nil, nil, err
	}
	// With a cache of its own, so that what was read once, to plan, is not read again.
	cache := tree.OpenCache(filepath.Join(s.dir, "scan"), v.Lineage+"-"+store.LeaseName(f.Path), f.Path)
	defer cache.Close()
	w := s.store.NewWriter(lease)
	res, err := tree.Scan(ctx, tree.ScanOptions{Path: f.Path, Beneath: f.root, Excludes: v.Excludes.V, Chunker: ck, Sink: w, Get: s.store.Get, Cache: cache, Progress: prog})
	if err == nil {
		err = errors.Join(w.Flush(), res.Remember())
	}
	if err != nil {
		w.Close()
		return nil, nil, fmt.Errorf("%s, which others left, could not be read: %w", f.Path, err)
	}
	at := f.Taken.UnixNano()
	return w, &object.Root{Lineage: lineageOf(v.Lineage), Volume: v.Name, Origin: s.Name(), Path: []byte(f.Path), Labels: v.Labels.V, Excludes: v.Excludes.V, Began: at, Ended: at,
		Consistency: object.Still, Cause: object.CauseFound, Top: res.Top, Links: res.Links, HasLinks: res.HasLinks, Files: res.Files, Dirs: res.Dirs, Others: res.Others, Bytes: res.Bytes,
		Remarks: res.Remarks, RemarkCount: res.RemarkCount, ChunkAvg: uint32(v.ChunkAvg), Sequence: uint64(f.Taken.Unix())}, nil
}

// TakeFound takes what others left into a volume's history, with its own time: those named,
// or all that can be. Its place is before the history proper (term 0), so that it stands for
// its moments and for nothing after.
func (s *Site) TakeFound(volume string, names []string, by string) (api.Run, error) {
	v, err := s.cat.Volume(volume)
	if err != nil {
		return api.Run{}, err
	}
	all, err := s.foundNow(v)
	if err != nil {
		return api.Run{}, err
	}
	taken, first, err := s.takenOver(v)
	if err != nil {
		return api.Run{}, err
	}
	var want []found
	for _, f := range slices.Backward(all) { // oldest first
		named := slices.Contains(names, f.Name)
		switch {
		case len(names) > 0 && !named:
			continue
		case taken[f.Taken.Unix()] != "":
			if named {
				return api.Run{}, conflict("%s is in the history already, as snapshot %s", f.Name, taken[f.Taken.Unix()][:12])
			}
			continue
		case !first.IsZero() && !f.Taken.Before(first):
			if named {
				return api.Run{}, conflict("%s is of %s, and %s has snapshots of its own since %s: it can be browsed and restored from where it is", f.Name, stamp(f.Taken), v.Name, stamp(first))
			}
			continue
		}
		want = append(want, f)
	}
	for _, n := range names {
		if !slices.ContainsFunc(want, func(f found) bool { return f.Name == n }) {
			_, err := s.foundOne(v, n)
			return api.Run{}, err
		}
	}
	if len(want) == 0 {
		return api.Run{}, missing("there is nothing that others left of %s to be taken over: candid found list %s tells of each", v.Name, v.Name)
	}
	j, err := s.start("take over", v.Name, by, func(ctx context.Context, j *job) (any, string, error) {
		j.say("waiting for another run on this volume")
		release, err := s.hold(ctx, "volume "+v.Name)
		if err != nil {
			return nil, "", err
		}
		defer release()
		var prog tree.Progress
		j.begin(func() api.Progress {
			return api.Progress{DoneBytes: prog.Bytes.Load(), Files: prog.Files.Load()}
		})
		var stored int64
		for i := range want {
			j.say(fmt.Sprintf("reading %s (%d of %d)", want[i].Name, i+1, len(want)))
			n, err := s.takeOne(ctx, v, &want[i], &prog)
			if err != nil {
				return nil, "", fmt.Errorf("%w. %d of %d were taken over", err, i, len(want))
			}
			stored += n
		}
		return nil, fmt.Sprintf("%s of %s taken over, %s new in the store; the oldest is of %s. From now on the rules decide how long they stay", many(len(want), "moment"), v.Name, size(stored), stamp(want[0].Taken)), nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

func (s *Site) takeOne(ctx context.Context, v *catalog.Volume, f *found, prog *tree.Progress) (stored int64, err error) {
	lease := s.store.NewLease()
	defer lease.Release()
	w, root, err := s.scanFound(ctx, v, f, lease, prog)
	if err != nil {
		return 0, err
	}
	defer w.Close()
	id, err := w.Commit(root)
	if err != nil {
		return 0, err
	}
	row, err := s.rowOf(id, root)
	if err != nil {
		return 0, err
	}
	row.Volume = v.Name
	_, row.Stored, _ = w.Stats()
	err = s.cat.PutSnapshot(row)
	s.changed("snapshots", v.Name)
	return row.Stored, err
}

// resolveOrFound finds what is to be restored: a snapshot, here or elsewhere, or what others
// left.
func (s *Site) resolveOrFound(ctx context.Context, v *catalog.Volume, ask *api.RestoreAsk) (*catalog.Snapshot, string, *catalog.Peer, error) {
	if ask.Found == "" {
		return s.resolve(ctx, v, ask.At, ask.From)
	}
	f, err := s.foundOne(v, ask.Found)
	if err != nil {
		return nil, "", nil, err
	}
	at := catalog.At(f.Taken)
	return &catalog.Snapshot{ID: "found " + f.Name + strings.Repeat(" ", 12), Volume: v.Name, Began: at, Ended: at, SeenUntil: at}, "what others left of " + stamp(f.Taken) + ", in " + f.Path, nil, nil
}

// heldFound reads what others left, for a restore of it.
func (s *Site) heldFound(ctx context.Context, r *restoring) (*object.Root, error) {
	f, err := s.foundOne(r.v, r.ask.Found)
	if err != nil {
		return nil, err
	}
	r.found = s.store.NewLease()
	w, root, err := s.scanFound(ctx, r.v, f, r.found, &tree.Progress{})
	if err != nil {
		return nil, err
	}
	w.Close()
	return root, nil
}
