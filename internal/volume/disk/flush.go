package disk

import (
	"context"
	"sync"
	"sync/atomic"
)

// flusher makes writes durable, those of many callers by one sync.
type flusher struct {
	d     *Disk
	dirty atomic.Bool // something was written since the last flush began

	mu      sync.Mutex
	next    *flushing // that begins after the one under way
	running bool
	syncs   atomic.Int64
}

type flushing struct {
	done chan struct{}
	err  error
}

func (f *flusher) init(d *Disk) { f.d = d }

// Flush makes all writes durable that ended before it began.
func (d *Disk) Flush(ctx context.Context) error {
	if err := d.Failed(); err != nil {
		return err
	}
	f := &d.flusher
	f.mu.Lock()
	fl := f.next
	lead := fl == nil
	if lead {
		fl = &flushing{done: make(chan struct{})}
		f.next = fl
	}
	if lead && !f.running {
		f.running = true
		f.mu.Unlock()
		f.run() // this one, and those that came meanwhile
	} else {
		f.mu.Unlock()
	}
	select {
	case <-fl.done:
		return fl.err
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (f *flusher) run() {
	for {
		f.mu.Lock()
		fl := f.next
		f.next = nil
		if fl == nil {
			f.running = false
			f.mu.Unlock()
			return
		}
		f.mu.Unlock()
		fl.err = f.sync()
		close(fl.done)
	}
}

// sync makes the image durable, then what the maps said before that.
func (f *flusher) sync() error {
	d := f.d
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	if !f.dirty.Swap(false) {
		return d.Failed()
	}
	pages := d.maps.takeDirty()
	f.syncs.Add(1)
	err := d.image.Sync()
	if err == nil && len(pages) > 0 {
		if err = d.maps.writePages(pages); err == nil {
			f.syncs.Add(1)
			err = d.maps.durable.Sync()
		}
	}
	if err != nil {
		return d.fail(err)
	}
	return nil
}

// Syncs is how often something was made durable, for figures.
func (d *Disk) Syncs() int64 { return d.flusher.syncs.Load() }

// Tick does what is due now and then: it gives back the room of blocks that read as zeros, and lets intents
// go of regions that nobody writes into. It is to be called about every ten seconds, by one at a time.
func (d *Disk) Tick(ctx context.Context) error {
	if d.closed.Load() || d.Failed() != nil {
		return d.Failed()
	}
	d.shapeMu.RLock()
	if d.closed.Load() {
		d.shapeMu.RUnlock()
		return nil
	}
	err := d.punch()
	stored := d.stored(d.intents.cold(d.opt.Now()))
	d.shapeMu.RUnlock()
	if err != nil || len(stored) == 0 {
		return err
	}
	// The image must be on the disk as it was stored: what a power cut undid would not be noticed.
	if err := d.Flush(ctx); err != nil {
		return err
	}
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	return d.intents.drop(d.stored(stored))
}

// stored are those regions of which all is as it is in base.
func (d *Disk) stored(regions []int64) (is []int64) {
	d.maps.wordMu.Lock()
	defer d.maps.wordMu.Unlock()
	changed := d.maps.changed.Load()
	for _, r := range regions {
		first, end := r*region/d.block, min((r+1)*region/d.block, d.blocks)
		if r < d.intents.n && changed.next(first) >= end && d.maps.frozen.next(first) >= end {
			is = append(is, r)
		}
	}
	return is
}

// punch gives back room in the image that reads as zeros anyway.
func (d *Disk) punch() error {
	for b := d.punching.next(0); b < d.blocks; {
		end := b + 1
		for end < d.blocks && end-b < stripes/2 && d.punching.has(end) {
			end++
		}
		unlock := d.lock(b, end)
		var err error
		for i := b; i < end && err == nil; i++ {
			if !d.punching.has(i) || d.needed(i) {
				continue
			}
			d.punching.clear(i)
			if d.maps.zero.has(i) {
				err = d.image.Punch(i*d.block, min(d.block, d.size-i*d.block))
			}
		}
		unlock()
		if err != nil {
			return err
		}
		b = d.punching.next(end)
	}
	return nil
}
