package disk

import (
	"fmt"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// View reads a disk as it was stored; what of it is damaged cannot be read. It holds what it reads until it is
// closed.
type View struct {
	o     *origin
	lease *store.Lease
	size  int64
	block int64
}

// OpenView opens a stored map.
func OpenView(st *store.Store, m Stored, block uint32) (*View, error) {
	lease := st.NewLease()
	if ok, err := lease.AcquireAny(m.Map); err != nil || !ok {
		lease.Release()
		if err == nil {
			err = fmt.Errorf("%w: map %s", store.ErrNoObject, m.Map)
		}
		return nil, err
	}
	return &View{o: newOrigin(st, m, block), lease: lease, size: m.Size, block: int64(block)}, nil
}

// Size is the disk's size in bytes.
func (v *View) Size() int64 { return v.size }

// Close lets go what is read.
func (v *View) Close() { v.lease.Release() }

// ReadAt reads bytes of the disk.
func (v *View) ReadAt(p []byte, off int64) error {
	if off < 0 || off > v.size || int64(len(p)) > v.size-off {
		return fmt.Errorf("%w: %d bytes at %d of %d", ErrBounds, len(p), off, v.size)
	}
	for len(p) > 0 {
		b := off / v.block
		n := min(int64(len(p)), (b+1)*v.block-off)
		if err := v.o.read(p[:n], b, off-b*v.block); err != nil {
			return err
		}
		p, off = p[n:], off+n
	}
	return nil
}

// Extents tell of a stretch which parts hold anything but zeros.
func (v *View) Extents(off, n int64) (all []Extent, err error) {
	for at := off; at < off+n && len(all) < mostExtents; {
		b := at / v.block
		end := min((b+1)*v.block, off+n)
		s, err := v.o.slot(b)
		if err != nil {
			return nil, err
		}
		zero := s.State == object.Hole
		if k := len(all) - 1; k >= 0 && all[k].Zero == zero {
			all[k].Length += end - at
		} else {
			all = append(all, Extent{end - at, zero})
		}
		at = end
	}
	return all, nil
}
