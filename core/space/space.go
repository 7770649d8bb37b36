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
type Freeing struct{ going, staying roaring.Bitmap }

// Add adds the census of a snapshot that goes or stays.
func (f *Freeing) Add(census *roaring.Bitmap, goes bool) {
	if goes {
		Include(&f.going, census)
	} else {
		Include(&f.staying, census)
	}
}

// Include adds a census to a set. Only what the set lacks is added, because the library's union in place adds what
// stands in runs one by one, also what is there already.
func Include(set, census *roaring.Bitmap) { set.Or(roaring.AndNot(census, set)) }

// Objects returns what only going snapshots need.
func (f *Freeing) Objects() *roaring.Bitmap { return roaring.AndNot(&f.going, &f.staying) }
