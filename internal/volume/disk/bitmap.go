package disk

import (
	"encoding/binary"
	"math/bits"
	"sync/atomic"
)

// bitmap has a bit for each block. Single bits are read and set by many at once; what reads or writes all
// of it is ordered by its caller.
type bitmap struct {
	words []uint64
	n     int64
}

func newBitmap(n int64) *bitmap { return &bitmap{make([]uint64, (n+63)/64), n} }

func (b *bitmap) has(i int64) bool {
	return atomic.LoadUint64(&b.words[i>>6])&(1<<(i&63)) != 0
}

// set sets a bit and reports whether that changed it.
func (b *bitmap) set(i int64) bool {
	bit := uint64(1) << (i & 63)
	return atomic.OrUint64(&b.words[i>>6], bit)&bit == 0
}

// clear clears a bit and reports whether that changed it.
func (b *bitmap) clear(i int64) bool {
	bit := uint64(1) << (i & 63)
	return atomic.AndUint64(&b.words[i>>6], ^bit)&bit != 0
}

// setRange sets the bits from from on up to before to.
func (b *bitmap) setRange(from, to int64) {
	for i := from; i < to; {
		if i&63 == 0 && i+64 <= to {
			atomic.StoreUint64(&b.words[i>>6], ^uint64(0))
			i += 64
			continue
		}
		b.set(i)
		i++
	}
}

// clearRange clears the bits from from on up to before to.
// next is the first bit that is set from i on; n when none is.
func (b *bitmap) next(i int64) int64 {
	for w := i >> 6; w < int64(len(b.words)); w++ {
		x := atomic.LoadUint64(&b.words[w])
		if w == i>>6 {
			x &= ^uint64(0) << (i & 63)
		}
		if x != 0 {
			return min(w<<6+int64(bits.TrailingZeros64(x)), b.n)
		}
	}
	return b.n
}

func (b *bitmap) count() (n int64) {
	for i := range b.words {
		n += int64(bits.OnesCount64(atomic.LoadUint64(&b.words[i])))
	}
	return n
}

func (b *bitmap) empty() bool { return b.next(0) == b.n }

// or adds the bits of another of the same length.
func (b *bitmap) or(o *bitmap) {
	for i := range b.words {
		if w := atomic.LoadUint64(&o.words[i]); w != 0 {
			atomic.OrUint64(&b.words[i], w)
		}
	}
}

// resized is a copy for another number of blocks; new bits are zero.
func (b *bitmap) resized(n int64) *bitmap {
	out := newBitmap(n)
	for i := range min(len(out.words), len(b.words)) {
		out.words[i] = atomic.LoadUint64(&b.words[i])
	}
	if n < b.n && n&63 != 0 {
		out.words[len(out.words)-1] &= 1<<(n&63) - 1
	}
	return out
}

// bytes are the words from one on, in little-endian order.
func (b *bitmap) bytes(dst []byte, from, to int) []byte {
	for i := from; i < to; i++ {
		dst = binary.LittleEndian.AppendUint64(dst, atomic.LoadUint64(&b.words[i]))
	}
	return dst
}

// load reads words as bytes wrote them. Bits behind the end are dropped.
func (b *bitmap) load(raw []byte) {
	for i := range b.words {
		b.words[i] = binary.LittleEndian.Uint64(raw[8*i:])
	}
	b.cutEnd()
}

// cutEnd drops bits behind the end.
func (b *bitmap) cutEnd() {
	if b.n&63 != 0 {
		b.words[len(b.words)-1] &= 1<<(b.n&63) - 1
	}
}

// copied are the words from one on up to before another.
func (b *bitmap) copied(from, to int) []uint64 {
	out := make([]uint64, to-from)
	for i := range out {
		out[i] = atomic.LoadUint64(&b.words[from+i])
	}
	return out
}
