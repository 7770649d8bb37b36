// Package chunker cuts bytes by content: the same bytes are cut at the same places
// whatever stands before them, so an insertion changes only the chunks it touches.
//
// The rolling value is a gear hash with normalised chunk sizes: a stricter mask
// before the average size, a looser one after it (W. Xia et al., "The Design of
// Fast Content-Defined Chunking for Data Deduplication Based Storage Systems",
// IEEE TPDS 2020). Parameters are pinned for a lineage: other parameters cut
// elsewhere and nothing would be shared with what is stored.
package chunker

import (
	"fmt"
	"math/bits"
)

// Params are chunk sizes in bytes. Avg is a power of two.
type Params struct{ Min, Avg, Max int }

// ForAverage returns the parameters used for an average size: a quarter of it at
// least and four times it at most. Avg is one of 32, 64, 128 or 256 KiB.
func ForAverage(avg int) (Params, error) {
	if avg < 32<<10 || avg > 256<<10 || bits.OnesCount(uint(avg)) != 1 {
		return Params{}, fmt.Errorf("average chunk size %d: it must be 32, 64, 128 or 256 KiB", avg)
	}
	return Params{Min: avg / 4, Avg: avg, Max: avg * 4}, nil
}

// Chunker finds cut points. It holds no state between calls and may be shared.
type Chunker struct {
	p              Params
	strict, looser uint64
}

// New returns a chunker for the parameters.
func New(p Params) *Chunker {
	n := bits.TrailingZeros(uint(p.Avg))
	return &Chunker{p: p, strict: topMask(n + 1), looser: topMask(n - 1)}
}

// Params returns what the chunker was made with.
func (c *Chunker) Params() Params { return c.p }

// The highest bits of a gear hash depend on the most bytes.
func topMask(n int) uint64 { return ^uint64(0) << (64 - n) }

// Cut returns the length of the first chunk of data. data must hold at least
// Params.Max bytes, or all that is left of the input.
func (c *Chunker) Cut(data []byte) int {
	n := len(data)
	if n <= c.p.Min {
		return n
	}
	if n > c.p.Max {
		n = c.p.Max
	}
	// The hash forgets a byte after 64 steps: begin that far before the first
	// possible cut.
	var h uint64
	i := c.p.Min - 64
	for _, b := range data[i:c.p.Min] {
		h = h<<1 + gear[b]
	}
	i = c.p.Min
	mid := min(c.p.Avg, n)
	for ; i < mid; i++ {
		h = h<<1 + gear[data[i]]
		if h&c.strict == 0 {
			return i + 1
		}
	}
	for ; i < n; i++ {
		h = h<<1 + gear[data[i]]
		if h&c.looser == 0 {
			return i + 1
		}
	}
	return n
}

// gear is 256 values of the splitmix64 sequence (G. Steele et al., OOPSLA 2014)
// begun at a fixed seed; it is part of the format.
var gear = func() (t [256]uint64) {
	x := uint64(0x43616e6469644861)
	for i := range t {
		x += 0x9e3779b97f4a7c15
		z := x
		z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
		z = (z ^ z>>27) * 0x94d049bb133111eb
		t[i] = z ^ z>>31
	}
	return t
}()
