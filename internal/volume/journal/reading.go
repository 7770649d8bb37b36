package journal

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Reading is one reading of a volume, from before its first look to after its last.
type Reading struct {
	w      *Watch
	d      *disk
	at     position // when it began
	mounts string
	held   map[uint64]int64 // open for writing: inode to ctime
	maps   bool             // some file in the volume is mapped for writing
	// somewhere are files mapped for writing of which it is not known where they stand.
	somewhere []uint64

	// Told says that all changes since the last reading that was Done are known; they are
	// in the fields below it. Otherwise Why says why not.
	Told bool
	Why  string
	// Touched are files that were told of: their times may be the same nevertheless.
	Touched map[uint64]bool
	// Dirs are directories, by their paths from the volume's top, in which something
	// changed; Below those of which, and of all below, nothing is known; Inodes files that
	// changed and may have further names; Always files that may change without a word.
	Dirs, Below []string
	Inodes      []uint64
	Always      map[uint64]bool
	any         bool
}

// Begin starts a reading of the directory, which is open. It fails, saying why, when the directory cannot be watched.
func (w *Watch) Begin(fd int) (*Reading, error) {
	d, err := w.attach(fd)
	if err != nil {
		return nil, err
	}
	before := d.position(w)
	t := w.since(fd, d, before)
	w.mu.Lock()
	r := &Reading{w: w, d: d, at: position{t.seq, t.epoch}, mounts: w.mounts, Always: map[uint64]bool{}, any: true}
	w.mu.Unlock()
	// Asked for after the events are taken: a file let go of in between has told of itself.
	dirs, err := r.hold()
	if err != nil {
		return nil, err
	}
	switch {
	case before.from == 0:
		r.Why = "it is watched from now on"
	case t.err != nil:
		r.Why = t.err.Error()
	default:
		r.Told, r.any = true, t.any
		r.Dirs = append(slices.Sorted(maps.Keys(t.dirs)), dirs...)
		r.Below, r.Inodes, r.Touched = slices.Sorted(maps.Keys(t.below)), append(r.Inodes, t.inodes...), t.touched
	}
	return r, nil
}

// hold notes the files that are held, and returns the directories of those whose place is
// known. Those whose place is not are among Inodes.
func (r *Reading) hold() (dirs []string, err error) {
	all, err := heldOn(r.d.dev)
	if err != nil {
		return nil, err
	}
	r.held = make(map[uint64]int64, len(all))
	for _, h := range all {
		at, dir := h.locate(r.w.path)
		switch at {
		case elsewhere:
			continue
		case inside:
			dirs = append(dirs, dir)
		}
		r.Inodes = append(r.Inodes, h.inode) // it may have further names
		if h.mapped {
			r.Always[h.inode] = true
			if at == inside {
				r.maps = true
			} else {
				r.somewhere = append(r.somewhere, h.inode)
			}
		} else {
			r.held[h.inode] = h.ctime
		}
	}
	return dirs, nil
}

func parent(rel string) string {
	if d := filepath.Dir(rel); d != "." {
		return d
	}
	return ""
}

// Any reports whether something changed in the volume since the last reading, or may have.
// outside tells of a file that it has no name in the volume.
func (r *Reading) Any(outside func(inode uint64) bool) bool {
	return !r.Told || r.any || r.mapped(outside)
}

func (r *Reading) mapped(outside func(inode uint64) bool) bool {
	return r.maps || slices.ContainsFunc(r.somewhere, func(inode uint64) bool { return !outside(inode) })
}

// End is called after the last look and before what was read is committed. still says that
// nothing changed while reading. A text says why a reading of what was told must be done
// anew, looking at everything; most often because a directory was moved meanwhile, so that
// what was told by place may have been somewhere else.
func (r *Reading) End(outside func(inode uint64) bool) (still bool, anew string) {
	fail := func(why string) (bool, string) {
		if !r.Told {
			return false, ""
		}
		return false, why
	}
	fd, _, err := r.w.anew()
	if err != nil {
		return fail(err.Error())
	}
	defer unix.Close(fd)
	if !r.stands() {
		return fail("mounts around the volume changed while it was read")
	}
	t := r.w.since(fd, r.d, r.at)
	switch {
	case t.err != nil:
		return fail(t.err.Error())
	case t.moved:
		return fail("a directory was moved while it was read")
	case t.any || r.mapped(outside):
		return false, ""
	}
	all, err := heldOn(r.d.dev)
	if err != nil {
		return false, ""
	}
	for _, h := range all {
		// A write that goes on has changed the times already, though it is not told yet.
		if before, was := r.held[h.inode]; h.mapped || !was || before != h.ctime {
			if at, _ := h.locate(r.w.path); at == inside || at == somewhere && !outside(h.inode) {
				return false, ""
			}
		}
	}
	return true, ""
}

// stands reports whether the volume is still what and where it was when this began.
func (r *Reading) stands() bool {
	r.w.mu.Lock()
	defer r.w.mu.Unlock()
	return r.w.d == r.d && r.w.mounts == r.mounts
}

// Later returns the directories in which something changed since the reading began.
func (r *Reading) Later() (map[string]bool, error) {
	fd, _, err := r.w.anew()
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	if !r.stands() {
		return nil, errors.New("mounts below the volume changed")
	}
	t := r.w.since(fd, r.d, r.at)
	return t.dirs, t.err
}

// Done notes that what was read is committed: from its beginning on the watch vouches.
func (r *Reading) Done() {
	if !r.stands() {
		return
	}
	r.w.mu.Lock()
	r.w.first, r.w.last, r.w.peeked = time.Time{}, time.Time{}, 0
	r.w.mu.Unlock()
	r.d.put(r.w, r.at)
}

// changes are what was told of a volume after a position.
type changes struct {
	dirs, below map[string]bool
	inodes      []uint64 // of files that may have further names
	touched     map[uint64]bool
	any, moved  bool
	first, last time.Time
	seq, epoch  int64 // the disk's, when this was asked
	err         error
}

type told struct {
	h  handle
	at hit
}

func after(all hits, from int64) []told {
	var out []told
	for h, at := range all {
		if at.seq > from {
			out = append(out, told{h, *at})
		}
	}
	return out
}

// since takes over the kernel's events and places what was told after a position.
func (w *Watch) since(dirfd int, d *disk, at position) (t changes) {
	t.dirs, t.below, t.touched = map[string]bool{}, map[string]bool{}, map[uint64]bool{}
	d.mu.Lock()
	d.drain()
	t.seq, t.epoch = d.seq, d.epoch
	if at.epoch != d.epoch {
		t.err = errors.New(d.why)
		d.mu.Unlock()
		return t
	}
	dirs, below, moves, files := after(d.dirs, at.from), after(d.below, at.from), after(d.moves, at.from),
		after(d.files, at.from)
	d.mu.Unlock()
	var own []handle
	place := func(all []told, each func(rel string)) {
		for _, e := range all {
			path, there, err := resolve(dirfd, e.h)
			if err != nil {
				t.err = fmt.Errorf("it could not be told where something changed: %w", err)
				return
			}
			if !there {
				continue
			}
			rel, in := strings.CutPrefix(path, strings.TrimSuffix(w.path, "/")+"/")
			if path == w.path {
				rel, in = "", true
			}
			if !in && w.j.own != "" && within(path, w.j.own) {
				own = append(own, e.h)
			}
			if !in || w.skipped(rel) {
				continue
			}
			t.any = true
			if t.first.IsZero() || e.at.at.Before(t.first) {
				t.first = e.at.at
			}
			if e.at.at.After(t.last) {
				t.last = e.at.at
			}
			each(rel)
		}
	}
	place(dirs, func(rel string) { t.dirs[rel] = true })
	place(below, func(rel string) { t.below[rel] = true })
	place(moves, func(string) { t.moved = true })
	for _, e := range files {
		var st unix.Stat_t
		there, err := statHandle(dirfd, e.h, &st)
		if err != nil {
			t.err = fmt.Errorf("it could not be told which file changed: %w", err)
			break
		}
		if !there {
			continue
		}
		t.touched[st.Ino] = true
		if st.Nlink > 1 || e.at.counted {
			t.inodes = append(t.inodes, st.Ino)
		}
	}
	if len(own) > 0 {
		d.mu.Lock()
		for _, h := range own {
			d.ignored[h] = struct{}{}
			delete(d.dirs, h)
		}
		d.mu.Unlock()
	}
	return t
}

func (w *Watch) skipped(rel string) bool {
	if w.skip == nil || rel == "" {
		return false
	}
	for i := 0; i < len(rel); i++ {
		if rel[i] == '/' && w.skip(rel[:i]) {
			return true
		}
	}
	return w.skip(rel)
}

func openHandle(dirfd int, h handle) (fd int, there bool, err error) {
	for range 2 {
		if fd, err = unix.OpenByHandleAt(dirfd, h.unix(), unix.O_PATH|unix.O_CLOEXEC); !errors.Is(err, unix.ENOMEM) {
			break // the kernel says so now and then of what is being removed
		}
	}
	switch {
	case errors.Is(err, unix.ESTALE), errors.Is(err, unix.ENOENT):
		return -1, false, nil
	case err != nil:
		return -1, false, err
	}
	return fd, true, nil
}

// resolve returns where a directory is now; there is false when it is gone.
func resolve(dirfd int, h handle) (path string, there bool, err error) {
	fd, there, err := openHandle(dirfd, h)
	if !there {
		return "", false, err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return "", false, err
	}
	if st.Nlink == 0 {
		return "", false, nil
	}
	buf := make([]byte, 4096)
	n, err := unix.Readlink("/proc/self/fd/"+strconv.Itoa(fd), buf)
	if err != nil {
		return "", false, err
	}
	return string(buf[:n]), true, nil
}

func statHandle(dirfd int, h handle, st *unix.Stat_t) (there bool, err error) {
	fd, there, err := openHandle(dirfd, h)
	if !there {
		return false, err
	}
	defer unix.Close(fd)
	err = unix.Fstat(fd, st)
	return err == nil && st.Nlink > 0, err
}
