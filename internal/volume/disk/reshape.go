package disk

import (
	"context"
	"errors"
	"fmt"

	"candidharbor/core/object"
)

// Grow makes the disk larger. What is new reads as zeros.
func (d *Disk) Grow(ctx context.Context, size int64) error {
	return d.reshape(ctx, nil, func(st *state) (*maps, error) {
		if err := CheckShape(size, st.Block); err != nil {
			return nil, err
		}
		if size < st.Size {
			return nil, fmt.Errorf("a disk of %d bytes does not become one of %d: it grows only", st.Size, size)
		}
		m := newMaps(object.Blocks(size, st.Block))
		m.here, m.zero = d.maps.here.resized(m.n), d.maps.zero.resized(m.n)
		m.changed.Store(d.maps.changed.Load().resized(m.n))
		if d.origin != nil && m.n > d.maps.n { // the origin says nothing of what is behind its end
			m.here.setRange(d.maps.n, m.n)
		}
		m.zero.setRange(d.maps.n, m.n) // whatever the image has there
		if rest := d.maps.n*d.block - st.Size; rest > 0 && d.where(d.maps.n-1) == fromImage {
			if _, err := d.image.WriteAt(make([]byte, min(rest, size-st.Size)), st.Size); err != nil {
				return nil, err
			}
		}
		st.Size = size
		return m, nil
	})
}

// reshape replaces the maps, with no write under way and everything durable. What is made takes the place
// of the old in one step, the renaming of the state record. Fresh is what brings the new origin, when it arrives.
func (d *Disk) reshape(ctx context.Context, fresh *arrival, remake func(st *state) (*maps, error)) (err error) {
	d.gate.mu.Lock()
	defer d.gate.mu.Unlock()
	if d.closed.Load() {
		return ErrClosed
	}
	if d.instant.Load() != nil {
		return ErrBusy
	}
	d.gate.quiet()
	if err := d.Flush(ctx); err != nil {
		return err
	}
	d.shapeMu.Lock()
	defer d.shapeMu.Unlock()
	d.stateMu.Lock()
	defer d.stateMu.Unlock()
	st := d.state
	m, err := remake(&st)
	if err != nil {
		return err
	}
	st.Generation++
	defer func() {
		if err != nil && m.durable != nil {
			err = errors.Join(err, m.durable.Close())
		}
	}()
	if err := d.image.Resize(max(st.Size, d.size), false); err != nil {
		return err
	}
	if err := d.image.Sync(); err != nil {
		return err
	}
	if err := m.makeDurable(d.opt.Files, st.Generation); err != nil {
		return err
	}
	in := d.intents
	if fresh != nil { // what changed without having been written counts after a power cut too
		if err := in.begin(0, d.size); err != nil {
			return err
		}
		in.end(0, d.size, d.opt.Now())
	}
	if st.Size != d.size {
		if in, err = d.intents.resized(st.Size, fresh != nil); err != nil {
			return err
		}
	}
	if err := d.setState(st); err != nil {
		return err
	}
	old := d.maps
	m.live = old.live
	d.maps, d.intents, d.size, d.blocks, d.punching = m, in, st.Size, m.n, newBitmap(m.n)
	if was := d.arrival.Load(); fresh != nil || st.Arriving.Site == "" {
		d.arrival.Store(fresh)
		if was != nil {
			defer func() { err = errors.Join(err, was.end()) }()
		}
	}
	d.setOrigin()
	// From here on the disk is the new one, also after a power cut; a live file that does not say so is
	// not believed.
	if err := m.writeLive(st.Generation, d.imageID); err != nil {
		m.broken = err
		return err
	}
	return errors.Join(old.durable.Close(), d.opt.Files.Remove(durableName(st.Generation-1)))
}
