package space

import (
	"fmt"
	"math/rand/v2"
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
		freed := freed(removed, kept)
		require.EqualValues(t, len(dead), freed.GetCardinality())
		require.Equal(t, want, Sum(freed, size))
		require.Equal(t, before, fmt.Sprint(removed, kept), "the censuses are left as they are")
	})
}

func TestSumOfNothing(t *testing.T) {
	require.Zero(t, Sum(roaring.New(), func(uint32) int64 { panic("nothing to size") }))
	require.True(t, freed(nil, []*roaring.Bitmap{roaring.BitmapOf(1)}).IsEmpty())
}

// Removing one by one or all at once gives back the same in the end.
func freed(removed, kept []*roaring.Bitmap) *roaring.Bitmap {
	var f Freeing
	for _, c := range removed {
		f.Add(c, true)
	}
	for _, c := range kept {
		f.Add(c, false)
	}
	return f.Objects()
}

func ExampleFreeing() {
	monday, tuesday, today := roaring.BitmapOf(1, 2, 3), roaring.BitmapOf(2, 3, 4), roaring.BitmapOf(3, 5)
	one := func(uint32) int64 { return 100 }
	fmt.Println(Sum(freed([]*roaring.Bitmap{monday}, []*roaring.Bitmap{tuesday, today}), one))
	fmt.Println(Sum(freed([]*roaring.Bitmap{tuesday}, []*roaring.Bitmap{monday, today}), one))
	fmt.Println(Sum(freed([]*roaring.Bitmap{monday, tuesday}, []*roaring.Bitmap{today}), one))
	// Output:
	// 100
	// 100
	// 300
}

// BenchmarkFreed is what removing 300 of 1,000 snapshots of 1,000,000 objects each would
// give back, when each differs from the one before in a hundredth.
func BenchmarkFreed(b *testing.B) {
	rng := rand.New(rand.NewPCG(4, 2))
	all := make([]*roaring.Bitmap, 1000)
	now := roaring.New()
	now.AddRange(0, 1_000_000)
	next := uint32(1_000_000)
	for i := range all {
		now = now.Clone()
		for range 100 { // a hundred places with a hundred objects each
			at := rng.Uint32N(next)
			now.RemoveRange(uint64(at), uint64(at)+100)
		}
		now.AddRange(uint64(next), uint64(next)+10_000)
		next += 10_000
		now.RunOptimize()
		all[i] = now
	}
	for b.Loop() {
		Sum(freed(all[100:400], append(all[:100:100], all[400:]...)), func(uint32) int64 { return 1 })
	}
}
