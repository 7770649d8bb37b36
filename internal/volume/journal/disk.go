package journal

import (
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// mostTold bounds what is remembered of one filesystem. More is taken as lost.
const mostTold = 1 << 18

// gathered is how long events gather in the kernel's queue, which has room for 16,384: it makes one of those that are
// alike, and many are read at once. Whoever reads the volume takes over what is there without waiting.
const gathered = 25 * time.Millisecond

// hit is when something was last told of, by count and by the clock.
type hit struct {
	seq int64
	at  time.Time
	// counted says that the number of a file's names changed, so that what was told by
	// one name may stand under another.
	counted bool
}

// hits are the last by handle. They are found by the bytes of an event, and changed in place: beside a busy neighbour
// most events are of what was told before, and cost no memory.
type hits map[handle]*hit

func (m hits) add(key []byte, h hit) {
	if was := m[handle(key)]; was != nil {
		*was = h
		return
	}
	m[handle(key)] = &h
}

// position is up to where a volume was read: everything told in the epoch up to from. The
// zero position means that nothing was.
type position struct{ from, epoch int64 }

// disk is one watched filesystem.
type disk struct {
	dev uint64
	now func() time.Time
	f   *os.File

	ended chan struct{} // closed before f is

	mu      sync.Mutex
	buf     []byte
	seq     int64
	epoch   int64
	why     string // the last epoch ended
	dirs    hits
	files   hits
	below   hits                // directories that came to be where they are
	moves   hits                // directories in which directories were moved
	ignored map[handle]struct{} // the service's own directories
	own     map[handle]struct{} // and files, whose names' number is told without a directory
	watches map[*Watch]position
	told    func()
}

func openDisk(dirfd int, dev uint64, now func() time.Time, told func()) (*disk, error) {
	fd, err := listen(dirfd)
	if err != nil {
		return nil, err
	}
	d := &disk{dev: dev, now: now, f: os.NewFile(uintptr(fd), "fanotify"), ended: make(chan struct{}),
		buf: make([]byte, 256<<10), told: told, seq: 1, ignored: map[handle]struct{}{}, own: map[handle]struct{}{},
		watches: map[*Watch]position{}}
	d.forget("")
	go d.listen()
	return d, nil
}

// listen takes events off the kernel's queue until the descriptor is closed.
func (d *disk) listen() {
	c, err := d.f.SyscallConn()
	if err != nil {
		return
	}
	_ = c.Read(func(uintptr) bool {
		d.mu.Lock()
		before := d.seq
		d.drain()
		some := d.seq != before
		d.mu.Unlock()
		if some {
			d.told()
			select {
			case <-time.After(gathered):
			case <-d.ended:
			}
		}
		return false
	})
}

// forget ends the epoch: nothing told so far counts.
func (d *disk) forget(why string) {
	d.epoch++
	d.why = why
	d.dirs, d.files, d.below, d.moves = hits{}, hits{}, hits{}, hits{}
}

// drain takes over all events that the kernel has. The caller holds the lock.
func (d *disk) drain() {
	c, err := d.f.SyscallConn()
	if err != nil {
		d.forget("watching ended")
		return
	}
	now := d.now()
	ctlErr := c.Control(func(fd uintptr) {
		for {
			n, err := unix.Read(int(fd), d.buf)
			switch {
			case errors.Is(err, unix.EINTR):
				continue
			case errors.Is(err, unix.EAGAIN):
				return
			case err != nil || n == 0:
				d.forget(fmt.Sprintf("watching ended: %v", err))
				return
			}
			if err := parse(d.buf[:n], func(e event) { d.take(e, now) }); err != nil {
				d.forget(err.Error())
			}
		}
	})
	if ctlErr != nil {
		d.forget("watching ended")
	}
	if len(d.dirs)+len(d.files)+len(d.below)+len(d.moves) > mostTold {
		d.forget("too much changed on the filesystem to remember it")
	}
}

func (d *disk) take(e event, now time.Time) {
	d.seq++
	if len(d.watches) == 0 {
		return
	}
	if e.overflow {
		d.forget("the kernel lost track: too much changed at once")
		return
	}
	_, ownFile := d.own[handle(e.file)]
	if _, own := d.ignored[handle(e.dir)]; own && e.dir != nil && !e.onDir {
		if len(d.own) >= mostTold {
			clear(d.own)
		}
		if !ownFile {
			d.own[handle(e.file)] = struct{}{}
		}
		return
	}
	if ownFile && e.dir == nil {
		return
	}
	if ownFile {
		delete(d.own, handle(e.file))
	}
	h := hit{seq: d.seq, at: now}
	if e.dir != nil {
		d.dirs.add(e.dir, h)
	}
	switch {
	case e.file == nil:
	case !e.onDir:
		was := d.files[handle(e.file)]
		h.counted = e.dir == nil || was != nil && was.counted
		d.files.add(e.file, h)
	case e.arrived:
		delete(d.ignored, handle(e.file))
		d.below.add(e.file, h)
	default:
		d.dirs.add(e.file, h)
	}
	if e.onDir && e.moved && e.dir != nil {
		d.moves.add(e.dir, h)
	}
}

// prune forgets what every watch has read. The caller holds the lock.
func (d *disk) prune() {
	least := d.seq
	for _, at := range d.watches {
		if at.epoch == d.epoch {
			least = min(least, at.from)
		}
	}
	for _, m := range []hits{d.dirs, d.files, d.below, d.moves} {
		for h, at := range m {
			if at.seq <= least {
				delete(m, h)
			}
		}
	}
}

func (d *disk) position(w *Watch) position {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.watches[w]
}

func (d *disk) put(w *Watch, at position) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.watches[w] = at
	d.prune()
}

func (d *disk) leave(w *Watch) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.watches, w)
	d.prune()
}

// check makes sure that the mark stands.
func (d *disk) check(dirfd int) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	c, err := d.f.SyscallConn()
	if err != nil {
		return err
	}
	var there bool
	var cerr error
	if err := c.Control(func(fd uintptr) {
		if there, cerr = marked(int(fd), d.dev); cerr == nil && !there {
			d.forget("the filesystem was unmounted meanwhile")
			cerr = mark(int(fd), dirfd)
		}
	}); err != nil {
		return err
	}
	return cerr
}
