package disk

import (
	"bytes"
	"context"
	"errors"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// ErrChanged is returned when a disk was written to since the snapshot before it goes back.
var ErrChanged = errors.New("the disk was written to meanwhile")

// errNoMap is of going back to nothing.
var errNoMap = errors.New("there is no map to go back to")

// GoBack has the disk be as a stored map says, at once: what differs comes from there when it is read.
// Everything that the disk is must be stored; else it fails with ErrChanged.
func (d *Disk) GoBack(ctx context.Context, to Stored) error {
	return d.reshape(ctx, nil, func(st *state) (*maps, error) {
		m, _, err := d.become(st, to, d.getNode)
		if err != nil {
			return nil, err
		}
		st.Size, st.Base, st.Origin, st.Arriving = to.Size, to, to, From{}
		return m, nil
	})
}

// GoBackFar is GoBack to a snapshot that the store does not have whole. What it lacks comes from another site, when it
// is read or by Arrive. Nodes are the records of those nodes of its map that the store lacks.
func (d *Disk) GoBackFar(ctx context.Context, to Stored, from From, nodes [][]byte) error {
	from.Unstored = true
	a, err := newArrival(d.opt, from, to, uint32(d.block), nodes)
	if err != nil {
		return err
	}
	a.pins = a.pins[len(a.pins)-1:] // what there was of an earlier one ends with that
	if err = a.holdHere(); err == nil {
		err = d.opt.Files.Replace(arrivingName, bytes.Join(nodes, nil))
	}
	if err == nil {
		err = d.reshape(ctx, a, func(st *state) (*maps, error) {
			m, differ, err := d.become(st, to, a.node)
			if err != nil {
				return nil, err
			}
			// Relative to what is stored here all that differs has changed. Of a larger one that cannot be said.
			changed := m.changed.Load()
			changed.or(d.maps.changed.Load().resized(m.n))
			changed.or(differ)
			if st.Base.Size > to.Size {
				st.Base = Stored{}
				changed.setRange(0, m.n)
			}
			st.Size, st.Origin, st.Arriving = to.Size, to, from
			return m, nil
		})
	}
	if err != nil && d.arrival.Load() != a {
		var unclear *store.UnclearError
		if errors.As(err, &unclear) { // it may count after a power cut
			return errors.Join(err, a.close())
		}
		return errors.Join(err, a.end())
	}
	return err
}

// getNode is a node of any map that the disk is relative to or comes from.
func (d *Disk) getNode(id object.ID) (object.Envelope, error) {
	if a := d.arrival.Load(); a != nil {
		return a.node(id)
	}
	return d.store.Get(id)
}

// become is what the disk's maps are once it is as a stored map says, and the blocks that may differ from what it is.
func (d *Disk) become(st *state, to Stored, get object.Getter) (m *maps, differ *bitmap, err error) {
	if to.Map.IsZero() {
		return nil, nil, errNoMap
	}
	is := st.Base
	if !d.maps.changed.Load().empty() {
		if !d.unwritten(*st) {
			return nil, nil, ErrChanged
		}
		is = st.Origin
	}
	m = newMaps(object.Blocks(to.Size, st.Block))
	differ = newBitmap(m.n)
	same := min(m.n, d.maps.n)
	differ.setRange(same, m.n)
	if to.Size != st.Size && same > 0 { // it may hold more or less of its last block
		differ.set(same - 1)
	}
	left := mostCompared
	err = object.DiffMaps(get, is.top(st.Block), to.top(st.Block), func(b int64, _, _ object.Slot) error {
		if left--; left < 0 {
			return errManyDiffer
		}
		if b < m.n {
			differ.set(b)
		}
		return nil
	})
	if errors.Is(err, errManyDiffer) || lacks(err) || errors.Is(err, ErrUnreadable) || errors.Is(err, ErrWithdrawn) {
		// Looking for more takes longer than reading them anew, or what there was cannot be compared.
		differ.setRange(0, m.n)
		return m, differ, nil
	}
	if err != nil {
		return nil, nil, err
	}
	if d.origin == nil {
		m.here.setRange(0, same)
	} else {
		m.here = d.maps.here.resized(m.n)
	}
	m.zero = d.maps.zero.resized(m.n)
	for b := differ.next(0); b < m.n; b = differ.next(b + 1) {
		m.here.clear(b)
		m.zero.clear(b)
	}
	return m, differ, nil
}

// Unwritten reports whether a disk that went back to a snapshot which arrives still is just that.
func (d *Disk) Unwritten() bool {
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	d.stateMu.Lock()
	defer d.stateMu.Unlock()
	return d.unwritten(d.state)
}

// unwritten is Unwritten. Nothing of what changed came from clients then: they leave it in the image, or as zeros.
func (d *Disk) unwritten(st state) bool {
	if !st.Arriving.Unstored || d.instant.Load() != nil {
		return false
	}
	changed := d.maps.changed.Load()
	for b := changed.next(0); b < d.blocks; b = changed.next(b + 1) {
		if d.where(b) != fromOrigin {
			return false
		}
	}
	return true
}

// mostCompared bounds how many differing blocks are looked for when a disk goes back, so that it takes no
// longer the larger it is.
const mostCompared = 1 << 15

var errManyDiffer = errors.New("very much differs")
