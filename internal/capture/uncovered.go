package capture

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/hostdirs"
	"candidharbor/internal/phrase"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
)

const (
	lookFor       = 3 * time.Second  // how long sizes are counted in a directory
	lookForAll    = 10 * time.Second // and in all, where many hold volumes
	mostUncovered = 1000
)

// cover tells which directories of the host are protected.
type cover struct {
	vols   []*catalog.Volume // over directories, by path
	own    []string          // directories of the service itself
	mounts []hostdirs.Mount
	ends   time.Time // of counting sizes
}

func (s *Service) cover() (*cover, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	mounts, err := hostdirs.Mounts()
	if err != nil {
		return nil, err
	}
	c := &cover{own: []string{s.Path}, mounts: mounts, ends: time.Now().Add(lookForAll)}
	if s.Conf.Standby != "" {
		c.own = append(c.own, filepath.Clean(s.Conf.Standby))
	}
	for _, v := range vols {
		if v.StandbyDir != "" {
			c.own = append(c.own, filepath.Clean(v.StandbyDir))
		}
		if v.Protected && v.Path != "" && !v.IsDisk() && v.ActiveAt(s.Name()) {
			c.vols = append(c.vols, v)
		}
	}
	slices.SortFunc(c.vols, func(a, b *catalog.Volume) int { return strings.Compare(a.Path, b.Path) })
	return c, nil
}

// by is the volume that protects a path; empty: none does.
func (c *cover) by(path string) string {
	for _, v := range c.vols {
		if hostdirs.Within(path, v.Path) {
			return v.Name
		}
	}
	return ""
}

// holds is how many volumes lie below a path.
func (c *cover) holds(path string) (n int) {
	for _, v := range c.vols {
		if v.Path != path && hostdirs.Within(v.Path, path) {
			n++
		}
	}
	return n
}

func (c *cover) isOwn(path string) bool {
	return slices.ContainsFunc(c.own, func(own string) bool { return hostdirs.Within(path, own) })
}

func (c *cover) holdsOwn(path string) bool {
	return slices.ContainsFunc(c.own, func(own string) bool { return hostdirs.Within(own, path) })
}

// passing reports whether what is mounted at a path ends with the machine's run, as what this service shows there does.
func (c *cover) passing(path string) bool {
	return !slices.ContainsFunc(c.mounts, func(m hostdirs.Mount) bool { return m.Path == path })
}

func (c *cover) view(dir string, e hostdirs.Entry) api.HostEntry {
	path := filepath.Join(dir, e.Name)
	return api.HostEntry{Path: path, Name: e.Name, Dir: e.Dir, Mount: e.Mount, Closed: e.Closed, Files: e.Files,
		Bytes: e.Bytes, AtLeast: e.AtLeast, Volume: c.by(path), Holds: c.holds(path)}
}

// Directory lists what lies in a directory of the host, to choose a volume's path or what it leaves out. Without a path
// it lists the roots.
func (s *Service) Directory(ctx context.Context, path string) (*api.HostDirectory, error) {
	c, err := s.cover()
	if err != nil {
		return nil, err
	}
	out := &api.HostDirectory{Path: path, Entries: []api.HostEntry{}}
	if path == "" {
		for _, r := range s.Conf.Roots {
			out.Entries = append(out.Entries, api.HostEntry{Path: r, Name: r, Dir: true, Volume: c.by(r), Holds: c.holds(r)})
		}
		return out, nil
	}
	dir, root, err := s.UnderRoot(path, true)
	if err != nil {
		return nil, err
	}
	all, more, err := hostdirs.List(ctx, root, dir, lookFor)
	if err != nil {
		return nil, refusal.Badf("directory %s cannot be read: %s", dir, err)
	}
	out.Path, out.Volume, out.More = dir, c.by(dir), more
	for _, e := range all {
		if !c.isOwn(filepath.Join(dir, e.Name)) {
			out.Entries = append(out.Entries, c.view(dir, e))
		}
	}
	return out, nil
}

// Uncovered lists the directories below the roots, and the filesystems of this host, that no volume protects.
func (s *Service) Uncovered(ctx context.Context) (*api.Uncovered, error) {
	c, err := s.cover()
	if err != nil {
		return nil, err
	}
	out := &api.Uncovered{Directories: []api.HostEntry{}, Loose: []api.LooseFiles{}, Filesystems: []api.Filesystem{}}
	var roots []string
	for _, r := range s.Conf.Roots {
		real, err := filepath.EvalSymlinks(r)
		if err != nil || slices.ContainsFunc(roots, func(o string) bool { return hostdirs.Within(real, o) }) {
			continue
		}
		roots = append(roots, real)
		if err := s.uncoveredIn(ctx, c, real, real, out); err != nil {
			return nil, err
		}
	}
	for _, m := range hostdirs.EachOnce(c.mounts) {
		below := slices.ContainsFunc(roots, func(r string) bool { return hostdirs.Within(m.Path, r) })
		if !below && c.by(m.Path) == "" && !c.isOwn(m.Path) {
			out.Filesystems = append(out.Filesystems, api.Filesystem{Path: m.Path, Kind: m.Kind, UsedBytes: m.Used})
		}
	}
	slices.SortStableFunc(out.Directories, func(a, b api.HostEntry) int { return cmp.Compare(b.Bytes, a.Bytes) })
	return out, nil
}

// uncoveredIn adds what is not protected in a directory that is a root, or holds volumes.
func (s *Service) uncoveredIn(ctx context.Context, c *cover, root, dir string, out *api.Uncovered) error {
	if c.by(dir) != "" || c.isOwn(dir) {
		return nil
	}
	all, more, err := hostdirs.List(ctx, root, dir, min(lookFor, max(0, time.Until(c.ends))))
	if err != nil {
		if ctx.Err() != nil {
			return err
		}
		return nil // it is listed where it lies, as what cannot be read
	}
	out.More = out.More || more
	loose := api.LooseFiles{Path: dir}
	for _, e := range all {
		v := c.view(dir, e)
		switch {
		case !e.Dir:
			loose.Files, loose.Bytes = loose.Files+e.Files, loose.Bytes+e.Bytes
		case v.Volume != "" || c.isOwn(v.Path) || e.Name == "lost+found" || e.Mount && c.passing(v.Path):
		case v.Holds > 0 || c.holdsOwn(v.Path):
			if err := s.uncoveredIn(ctx, c, root, v.Path, out); err != nil {
				return err
			}
		case len(out.Directories) >= mostUncovered:
			out.More = true
		default:
			out.Directories = append(out.Directories, v)
		}
	}
	if loose.Files > 0 {
		out.Loose = append(out.Loose, loose)
	}
	return nil
}

// ProtectUncovered makes volumes of directories that nothing protects: of those named, or of all. What cannot be
// protected is told, and keeps no other from it.
func (s *Service) ProtectUncovered(ctx context.Context, ask api.ProtectUncovered) (*api.UncoveredProtected, error) {
	paths := ask.Paths
	if len(paths) == 0 {
		all, err := s.Uncovered(ctx)
		if err != nil {
			return nil, err
		}
		for _, d := range all.Directories {
			paths = append(paths, d.Path)
		}
		if len(paths) == 0 {
			return nil, refusal.Conflictf("every directory below the roots of this site is protected already")
		}
	}
	out := &api.UncoveredProtected{Added: []api.VolumeFound{}, Refused: []api.RefusedPath{}}
	for _, path := range paths {
		found, err := s.protect(ctx, path, ask.Labels)
		if ctx.Err() != nil {
			return out, ctx.Err()
		} else if err != nil {
			out.Refused = append(out.Refused, api.RefusedPath{Path: path, Why: err.Error()})
		} else {
			out.Added = append(out.Added, *found)
		}
	}
	return out, nil
}

func (s *Service) protect(ctx context.Context, path string, labels map[string]string) (*api.VolumeFound, error) {
	dir, _, err := s.directory(path)
	if err != nil {
		return nil, err
	}
	c, err := s.cover()
	if err != nil {
		return nil, err
	}
	if v := c.by(dir); v != "" {
		return nil, refusal.Conflictf("the volume %s protects it already", v)
	}
	if n := c.holds(dir); n > 0 {
		return nil, refusal.Conflictf("%s below it, which would be taken twice: protect what is beside, or add it with "+
			"candid volume add --exclude and leave that out", phrase.ManyAre(n, "volume"))
	}
	name, err := s.nameAfter(dir)
	if err != nil {
		return nil, err
	}
	return s.AddVolume(ctx, api.VolumeAdd{Name: name, Path: dir, Labels: labels})
}

// nameAfter is a name for a volume over a directory that no volume has.
func (s *Service) nameAfter(dir string) (string, error) {
	own := nameOf(filepath.Base(dir))
	for n, name := 1, own; ; n++ {
		_, err := s.Catalog.Volume(name)
		switch {
		case errors.Is(err, catalog.ErrNone):
			return name, policy.CheckName("volume", name)
		case err != nil:
			return "", err
		case n == 1:
			name = nameOf(filepath.Base(filepath.Dir(dir)) + "-" + own)
		default:
			name = own[:min(len(own), 50)] + "-" + strconv.Itoa(n)
		}
	}
}

// nameOf is a directory's name as a volume may have it: of small letters, digits and dashes.
func nameOf(dir string) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, dir)
	for strings.Contains(name, "--") {
		name = strings.ReplaceAll(name, "--", "-")
	}
	name = strings.Trim(name[:min(len(name), 50)], "-")
	return cmp.Or(name, "directory")
}
