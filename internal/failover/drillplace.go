package failover

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/route"
	"candidharbor/internal/views"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
)

// makePlace makes the directory in which a drill happens, and its network.
func (o *act) makePlace() (string, error) {
	d, home := o.doc.Drill, o.s.clones.DrillHome()
	o.s.places.Lock() // the home of drills goes with the last
	defer o.s.places.Unlock()
	d.Root = home
	if o.book.In == "" {
		fd, err := beneath.MakeAll(o.s.Path, home, 0o700)
		if err != nil {
			return "", err
		}
		unix.Close(fd)
	} else {
		var err error
		if home, d.Root, err = o.s.UnderRoot(o.book.In, false); err != nil {
			return "", err
		}
	}
	d.Dir = filepath.Join(home, o.row.ID)
	if err := o.save(); err != nil { // what is made from here on is found again
		return "", err
	}
	fd, err := beneath.MakeAll(d.Root, d.Dir, 0o755)
	if err != nil {
		return "", fmt.Errorf("no place for the drill at %s: %w", d.Dir, err)
	}
	unix.Close(fd)
	if o.apart(); d.NoApart != "" {
		o.j.Remark()
		return fmt.Sprintf("%s, in the network of this host: %s", d.Dir, d.NoApart), nil
	}
	return d.Dir + ", with a network apart", nil
}

// removePlace takes the directory of a drill away with what is in it.
func (s *Service) removePlace(d *drillDoc) error {
	if d.Dir == "" {
		return nil
	}
	s.places.Lock()
	defer s.places.Unlock()
	in, err := beneath.Root(d.Root, filepath.Dir(d.Dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	defer in.Close()
	if err := views.UnmountBelow(d.Root, d.Dir); err != nil { // what a hook mounted there is not the drill's to remove
		return err
	}
	if err := in.RemoveAll(filepath.Base(d.Dir)); err != nil {
		return err
	}
	if d.Root != s.clones.DrillHome() {
		return nil
	}
	data, err := beneath.Open(s.Path, s.Path)
	if err != nil {
		return err
	}
	defer unix.Close(data)
	err = unix.Unlinkat(data, filepath.Base(d.Root), unix.AT_REMOVEDIR)
	if errors.Is(err, unix.ENOTEMPTY) || errors.Is(err, unix.ENOENT) {
		return nil
	}
	return err
}

// freeFor is how many bytes a drill may still take at a path: a twentieth of the filesystem is left.
func freeFor(root, path string) (int64, error) {
	fd, err := beneath.Open(root, path)
	if err != nil {
		return 0, err
	}
	defer unix.Close(fd)
	var st unix.Statfs_t
	if err := unix.Fstatfs(fd, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail)*st.Bsize - int64(st.Blocks)/20*st.Bsize, nil
}

// shortOfRoom says where a drill that is up leaves too little room.
func (o *act) shortOfRoom() string {
	for _, at := range [][2]string{{o.doc.Drill.Root, o.doc.Drill.Dir}, {o.s.Path, o.s.Path}} {
		if free, err := freeFor(at[0], at[1]); err == nil && free <= 0 {
			return "less than a twentieth of the filesystem of " + at[1] + " is free"
		}
	}
	return ""
}

// drillUp brings up the volumes of a step as clones. A directory that a failover would restore is restored, so that its
// time is measured, where there is room for that.
func (o *act) drillUp(ctx context.Context, step int) (string, error) {
	vols, err := o.s.volumesOf(o.book)
	if err != nil {
		return "", err
	}
	var eg errgroup.Group
	eg.SetLimit(broughtUpAtOnce)
	var mu sync.Mutex // of the document, and what follows
	last, n := "", 0
	free, err := freeFor(o.doc.Drill.Root, o.doc.Drill.Dir)
	if err != nil {
		return "", err
	}
	for k := range vols {
		v := &vols[k]
		if v.step != step {
			continue
		}
		n++
		i := slices.IndexFunc(o.doc.Volumes, func(a actVolume) bool { return a.Name == v.Name })
		if i < 0 {
			return "", refusal.Conflictf("%s was not there when the drill began", v.Name)
		}
		row, err := o.s.Catalog.SnapshotAt(o.s.Place(), o.doc.Volumes[i].From)
		if err != nil {
			return "", err
		}
		if row == nil {
			return "", refusal.Conflictf("the snapshot of %s is not here any more", v.Name)
		}
		var how apartHow
		if !v.IsDisk() {
			would, err := o.s.wouldRestore(v)
			if err != nil {
				return "", err
			}
			how.room = row.Bytes <= free
			if how.restore = would && how.room; how.restore {
				free -= row.Bytes
			}
		}
		eg.Go(func() error {
			place, said, err := o.bringUpApart(ctx, i, v, row, how)
			if err != nil {
				return fmt.Errorf("%s: %w", v.Name, err)
			}
			o.j.Logf("%s %s", v.Name, said)
			mu.Lock()
			defer mu.Unlock()
			o.doc.Volumes[i].Place, last = place, v.Name+" "+said
			return nil
		})
	}
	if err := eg.Wait(); err != nil {
		return "", err
	}
	if n == 1 {
		return last, nil
	}
	return phrase.Many(n, "volume") + " up", nil
}

// apartHow is how a directory is brought up in a drill.
type apartHow struct {
	restore bool // as a failover would
	room    bool // there is room for that
}

func (o *act) bringUpApart(ctx context.Context, i int, v *bookVolume, row *catalog.Snapshot, how apartHow) (place,
	said string, err error) {
	d, name := o.doc.Drill, o.apartName(i, v)
	clone := "drill-" + o.row.ID[:8] + "-" + name
	if v.IsDisk() {
		if err := o.s.clones.MakeForDrill(o.row.ID, clone, v.Name, row.ID, "", "", o.row.AskedBy); err != nil {
			return "", "", err
		}
		return clone, fmt.Sprintf("is served as %s, as of %s", clone, phrase.Stamp(row.Began.Time)), nil
	}
	dir := filepath.Join(d.Dir, name)
	if !how.restore {
		err := o.s.clones.MakeForDrill(o.row.ID, clone, v.Name, row.ID, dir, d.Root, o.row.AskedBy)
		if err == nil {
			return dir, fmt.Sprintf("lies in %s, as of %s", dir, phrase.Stamp(row.Began.Time)), nil
		}
		if !how.room {
			return "", "", err
		}
		o.j.Logf("%s is restored, because it cannot be cloned: %s", v.Name, err)
	}
	if _, _, err := o.s.recovery.LayOut(ctx, v.Name, row.ID, dir, d.Root); err != nil {
		return "", "", err
	}
	return dir, fmt.Sprintf("was restored to %s, as of %s", dir, phrase.Stamp(row.Began.Time)), nil
}

// apartName is what a volume is called in a drill.
func (o *act) apartName(i int, v *bookVolume) string {
	name := route.NameAtOrigin(v.Volume)
	same := 0
	for _, other := range o.doc.Volumes {
		if n, _, _ := strings.Cut(other.Name, "@"); n == name {
			same++
		}
	}
	if same > 1 || len(name) > 45 {
		return strconv.Itoa(i + 1)
	}
	return name
}

// wouldRestore reports whether a failover would restore a directory, as it is not laid out where a rename leads from.
func (s *Service) wouldRestore(v *bookVolume) (bool, error) {
	lived, err := s.livedHere(v.Volume)
	if err != nil || lived && (v.path == "" || v.path == v.Path) {
		return false, err
	}
	if v.Standby != "exact" || v.StandbyDir == "" || v.StandbyError != "" {
		return true, nil
	}
	if v.path == "" || v.path == v.StandbyDir {
		return false, nil
	}
	target, _, err := s.UnderRoot(v.path, false)
	return err == nil && !s.sameFilesystem(v.StandbyDir, target), nil
}

// fileOf is where a file that a check looks for lies: in a drill that of a volume is in the drill's own.
func (o *act) fileOf(path string) (dir, root string, err error) {
	if d := o.doc.Drill; d != nil {
		vols, err := o.s.volumesOf(o.book)
		if err != nil {
			return "", "", err
		}
		for _, v := range vols {
			i := slices.IndexFunc(o.doc.Volumes, func(a actVolume) bool { return a.Name == v.Name })
			if v.IsDisk() || i < 0 || o.doc.Volumes[i].Place == "" {
				continue
			}
			for _, lies := range []string{v.path, v.StandbyDir, v.Path} {
				if rel, err := filepath.Rel(lies, path); lies != "" && err == nil && filepath.IsLocal(rel) {
					return filepath.Join(o.doc.Volumes[i].Place, rel), d.Root, nil
				}
			}
		}
	}
	return o.s.Fixed(path)
}
