package disk

import (
	"context"
	"errors"
	"io"
	"slices"

	"golang.org/x/sys/unix"
)

// ReadAt reads bytes of the disk.
func (d *Disk) ReadAt(p []byte, off int64) error {
	d.asked.Add(1)
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	first, end, err := d.bounds(off, int64(len(p)))
	if err != nil {
		return err
	}
	if d.closed.Load() {
		return ErrClosed
	}
	for b := first; b < end; {
		how := d.where(b)
		to := b + 1
		for how != fromOrigin && to < end && d.where(to) == how {
			to++
		}
		from := max(off, b*d.block)
		part := p[from-off : min(off+int64(len(p)), to*d.block)-off]
		switch how {
		case fromImage:
			err = d.readImage(part, from)
		case fromOrigin:
			err = d.origin.read(part, b, from-b*d.block)
		default:
			clear(part)
		}
		if err != nil {
			return err
		}
		b = to
	}
	return nil
}

// ReadNoWait reads what can be had without waiting for a disk. It reports whether it did.
func (d *Disk) ReadNoWait(p []byte, off int64) bool {
	d.asked.Add(1)
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	first, end, err := d.bounds(off, int64(len(p)))
	if err != nil || d.closed.Load() {
		return false
	}
	for b := first; b < end; b++ {
		if d.where(b) != fromImage {
			return false
		}
	}
	return d.readNoWait(p, off) == nil
}

type source uint8

const (
	fromZero source = iota
	fromImage
	fromOrigin
)

// where tells where a block's bytes come from.
func (d *Disk) where(b int64) source {
	switch {
	case d.maps.zero.has(b):
		return fromZero
	case d.origin == nil || d.maps.here.has(b):
		return fromImage
	}
	return fromOrigin
}

func (d *Disk) readImage(p []byte, off int64) error {
	n, err := d.image.ReadAt(p, off)
	if n == len(p) {
		return nil
	}
	if errors.Is(err, io.EOF) { // someone made it shorter
		err = unix.EIO
	}
	return err
}

// WriteAt writes bytes. With fua they are durable when it returns.
func (d *Disk) WriteAt(ctx context.Context, p []byte, off int64, fua bool) error {
	return d.change(ctx, off, int64(len(p)), fua, func(w *write) error {
		if d.settled(w) {
			_, err := d.image.WriteAt(p, off)
			return err
		}
		return d.writeBlocks(w, p, off, w.first, w.end)
	})
}

// WriteNoWait writes where that waits for nothing but the image: its blocks are there, and its region has an intent. It
// reports whether it did.
func (d *Disk) WriteNoWait(p []byte, off int64) bool {
	d.asked.Add(1)
	d.shapeMu.RLock()
	first, end, err := d.bounds(off, int64(len(p)))
	d.shapeMu.RUnlock()
	if err != nil || d.Failed() != nil || d.gate.draining.Load() {
		return false
	}
	w := &write{first: first, end: end}
	parity := d.gate.enter(first, end, func() { w.changed = d.maps.changed.Load() })
	defer d.gate.leave(parity, first, end)
	if end > d.blocks || d.closed.Load() || !d.intents.has(off, int64(len(p))) {
		return false
	}
	return d.within(w, off, int64(len(p)), func(*write) error {
		if !d.settled(w) {
			return d.writeBlock(w, p, off)
		}
		_, err := d.image.WriteAt(p, off)
		return err
	}) == nil
}

// writeBlock writes into one block that is in the image, without waiting for anything else.
func (d *Disk) writeBlock(w *write, p []byte, off int64) error {
	b := w.first
	stripe := &d.stripes[b%stripes]
	if w.end != b+1 || !stripe.TryLock() {
		return errWouldWait
	}
	defer stripe.Unlock()
	if d.where(b) != fromImage {
		return errWouldWait
	}
	if in := d.due(w); in != nil && !in.keep(b, off, off+int64(len(p)), d.readNoWait) {
		return errWouldWait
	}
	if err := d.maps.write(secChanged, w.changed, b, b+1, true); err != nil {
		return err
	}
	_, err := d.image.WriteAt(p, off)
	return err
}

// readNoWait reads from the image what is in memory.
func (d *Disk) readNoWait(p []byte, off int64) error {
	f, is := d.image.(interface {
		ReadNoWait(p []byte, off int64) (int, error)
	})
	if !is {
		return errWouldWait
	}
	if n, err := f.ReadNoWait(p, off); err != nil || n != len(p) {
		return errWouldWait
	}
	return nil
}

// Trim says that nobody needs a stretch any more. Blocks that are wholly in it read as zeros from then on.
func (d *Disk) Trim(ctx context.Context, off, n int64, fua bool) error {
	return d.change(ctx, off, n, fua, func(w *write) error { return d.zeroBlocks(w, off, n) })
}

// Zero has a stretch read as zeros. With allocate the room in the image stays.
func (d *Disk) Zero(ctx context.Context, off, n int64, allocate, fua bool) error {
	return d.change(ctx, off, n, fua, func(w *write) error {
		if !allocate {
			if err := d.zeroBlocks(w, off, n); err != nil {
				return err
			}
		}
		zeros := make([]byte, d.block)
		for b := w.first; b < w.end; b++ {
			from, to := max(off, b*d.block), min(off+n, (b+1)*d.block)
			if !allocate && d.whole(b, off, n) {
				continue
			}
			if err := d.writeBlocks(w, zeros[:to-from], from, b, b+1); err != nil {
				return err
			}
		}
		return nil
	})
}

// whole reports whether a block is wholly within a stretch.
func (d *Disk) whole(b, off, n int64) bool {
	return off <= b*d.block && off+n >= min((b+1)*d.block, d.size)
}

// write is a request that changes blocks.
type write struct {
	first, end int64
	changed    *bitmap // of the epoch that it belongs to
}

// change runs a write within the gate, with the intents of its regions durable.
func (d *Disk) change(ctx context.Context, off, n int64, fua bool, do func(w *write) error) error {
	d.asked.Add(1)
	d.shapeMu.RLock()
	first, end, err := d.bounds(off, n)
	d.shapeMu.RUnlock()
	if err != nil {
		return err
	}
	if err := d.Failed(); err != nil {
		return err
	}
	w := &write{first: first, end: end}
	parity := d.gate.enter(first, end, func() { w.changed = d.maps.changed.Load() })
	err = d.within(w, off, n, do)
	d.gate.leave(parity, first, end)
	if err == nil && fua {
		err = d.Flush(ctx)
	}
	return err
}

// within runs a write that has entered the gate.
func (d *Disk) within(w *write, off, n int64, do func(w *write) error) error {
	if d.closed.Load() {
		return ErrClosed
	}
	if _, _, err := d.bounds(off, n); err != nil { // it may have become another disk meanwhile
		return err
	}
	err := d.intents.begin(off, n)
	if err == nil {
		err = do(w)
		d.flusher.dirty.Store(true)
	}
	d.intents.end(off, n, d.opt.Now())
	return err
}

// settled reports whether all blocks were written since the last instant, lie in the image and are needed by nobody:
// then a write changes no bit.
func (d *Disk) settled(w *write) bool {
	if d.due(w) != nil {
		return false
	}
	allHere := d.origin == nil
	for b := w.first; b < w.end; b++ {
		if !w.changed.has(b) || d.maps.zero.has(b) || !allHere && !d.maps.here.has(b) {
			return false
		}
	}
	return true
}

// lock locks the stripes of blocks and returns what unlocks them.
func (d *Disk) lock(first, end int64) (unlock func()) {
	if end-first == 1 {
		m := &d.stripes[first%stripes]
		m.Lock()
		return m.Unlock
	}
	var which []int64
	for b := first; b < min(end, first+stripes); b++ {
		which = append(which, b%stripes)
	}
	slices.Sort(which)
	for _, s := range which {
		d.stripes[s].Lock()
	}
	return func() {
		for _, s := range which {
			d.stripes[s].Unlock()
		}
	}
}

// writeBlocks writes into blocks of which some bits have to change.
func (d *Disk) writeBlocks(w *write, p []byte, off int64, first, end int64) error {
	defer d.lock(first, end)()
	// What a write leaves of its first and last block comes from where it came from until now.
	head, tail := off, off+int64(len(p))
	if d.where(first) != fromImage {
		head = first * d.block
	}
	if d.where(end-1) != fromImage {
		tail = min(end*d.block, d.size)
	}
	for b := first; b < end; b++ {
		d.keepAside(w, b, max(head, b*d.block), min(tail, (b+1)*d.block))
	}
	if err := d.maps.write(secChanged, w.changed, first, end, true); err != nil {
		return err
	}
	if head != off || tail != off+int64(len(p)) {
		whole := make([]byte, tail-head)
		if err := d.fill(whole[:off-head], head); err != nil {
			return err
		}
		copy(whole[off-head:], p)
		if err := d.fill(whole[off-head+int64(len(p)):], off+int64(len(p))); err != nil {
			return err
		}
		p, off = whole, head
	}
	if _, err := d.image.WriteAt(p, off); err != nil {
		return err
	}
	if d.origin != nil {
		if err := d.maps.write(secHere, d.maps.here, first, end, true); err != nil {
			return err
		}
	}
	return d.maps.write(secZero, d.maps.zero, first, end, false)
}

// fill reads what stands in a part of one block that is written.
func (d *Disk) fill(p []byte, off int64) error {
	if len(p) == 0 {
		return nil
	}
	return d.ReadAt(p, off)
}

// zeroBlocks has the blocks that are wholly in a stretch read as zeros.
func (d *Disk) zeroBlocks(w *write, off, n int64) error {
	first, end := (off+d.block-1)/d.block, (off+n)/d.block
	if off+n == d.size {
		end = d.blocks
	}
	for from := first; from < end; from += stripes {
		to := min(end, from+stripes)
		unlock := d.lock(from, to)
		err := d.zeroLocked(w, from, to)
		unlock()
		if err != nil {
			return err
		}
	}
	return nil
}

func (d *Disk) zeroLocked(w *write, first, end int64) error {
	for b := first; b < end; b++ {
		d.keepAside(w, b, 0, 0)
	}
	if err := d.maps.write(secChanged, w.changed, first, end, true); err != nil {
		return err
	}
	if err := d.maps.write(secZero, d.maps.zero, first, end, true); err != nil {
		return err
	}
	d.punching.setRange(first, end)
	return nil
}
