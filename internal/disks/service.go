package disks

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"sync"
	"time"

	"candidharbor/internal/access"
	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/disk"

	"golang.org/x/sys/unix"
)

// Service has the disks of a site.
type Service struct {
	*datadir.Dir
	run    *run.Engine
	access *access.Service
	fetch  disk.Fetch // gets what disks lack that went back to a snapshot of another site

	hostsMu sync.Mutex // orders changes of what hosts may; comes before mu

	authorityMu sync.Mutex
	certifies   *certAuthority // nil: not needed yet

	mu     sync.Mutex
	open   map[string]*served                      // by volume
	follow map[string]*standby                     // copies that have an image of their own, by lineage
	closed map[string]error                        // why a disk could not be opened, by volume
	hosts  map[string]map[*hostConnection]struct{} // by host
}

// served is a disk that is open, and who is connected to it.
type served struct {
	name string
	d    *disk.Disk

	mu      sync.Mutex
	clients map[*connection]struct{}
	holder  *client // nil: nobody
	wrote   bool    // the holder has written something
	refused int     // clients that were turned away since it holds the disk
	closed  bool    // a person has closed it to clients
	shared  bool    // several clients may write
	away    int     // what else keeps clients from it at present
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, access *access.Service) *Service {
	return &Service{Dir: dir, run: run, access: access, open: map[string]*served{},
		follow: map[string]*standby{}, closed: map[string]error{},
		hosts: map[string]map[*hostConnection]struct{}{}}
}

// BlockSize is that of new disks; see docs/decisions/033.
const BlockSize = 64 << 10

// home is where lies what a disk keeps beside its image.
func (s *Service) home(lineage string) string { return filepath.Join(s.Path, "disks", lineage) }

func owner(lineage string) string { return "disk" + lineage }

// Image says where the image of a new disk is to lie: at a path below a root, or with the site's own data.
func (s *Service) Image(path, lineage string) (string, error) {
	if path == "" {
		return filepath.Join(s.home(lineage), "image"), nil
	}
	resolved, _, err := s.UnderRoot(path, false)
	return resolved, err
}

// openImage opens an image, or makes one where nothing is.
func (s *Service) openImage(path, lineage string, create bool) (*os.File, error) {
	flags, mode := uint64(unix.O_RDWR|unix.O_NOFOLLOW|unix.O_NONBLOCK), uint64(0)
	if create {
		flags, mode = flags|unix.O_CREAT|unix.O_EXCL, 0o600
	}
	root := s.Path
	if path != filepath.Join(s.home(lineage), "image") {
		var err error
		if path, root, err = s.Fixed(path); err != nil {
			return nil, err
		}
	}
	dir, err := beneath.Open(root, filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	defer unix.Close(dir)
	fd, err := beneath.At(dir, filepath.Base(path), flags, mode)
	if errors.Is(err, unix.EEXIST) {
		return nil, refusal.Conflictf("image %s is there already: name a file that is not, or leave --image away", path)
	}
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: path, Err: err}
	}
	f := os.NewFile(uintptr(fd), path)
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() {
		err = refusal.Badf("image %s is no file", path)
	}
	if err == nil && create {
		err = unix.Fsync(dir)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (s *Service) options(v *catalog.Volume, image *os.File) disk.Options {
	return disk.Options{Image: disk.Image(image), Files: disk.Dir(s.home(v.Lineage)), Store: s.Store,
		Owner: owner(v.Lineage), Fetch: s.fetch, Now: s.Clock.Now}
}

// Create makes the image and the records of a new disk. Fill, if not nil, writes into the image first.
func (s *Service) Create(v *catalog.Volume, shape disk.Shape, fill func(image *os.File) error) (err error) {
	if err := os.MkdirAll(s.home(v.Lineage), 0o700); err != nil {
		return err
	}
	image, err := s.openImage(v.Path, v.Lineage, true)
	if err != nil {
		return errors.Join(err, os.Remove(s.home(v.Lineage)))
	}
	defer func() {
		err = errors.Join(err, image.Close())
		if err != nil {
			err = errors.Join(err, s.destroy(v))
		}
	}()
	if fill != nil {
		if err := fill(image); err != nil {
			return err
		}
	}
	if err := s.sayAbout(v); err != nil {
		return err
	}
	return disk.Create(s.options(v, image), shape)
}

// Make makes a new disk, opens it and enters its volume, unless another has come by its name meanwhile.
func (s *Service) Make(
	ctx context.Context, v *catalog.Volume, shape disk.Shape, fill func(image *os.File) error,
) error {
	release, err := s.run.Hold(ctx, run.KeyDisk.Of(v.Name))
	if err != nil {
		return err
	}
	defer release()
	if err := s.canName(v.Name); err != nil {
		return err
	}
	if _, err := s.Catalog.Volume(v.Name); !errors.Is(err, catalog.ErrNone) {
		return errors.Join(refusal.Conflictf("volume %s is there already: choose another name", v.Name), err)
	}
	if err := s.Create(v, shape, fill); err != nil {
		return err
	}
	if err := s.Open(v); err != nil {
		return err
	}
	if err := s.Catalog.PutVolume(v); err != nil {
		return errors.Join(err, s.stop(context.WithoutCancel(ctx), v.Name), s.destroy(v))
	}
	return nil
}

// destroy removes a disk with its image and records.
func (s *Service) destroy(v *catalog.Volume) error {
	if v.Lineage == "" { // whose home would be that of all
		return fmt.Errorf("the disk %s has no lineage: nothing is removed", v.Name)
	}
	if err := disk.Destroy(disk.Dir(s.home(v.Lineage)), s.Store, owner(v.Lineage)); err != nil &&
		!errors.Is(err, os.ErrNotExist) {
		return err
	}
	if v.Path != filepath.Join(s.home(v.Lineage), "image") {
		path, root, err := s.Fixed(v.Path)
		if err != nil {
			return err
		}
		dir, err := beneath.Open(root, filepath.Dir(path))
		if err != nil {
			return err
		}
		defer unix.Close(dir)
		if err := unix.Unlinkat(dir, filepath.Base(path), 0); err != nil && !errors.Is(err, unix.ENOENT) {
			return &os.PathError{Op: "remove", Path: path, Err: err}
		}
	}
	return os.RemoveAll(s.home(v.Lineage))
}

// Open opens the disk of a volume. The caller has it alone, or no client knows it yet.
func (s *Service) Open(v *catalog.Volume) error { return s.openIt(v, false) }

// openIt is Open; moved says that the image was moved as a file, with what is in it.
func (s *Service) openIt(v *catalog.Volume, moved bool) error {
	d, err := s.enterDisk(v, moved)
	if err != nil {
		return err
	}
	if _, is := d.Arriving(); is {
		if _, err := s.Arrive(v.Name, "the service"); err != nil {
			s.Log.Warn("what a disk lacks does not come by itself", "volume", v.Name, "error", err)
		}
	}
	return nil
}

// enterDisk has clients find a disk, or notes why they do not.
func (s *Service) enterDisk(v *catalog.Volume, moved bool) (*disk.Disk, error) {
	d, err := s.openDisk(v, moved)
	if err == nil {
		if aerr := s.sayAbout(v); aerr != nil { // needed only when the catalogue is lost as well
			s.Log.Warn("a disk cannot say what it is beside its records", "volume", v.Name, "error", aerr)
		}
	}
	var terms *catalog.DiskTerms
	if err == nil {
		if terms, err = s.Catalog.DiskTerms(v.Lineage); err != nil {
			err = errors.Join(err, d.Close())
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		s.closed[v.Name] = err
		return nil, err
	}
	delete(s.closed, v.Name)
	s.open[v.Name] = &served{name: v.Name, d: d, clients: map[*connection]struct{}{}, closed: terms.Closed,
		shared: terms.Shared}
	return d, nil
}

func (s *Service) openDisk(v *catalog.Volume, moved bool) (*disk.Disk, error) {
	image, err := s.openImage(v.Path, v.Lineage, false)
	if err != nil {
		return nil, err
	}
	opt := s.options(v, image)
	opt.Moved = moved
	return disk.Open(opt)
}

// OpenAll opens the disks that this site protects. One that cannot be opened does not keep the others from
// it.
func (s *Service) OpenAll() error {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, v := range vols {
		if v.IsDisk() && v.Origin == s.Name() {
			known[owner(v.Lineage)] = true // what it needs of the store stays, although another site is active
		}
		if !v.IsDisk() || !v.ActiveAt(s.Name()) {
			continue
		}
		if known[owner(v.Lineage)] = true; !v.Protected {
			continue
		}
		if up, err := s.isUp(v); err != nil {
			return err
		} else if !up {
			continue
		}
		if err := s.Open(v); err != nil {
			s.Log.Error("a disk cannot be opened", "volume", v.Name, "image", v.Path, "error", err)
		}
	}
	clones, err := s.Catalog.Clones()
	if err != nil {
		return err
	}
	for _, c := range clones {
		if c.Dir != "" {
			continue
		}
		if err := s.openClone(c); err != nil {
			s.Log.Error("a clone cannot be opened", "clone", c.Name, "error", err)
		}
		known[owner(c.Lineage)] = true
	}
	if err := s.openStandbys(known); err != nil {
		return err
	}
	if err := s.adopt(known); err != nil {
		return err
	}
	for _, o := range s.Store.PinOwners() {
		if known[disk.OwnerOf(o)] {
			continue
		}
		for _, pin := range s.Store.Pins(o) { // of a disk that is no more
			pin.Release()
		}
	}
	return nil
}

// isUp reports whether what lies here of a disk that this site is active of is that disk: after another site was active
// of it, it is so only once it was brought up.
func (s *Service) isUp(v *catalog.Volume) (bool, error) {
	b, err := s.Catalog.StandBack(v.Lineage)
	return b == nil, err
}

// tickEvery is how often disks are seen to.
const tickEvery = 10 * time.Second

// Keep sees to the disks until the context ends.
func (s *Service) Keep(ctx context.Context) {
	t := time.NewTicker(tickEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		for _, v := range s.all() {
			if err := v.d.Tick(ctx); err != nil && ctx.Err() == nil {
				s.Log.Error("a disk cannot be seen to", "volume", v.name, "error", err)
			}
			v.forgetTheDead()
		}
	}
}

func (s *Service) all() (all []*served) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, v := range s.open {
		all = append(all, v)
	}
	sort.Slice(all, func(i, k int) bool { return all[i].name < all[k].name })
	return all
}

func (s *Service) served(name string) (*served, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if v := s.open[name]; v != nil {
		return v, nil
	}
	return nil, refusal.Wrap(refusal.Conflict, &NotOpenError{name, s.closed[name]})
}

// Disk is the open disk of a volume.
func (s *Service) Disk(volume string) (*disk.Disk, error) {
	v, err := s.served(volume)
	if err != nil {
		return nil, err
	}
	return v.d, nil
}

// Close closes all disks. Their clients have gone by then.
func (s *Service) Close() error {
	var err error
	for _, v := range s.all() {
		if cerr := v.d.Close(); cerr != nil {
			err = errors.Join(err, fmt.Errorf("disk %s: %w", v.name, cerr))
		}
	}
	for _, b := range s.standbys() {
		err = errors.Join(err, b.close())
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.open)
	return err
}

// Stop closes the disk of a volume that is not protected any more. Its image and records stay where they are.
// It is refused while a client is connected.
func (s *Service) Stop(ctx context.Context, name string) error {
	release, err := s.alone(ctx, name)
	if err != nil {
		return err
	}
	defer release()
	return s.stop(ctx, name)
}

// stop is Stop for a caller that has the disk alone.
func (s *Service) stop(ctx context.Context, name string) error {
	s.mu.Lock()
	is := s.open[name]
	s.mu.Unlock()
	if is == nil {
		return nil
	}
	if _, err := is.shutOut(ctx, false); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.open, name)
	s.mu.Unlock()
	return is.d.Close()
}
