// Package space answers what snapshots take and what removing some of them gives
// back, exactly, from their censuses.
package space

import "github.com/RoaringBitmap/roaring/v2"

// Sizer returns the stored size of the object with an ordinal, in bytes.
type Sizer func(ordinal uint32) int64

// Sum returns the stored bytes of a set of objects.
func Sum(set *roaring.Bitmap, size Sizer) (total int64) {
	it := set.ManyIterator()
	buf := make([]uint32, 1024)
	for n := it.NextMany(buf); n > 0; n = it.NextMany(buf) {
		for _, o := range buf[:n] {
			total += size(o)
		}
	}
	return total
}

// Freeing finds what only the censuses of going snapshots need: what leaves the store when
// exactly those go and all others stay. Censuses are added one at a time and not kept.
type Freeing struct{ going, staying *roaring.Bitmap }

// Add adds the census of a snapshot that goes or stays.
func (f *Freeing) Add(census *roaring.Bitmap, goes bool) {
	to := &f.staying
	if goes {
		to = &f.going
	}
	if *to == nil {
		*to = census.Clone()
		return
	}
	*to = roaring.Or(*to, census) // in place a run is added value by value
}

// Objects returns what only going snapshots need.
func (f *Freeing) Objects() *roaring.Bitmap {
	switch {
	case f.going == nil:
		return roaring.New()
	case f.staying == nil:
		return f.going.Clone()
	}
	return roaring.AndNot(f.going, f.staying)
}
