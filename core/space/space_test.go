package space

import (
	"fmt"
	"testing"

	"github.com/RoaringBitmap/roaring/v2"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What comes back is counted exactly: the same as asking of each object whether
// somebody who stays needs it.
func TestFreedAgainstCounting(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sets := rapid.SliceOfN(rapid.SliceOfN(rapid.Uint32Range(0, 200_000), 0, 40), 1, 8).Draw(t, "censuses")
		goes := rapid.SliceOfN(rapid.Bool(), len(sets), len(sets)).Draw(t, "goes")
		size := func(o uint32) int64 { return int64(o%97) + 1 }
		var removed, kept []*roaring.Bitmap
		needed, dead := map[uint32]bool{}, map[uint32]bool{}
		for i, s := range sets {
			bm := roaring.BitmapOf(s...)
			if goes[i] {
				removed = append(removed, bm)
			} else {
				kept = append(kept, bm)
				for _, o := range s {
					needed[o] = true
				}
			}
		}
		var want int64
		for i, s := range sets {
			for _, o := range s {
				if goes[i] && !needed[o] && !dead[o] {
					dead[o] = true
					want += size(o)
				}
			}
		}
		before := fmt.Sprint(removed, kept)
		freed := Freed(removed, kept)
		require.EqualValues(t, len(dead), freed.GetCardinality())
		require.Equal(t, want, Sum(freed, size))
		require.Equal(t, before, fmt.Sprint(removed, kept), "the censuses are left as they are")
	})
}

func TestSumOfNothing(t *testing.T) {
	require.Zero(t, Sum(roaring.New(), func(uint32) int64 { panic("nothing to size") }))
	require.True(t, Freed(nil, []*roaring.Bitmap{roaring.BitmapOf(1)}).IsEmpty())
}

// Removing one by one or all at once gives back the same in the end.
func ExampleFreed() {
	monday, tuesday, today := roaring.BitmapOf(1, 2, 3), roaring.BitmapOf(2, 3, 4), roaring.BitmapOf(3, 5)
	one := func(uint32) int64 { return 100 }
	fmt.Println(Sum(Freed([]*roaring.Bitmap{monday}, []*roaring.Bitmap{tuesday, today}), one))
	fmt.Println(Sum(Freed([]*roaring.Bitmap{tuesday}, []*roaring.Bitmap{monday, today}), one))
	fmt.Println(Sum(Freed([]*roaring.Bitmap{monday, tuesday}, []*roaring.Bitmap{today}), one))
	// Output:
	// 100
	// 100
	// 300
}
