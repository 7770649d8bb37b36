package disk

import (
	"encoding/binary"
	"hash/crc32"
	"sync"
	"sync/atomic"
	"time"
)

// region is what one intent is of; a variable for tests.
var region int64 = 64 << 20

// coldFor is how long nothing is written into a region before its intent may go.
const coldFor = time.Minute

const intentName = "intents"

// intents say into which regions something was written that may not be stored yet. An intent is durable
// before the write.
type intents struct {
	f      File
	fresh  bool // the file was not there, or says nothing
	n      int64
	size   int64
	set    *bitmap
	active []atomic.Int32
	last   []atomic.Int64 // when a write left, by the clock of now

	mu      sync.Mutex
	cond    *sync.Cond
	syncing bool
	round   uint64 // of syncs that ended
	err     error  // of the last one
	seq     uint64
	good    int64 // the copy that is known to be whole
}

// The file holds two copies: a sequence, the bits, and a sum of both. One is durable before the other is
// written, so that a torn write leaves one of them, and both say the same when nothing is written: neither
// a power cut nor a bit that flips loses an intent. The newest whole one counts.
func (in *intents) slot() int64 { return (int64(len(in.set.words))*8 + 12 + page - 1) / page * page }

func openIntents(files Files, size int64) (*intents, error) {
	n := (size + region - 1) / region
	in := &intents{n: n, size: size, set: newBitmap(n), active: make([]atomic.Int32, n), last: make([]atomic.Int64, n)}
	in.cond = sync.NewCond(&in.mu)
	var err error
	if in.f, err = files.Open(intentName); err != nil {
		return nil, err
	}
	if err := in.f.Resize(2*in.slot(), true); err != nil {
		return nil, err
	}
	found := 0
	var seqs [2]uint64
	for i := range int64(2) {
		raw := make([]byte, len(in.set.words)*8+12)
		if _, err := in.f.ReadAt(raw, i*in.slot()); err != nil {
			return nil, err
		}
		if crc32.Checksum(raw[:len(raw)-4], castagnoli) != binary.LittleEndian.Uint32(raw[len(raw)-4:]) {
			continue
		}
		found++
		if seqs[i] = binary.LittleEndian.Uint64(raw); seqs[i] > in.seq {
			in.seq, in.good = seqs[i], i
			in.set.load(raw[8:])
		}
	}
	in.fresh = in.seq == 0
	if found == 2 && seqs[0] == seqs[1] || in.fresh {
		return in, nil
	}
	return in, in.write()
}

// write puts the bits into the file and makes them durable. The caller is alone with that.
func (in *intents) write() error {
	in.seq++
	if err := in.writeCopy(); err != nil {
		return err
	}
	return in.writeCopy()
}

// writeCopy writes that copy which is not known to be whole.
func (in *intents) writeCopy() error {
	raw := binary.LittleEndian.AppendUint64(nil, in.seq)
	raw = in.set.bytes(raw, 0, len(in.set.words))
	raw = binary.LittleEndian.AppendUint32(raw, crc32.Checksum(raw, castagnoli))
	if _, err := in.f.WriteAt(raw, (1-in.good)*in.slot()); err != nil {
		return err
	}
	if err := in.f.Sync(); err != nil {
		return err
	}
	in.good = 1 - in.good
	return nil
}

// resized has the bits, or all, for a disk of another size in the same file. Until a state record of that size is
// there the newest copy of before counts, which this leaves.
func (in *intents) resized(size int64, all bool) (*intents, error) {
	n := (size + region - 1) / region
	out := &intents{f: in.f, n: n, size: size, set: in.set.resized(n), active: make([]atomic.Int32, n),
		last: make([]atomic.Int64, n), seq: in.seq + 1, good: in.good}
	out.cond = sync.NewCond(&out.mu)
	copy(out.last, in.last)
	if all {
		out.set.setRange(0, n)
	}
	if err := out.f.Resize(max(2*out.slot(), 2*in.slot()), true); err != nil {
		return nil, err
	}
	return out, out.writeCopy()
}

func (in *intents) setAll() error {
	in.set.setRange(0, in.n)
	return in.write()
}

// has reports whether a stretch has its intents.
func (in *intents) has(off, n int64) bool {
	for r := off / region; r < (off+n+region-1)/region; r++ {
		if !in.set.has(r) {
			return false
		}
	}
	return true
}

// begin has the intents of a stretch durable before it returns.
func (in *intents) begin(off, n int64) error {
	first, end := off/region, (off+n+region-1)/region
	lacking := false
	for r := first; r < end; r++ {
		in.active[r].Add(1)
		lacking = lacking || !in.set.has(r)
	}
	if !lacking {
		return nil
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	for r := first; r < end; r++ {
		in.set.set(r)
	}
	// Who finds a sync under way waits for the one after it, which has these bits.
	want := in.round + 1
	if in.syncing {
		want++
	}
	for in.round < want {
		if in.syncing {
			in.cond.Wait()
			continue
		}
		in.sync()
	}
	return in.err
}

// sync makes the bits durable. The caller holds mu, which is let go meanwhile.
func (in *intents) sync() {
	in.syncing = true
	in.mu.Unlock()
	err := in.write()
	in.mu.Lock()
	in.syncing, in.err = false, err
	in.round++
	in.cond.Broadcast()
}

func (in *intents) end(off, n int64, now time.Time) {
	for r := off / region; r < (off+n+region-1)/region; r++ {
		in.last[r].Store(now.UnixNano())
		in.active[r].Add(-1)
	}
}

// cold lists regions with an intent into which nothing was written for a while.
func (in *intents) cold(now time.Time) (rs []int64) {
	for r := in.set.next(0); r < in.n; r = in.set.next(r + 1) {
		if in.active[r].Load() == 0 && now.Sub(time.Unix(0, in.last[r].Load())) >= coldFor {
			rs = append(rs, r)
		}
	}
	return rs
}

// drop takes intents away again, but for those of regions that are written into.
func (in *intents) drop(rs []int64) error {
	in.mu.Lock()
	defer in.mu.Unlock()
	for in.syncing {
		in.cond.Wait()
	}
	any := false
	for _, r := range rs {
		in.set.clear(r)
		if in.active[r].Load() > 0 { // it may have seen the bit
			in.set.set(r)
			continue
		}
		any = true
	}
	if !any {
		return nil
	}
	in.sync()
	return in.err
}

// each visits the stretches of the disk that have an intent.
func (in *intents) each(visit func(from, to int64)) {
	for r := in.set.next(0); r < in.n; r = in.set.next(r + 1) {
		visit(r*region, min((r+1)*region, in.size))
	}
}

func (in *intents) close() error { return in.f.Close() }
