package chunker

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func cutAll(c *Chunker, data []byte) (ends []int) {
	for at := 0; at < len(data); {
		at += c.Cut(data[at:])
		ends = append(ends, at)
	}
	return ends
}

func noise(seed uint64, n int) []byte {
	rng := rand.New(rand.NewPCG(seed, 1))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rng.Uint32())
	}
	return b
}

func TestSizesAreNormal(t *testing.T) {
	for _, avg := range []int{32 << 10, 64 << 10, 128 << 10, 256 << 10} {
		p, err := ForAverage(avg)
		require.NoError(t, err)
		data := noise(uint64(avg), 32<<20)
		ends := cutAll(New(p), data)
		last := 0
		for i, e := range ends {
			require.LessOrEqual(t, e-last, p.Max)
			if i < len(ends)-1 {
				require.GreaterOrEqual(t, e-last, p.Min)
			}
			last = e
		}
		require.InEpsilon(t, avg, len(data)/len(ends), 0.35, "average %d", len(data)/len(ends))
	}
	_, err := ForAverage(50_000)
	require.Error(t, err)
}

// After an edit the cuts find back to where they were.
func TestCutsResynchronise(t *testing.T) {
	p, _ := ForAverage(32 << 10)
	c := New(p)
	rapid.Check(t, func(t *rapid.T) {
		data := noise(rapid.Uint64().Draw(t, "seed"), 2<<20)
		at := rapid.IntRange(0, len(data)).Draw(t, "at")
		ins := noise(3, rapid.IntRange(1, 5000).Draw(t, "inserted"))
		edited := append(append(append([]byte(nil), data[:at]...), ins...), data[at:]...)
		before := map[int]bool{}
		for _, e := range cutAll(c, data) {
			before[e] = true
		}
		same := 0
		after := cutAll(c, edited)
		for _, e := range after {
			if (e <= at && before[e]) || (e > at && before[e-len(ins)]) {
				same++
			}
		}
		require.GreaterOrEqual(t, same, len(after)-16, "%d of %d cuts", same, len(after))
	})
}

// Runs of zeros are cut at the largest size: reading a hole may skip by it.
func TestZerosAreCutAtTheLargest(t *testing.T) {
	for _, avg := range []int{32 << 10, 64 << 10, 128 << 10, 256 << 10} {
		p, _ := ForAverage(avg)
		require.Equal(t, p.Max, New(p).Cut(make([]byte, 2*p.Max)))
	}
}

func BenchmarkCut(b *testing.B) {
	p, _ := ForAverage(64 << 10)
	c := New(p)
	data := noise(1, 16<<20)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		cutAll(c, data)
	}
}
