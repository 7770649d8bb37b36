package disk

import (
	"candidharbor/core/object"
)

// Extent is a stretch of a disk of one kind.
type Extent struct {
	Length int64
	Zero   bool // reads as zeros
}

// mostExtents bounds what is told at once.
const mostExtents = 1024

// Extents tell of a stretch which parts hold anything but zeros, as far as that is known without reading
// them; of a long one only of its beginning.
func (d *Disk) Extents(off, n int64) (all []Extent, err error) {
	d.shapeMu.RLock()
	defer d.shapeMu.RUnlock()
	if _, _, err := d.bounds(off, n); err != nil {
		return nil, err
	}
	add := func(length int64, zero bool) {
		if k := len(all) - 1; k >= 0 && all[k].Zero == zero {
			all[k].Length += length
		} else {
			all = append(all, Extent{length, zero})
		}
	}
	for at := off; at < off+n && len(all) < mostExtents; {
		b := at / d.block
		end := min((b+1)*d.block, off+n)
		switch d.where(b) {
		case fromZero:
			add(end-at, true)
		case fromOrigin:
			s, err := d.origin.slot(b)
			if err != nil {
				return nil, err
			}
			add(end-at, s.State == object.Hole)
		default:
			for next := b + 1; end < off+n && d.where(next) == fromImage; next++ {
				end = min((next+1)*d.block, off+n)
			}
			d.imageExtents(at, end, add)
		}
		at = end
	}
	return all, nil
}

// imageExtents tells of a stretch of the image.
func (d *Disk) imageExtents(at, end int64, add func(length int64, zero bool)) {
	f, is := d.image.(interface {
		// NextData is where the next bytes are that are no hole, and where they end.
		NextData(off int64) (from, to int64, err error)
	})
	for at < end {
		if !is {
			add(end-at, false)
			return
		}
		from, to, err := f.NextData(at)
		if err != nil {
			add(end-at, false)
			return
		}
		if from > at {
			add(min(from, end)-at, true)
		}
		if from < end {
			add(min(to, end)-from, false)
		}
		at = min(to, end)
	}
}
