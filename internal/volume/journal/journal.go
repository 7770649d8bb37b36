package journal

import (
	"errors"
	"os"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Journal watches the filesystems of a site's volumes.
type Journal struct {
	own  string // directory whose changes are the service's own records
	now  func() time.Time
	told func()

	mu    sync.Mutex
	disks map[uint64]*disk
}

// New returns a journal that watches nothing yet. Changes below own are left out. told is
// called, not too seldom, after something changed on a watched filesystem.
func New(own string, now func() time.Time, told func()) *Journal {
	return &Journal{own: own, now: now, told: told, disks: map[uint64]*disk{}}
}

// Close ends all watching.
func (j *Journal) Close() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	var errs []error
	for dev, d := range j.disks {
		close(d.ended)
		errs = append(errs, d.f.Close())
		delete(j.disks, dev)
	}
	return errors.Join(errs...)
}

// Watch follows one directory with all below it.
type Watch struct {
	j    *Journal
	path string
	open func() (int, error)
	skip func(rel string) bool

	mu     sync.Mutex
	d      *disk
	dir    uint64 // inode of the directory
	mounts string
	peeked int64
	first  time.Time
	last   time.Time
}

// Watch returns a watch of a directory, which open opens. What lies where skip says so does not
// count.
func (j *Journal) Watch(path string, open func() (int, error), skip func(rel string) bool) *Watch {
	return &Watch{j: j, path: path, open: open, skip: skip}
}

// Forget ends a watch.
func (w *Watch) Forget() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.d != nil {
		w.d.leave(w)
	}
	w.d = nil
}

// attach makes sure that the open directory's filesystem is watched. The error says why it
// cannot be.
func (w *Watch) attach(fd int) (d *disk, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return nil, err
	}
	if err := checkKind(fd); err != nil {
		return nil, err
	}
	if real, err := os.Readlink("/proc/self/fd/" + strconv.Itoa(fd)); err != nil || real != w.path {
		return nil, errors.New("a symbolic link leads to it")
	}
	if w.j.own != "" && within(w.path, w.j.own) {
		return nil, errors.New("it lies in the service's own directory")
	}
	if !seesAllProcesses() {
		return nil, errors.New("the service runs in a process namespace of its own and cannot see which files " +
			"others hold open")
	}
	mounts, err := mountsAround(w.path)
	if err != nil {
		return nil, err
	}
	w.j.mu.Lock()
	if d = w.j.disks[st.Dev]; d == nil {
		if d, err = openDisk(fd, st.Dev, w.j.now, w.j.told); err == nil {
			w.j.disks[st.Dev] = d
		}
	}
	w.j.mu.Unlock()
	if err != nil {
		return nil, err
	}
	if err := d.check(fd); err != nil {
		return nil, err
	}
	if w.d != d || w.dir != st.Ino || w.mounts != mounts {
		if w.d != nil && w.d != d {
			w.d.leave(w)
		}
		w.d, w.dir, w.mounts = d, st.Ino, mounts
		d.put(w, position{})
	}
	return d, nil
}

// anew opens the directory and attaches it.
func (w *Watch) anew() (fd int, d *disk, err error) {
	if fd, err = w.open(); err != nil {
		return -1, nil, err
	}
	if d, err = w.attach(fd); err != nil {
		unix.Close(fd)
		return -1, nil, err
	}
	return fd, d, nil
}

// Peek reports whether something changed since the last reading, and when first and last.
// ok is false when that is not known.
func (w *Watch) Peek() (first, last time.Time, ok bool) {
	fd, d, err := w.anew()
	if err != nil {
		return first, last, false
	}
	defer unix.Close(fd)
	w.mu.Lock()
	peeked := w.peeked
	w.mu.Unlock()
	at := d.position(w)
	if at.from == 0 {
		return first, last, false
	}
	t := w.since(fd, d, position{max(at.from, peeked), at.epoch})
	if t.err != nil {
		return first, last, false
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if d.position(w) != at { // read meanwhile
		return w.first, w.last, true
	}
	w.peeked = t.seq
	if t.any {
		if w.first.IsZero() {
			w.first = t.first
		}
		w.last = t.last
	}
	return w.first, w.last, true
}
