package disk

import (
	"context"
	"errors"
	"fmt"
	"time"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// Filled is what filling came to.
type Filled struct {
	Bytes      int64 // that were written to the image
	Unreadable int64 // blocks that the origin cannot give
}

// ErrNoRoom is returned when filling would leave the image's filesystem with too little room for what clients write.
var ErrNoRoom = errors.New("the filesystem of the image has no room for that")

// keptFree is the part of a filesystem that filling leaves free: one in so many.
const keptFree = 20

// Unfilled is how many blocks come from the origin, or are zeros there, until they are written or filled.
func (d *Disk) Unfilled() (n int64) {
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	if d.origin == nil {
		return 0
	}
	either := newBitmap(d.blocks)
	either.or(d.maps.here)
	either.or(d.maps.zero)
	return d.blocks - either.count()
}

// Fill brings what comes from the origin into the image, so that nothing is read from the store any more. It yields to
// clients. What was filled stays when it ends early.
func (d *Disk) Fill(ctx context.Context, progress func(int64)) (f Filled, err error) {
	pace := newPace(d)
	defer pace.end()
	buf := make([]byte, d.block)
	for b := int64(0); ; b++ {
		if b%256 == 0 {
			if err := d.hasRoom(); err != nil {
				return f, err
			}
		}
		began := time.Now()
		n, found, more, err := d.fillBlock(b, buf)
		switch {
		case errors.Is(err, ErrUnreadable):
			f.Unreadable++
		case err != nil:
			return f, err
		case !more:
			return f, nil
		}
		f.Bytes += n
		if found {
			progress(d.block)
			pace.took(time.Since(began))
			pace.rest(ctx)
		}
		if err := ctx.Err(); err != nil {
			return f, err
		}
	}
}

func (d *Disk) hasRoom() error {
	f, is := d.image.(interface {
		Room() (free, total int64, err error)
	})
	if !is {
		return nil
	}
	free, total, err := f.Room()
	if err == nil && free < total/keptFree {
		err = fmt.Errorf("%w: %d of %d bytes are free", ErrNoRoom, free, total)
	}
	return err
}

// Room is what is free on the filesystem of a file, and how large that is.
func (f *osFile) Room() (free, total int64, err error) {
	var st unix.Statfs_t
	if err := unix.Fstatfs(f.fd(), &st); err != nil {
		return 0, 0, err
	}
	return int64(st.Bavail) * st.Bsize, int64(st.Blocks) * st.Bsize, nil
}

// fillBlock fills one block, when it comes from the origin. What the disk reads as is the same before and after, so it
// is no change, and needs no intent: after a power cut that undid it the block comes from the origin again.
func (d *Disk) fillBlock(b int64, buf []byte) (n int64, found, more bool, err error) {
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	switch {
	case d.closed.Load():
		return 0, false, false, ErrClosed
	case d.Failed() != nil:
		return 0, false, false, d.Failed()
	case d.origin == nil || b >= d.blocks:
		return 0, false, false, nil
	}
	defer d.lock(b, b+1)()
	if d.where(b) != fromOrigin {
		return 0, false, true, nil
	}
	s, err := d.origin.slot(b)
	if err != nil {
		return 0, true, true, err
	}
	d.flusher.dirty.Store(true)
	p := buf[:min(d.block, d.size-b*d.block)]
	if s.State != object.Hole {
		if err := d.origin.readSlot(p, b, 0, s); err != nil {
			return 0, true, true, err
		}
	}
	if s.State == object.Hole || object.AllZero(p) {
		d.punching.set(b)
		return 0, true, true, d.maps.write(secZero, d.maps.zero, b, b+1, true)
	}
	if _, err := d.image.WriteAt(p, b*d.block); err != nil {
		return 0, true, true, err
	}
	return int64(len(p)), true, true, d.maps.write(secHere, d.maps.here, b, b+1, true)
}

// LetOriginGo has the disk stand on its own when nothing comes from its origin any more, and reports whether it does.
func (d *Disk) LetOriginGo(ctx context.Context) (alone bool, err error) {
	err = d.reshape(ctx, nil, func(st *state) (*maps, error) {
		if d.origin == nil {
			return nil, errAlone
		}
		for b := range d.blocks {
			if d.where(b) == fromOrigin {
				return nil, errNotAlone
			}
		}
		m := newMaps(d.blocks)
		m.here, m.zero = d.maps.here.resized(m.n), d.maps.zero.resized(m.n)
		m.changed.Store(d.maps.changed.Load().resized(m.n))
		st.Origin, st.Arriving = Stored{}, From{}
		return m, nil
	})
	if errors.Is(err, errAlone) || errors.Is(err, errNotAlone) {
		return errors.Is(err, errAlone), nil
	}
	return err == nil, err
}

var (
	errAlone    = errors.New("the disk has no origin")
	errNotAlone = errors.New("something comes from the origin")
)
