package disk

import (
	"context"
	"errors"
	"fmt"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// ErrChanged is returned when a disk was written to since the snapshot before it goes back.
var ErrChanged = errors.New("the disk was written to meanwhile")

// Grow makes the disk larger. What is new reads as zeros.
func (d *Disk) Grow(ctx context.Context, size int64) error {
	return d.reshape(ctx, func(st *state) (*maps, error) {
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

// GoBack has the disk be as a stored map says, at once: what differs comes from there when it is read.
// Everything that the disk is must be stored; else it fails with ErrChanged.
func (d *Disk) GoBack(ctx context.Context, to Stored) error {
	return d.reshape(ctx, func(st *state) (*maps, error) {
		if !d.maps.changed.Load().empty() {
			return nil, ErrChanged
		}
		if to.Map.IsZero() {
			return nil, errors.New("there is no map to go back to")
		}
		m := newMaps(object.Blocks(to.Size, st.Block))
		same := min(m.n, d.maps.n)
		if d.origin == nil {
			m.here.setRange(0, same)
		} else {
			m.here = d.maps.here.resized(m.n)
		}
		m.zero = d.maps.zero.resized(m.n)
		m.here.clearRange(same, m.n)
		if to.Size != st.Size && same > 0 { // it may hold more or less of its last block
			m.here.clear(same - 1)
			m.zero.clear(same - 1)
		}
		left := mostCompared
		err := object.DiffMaps(d.store.Get, st.Base.top(st.Block), to.top(st.Block),
			func(b int64, _, _ object.Slot) error {
				if left--; left < 0 {
					return errManyDiffer
				}
				if b < m.n {
					m.here.clear(b)
					m.zero.clear(b)
				}
				return nil
			})
		if errors.Is(err, errManyDiffer) || errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrNoObject) {
			// Looking for more takes longer than reading them anew, or what there was cannot be compared.
			m.here, m.zero, err = newBitmap(m.n), newBitmap(m.n), nil
		}
		if err != nil {
			return nil, err
		}
		st.Size, st.Base, st.Origin = to.Size, to, to
		return m, nil
	})
}

// mostCompared bounds how many differing blocks are looked for when a disk goes back, so that it takes no
// longer the larger it is.
const mostCompared = 1 << 15

var errManyDiffer = errors.New("very much differs")

// reshape replaces the maps, with no write under way and everything durable. What is made takes the place
// of the old in one step, the renaming of the state record.
func (d *Disk) reshape(ctx context.Context, remake func(st *state) (*maps, error)) (err error) {
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
	if st.Size != d.size {
		if in, err = d.intents.resized(st.Size); err != nil {
			return err
		}
	}
	if err := d.setState(st); err != nil {
		return err
	}
	old := d.maps
	m.live = old.live
	d.maps, d.intents, d.size, d.blocks, d.punching = m, in, st.Size, m.n, newBitmap(m.n)
	d.setOrigin()
	// From here on the disk is the new one, also after a power cut; a live file that does not say so is
	// not believed.
	if err := m.writeLive(st.Generation, d.imageID); err != nil {
		m.broken = err
		return err
	}
	return errors.Join(old.durable.Close(), d.opt.Files.Remove(durableName(st.Generation-1)))
}
