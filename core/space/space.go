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

// Freed returns the objects that only the removed censuses need: what leaves the
// store when exactly those snapshots go and the kept ones stay.
func Freed(removed, kept []*roaring.Bitmap) *roaring.Bitmap {
	gone := roaring.FastOr(removed...)
	for _, k := range kept {
		if gone.IsEmpty() {
			break
		}
		gone.AndNot(k)
	}
	return gone
}
