package store

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"

	"candidharbor/core/object"
)

// A pack begins with "candid harbor pack" and version u16 = 1, padded to packHead
// bytes; records follow.
const (
	packHead = 32
	packSize = 64 << 20
	bufSize  = 1 << 20
)

var packHeader = func() []byte {
	h := make([]byte, packHead)
	copy(h, "candid harbor pack")
	h[18] = 1
	return h
}()

// segment is a pack being written.
type segment struct {
	num     uint32
	name    string
	w       MediaWriter
	size    int64 // written and buffered
	buf     []byte
	settled bool
	bundles bool // there are some in it

	out  chan []byte           // full buffers on their way to w, while others put; nil: none yet
	free chan []byte           // those that were written
	end  chan error            // what the writing came to, once out is closed
	sync bool                  // the pack is full, and is synced behind the writing
	bad  atomic.Pointer[error] // of a write that failed
}

// packSet writes records to a metadata and a data pack side by side, and rolls
// packs when full. Until bufSize bytes came, a segment is only in memory.
type packSet struct {
	s       *Store
	open    [2]*segment // metadata, data
	full    []*segment
	settled bool
	names   []string // of packs committed
}

func newPackSet(s *Store) *packSet { return &packSet{s: s} }

func side(k object.Kind) int {
	if k == object.KindChunk {
		return 1
	}
	return 0
}

// append places a record and fills in the entry's pack and offset.
func (p *packSet) append(e *indexEntry, raw []byte) error {
	seg, err := p.segment(side(e.kind))
	if err != nil {
		return err
	}
	e.pack, e.offset = seg.num, uint32(seg.size)
	h, err := parseHeader(raw)
	if err != nil {
		return err
	}
	e.stored, e.codec, e.span = h.stored, h.codec, 0
	return p.add(seg, raw)
}

// appendBundle places a bundle and fills in where its members are.
func (p *packSet) appendBundle(members []*indexEntry, raw []byte) error {
	seg, err := p.segment(side(object.KindChunk))
	if err != nil {
		return err
	}
	h, err := parseBundle(raw)
	if err != nil {
		return err
	}
	table, err := membersOf(&h, raw)
	if err != nil {
		return err
	}
	for i, e := range members {
		ordinal := e.ordinal
		e.location = table[i].location(&h, seg.size)
		e.pack, e.ordinal = seg.num, ordinal
	}
	seg.bundles = true
	return p.add(seg, raw)
}

// segment is the pack being written on a side.
func (p *packSet) segment(side int) (seg *segment, err error) {
	if seg = p.open[side]; seg == nil {
		seg, err = p.newSegment(side)
	}
	return seg, err
}

func (p *packSet) add(seg *segment, raw []byte) error {
	seg.buf = append(seg.buf, raw...)
	seg.size += int64(len(raw))
	if len(seg.buf) >= bufSize || seg.size >= packSize {
		if err := seg.write(p.s); err != nil {
			return err
		}
	}
	if seg.size >= packSize {
		seg.sync = true
		close(seg.out)
		p.full = append(p.full, seg)
		p.open[slices.Index(p.open[:], seg)] = nil
	}
	return nil
}

func (p *packSet) newSegment(side int) (*segment, error) {
	num, err := p.s.numbers.nextPack()
	if err != nil {
		return nil, err
	}
	var r [4]byte
	rand.Read(r[:])
	seg := &segment{num: num, settled: p.settled, size: packHead,
		name: fmt.Sprintf("packs/%c-%08d-%s.pack", "md"[side], num, hex.EncodeToString(r[:]))}
	seg.buf = append(seg.buf, packHeader...)
	p.open[side] = seg
	return seg, nil
}

// write hands on what is buffered. It waits only when the medium is slower than what comes; an error of it may show
// later, at the end at last.
func (seg *segment) write(s *Store) error {
	if seg.w == nil {
		w, err := s.media.Create(seg.name)
		if err != nil {
			return explainFull(s.dir, err)
		}
		seg.w, seg.out, seg.free, seg.end = w, make(chan []byte, 1), make(chan []byte, 2), make(chan error, 1)
		seg.free <- make([]byte, 0, cap(seg.buf))
		go seg.writeOut() // ends when out is closed, which finish and abort see to
	}
	seg.out <- seg.buf
	seg.buf = <-seg.free
	if bad := seg.bad.Load(); bad != nil {
		return explainFull(s.dir, *bad)
	}
	return nil
}

func (seg *segment) writeOut() {
	var err error
	for b := range seg.out {
		if err == nil {
			if _, err = seg.w.Write(b); err != nil {
				seg.bad.Store(&err)
			}
		}
		seg.free <- b[:0]
	}
	if err == nil && seg.sync {
		err = seg.w.Sync()
	}
	seg.end <- err
}

// wait has all written that was handed on, after which nothing more is.
func (seg *segment) wait() error {
	if !seg.sync {
		close(seg.out)
	}
	return <-seg.end
}

// inMemory reports whether nothing was written to media yet.
func (p *packSet) inMemory() bool {
	for _, seg := range p.open {
		if seg != nil && seg.w != nil {
			return false
		}
	}
	return len(p.full) == 0
}

// finish makes all packs durable and returns what the manifest says of them.
func (p *packSet) finish() ([]packInfo, error) {
	segs := p.full
	for _, seg := range p.open {
		if seg != nil {
			segs = append(segs, seg)
		}
	}
	var wg sync.WaitGroup
	errs := make([]error, len(segs))
	for i, seg := range segs {
		wg.Add(1)
		go func() {
			defer wg.Done()
			if !seg.sync {
				errs[i] = seg.write(p.s)
			}
			if seg.w != nil {
				if err := seg.wait(); errs[i] == nil {
					errs[i] = explainFull(p.s.dir, err)
				}
			}
			if errs[i] == nil {
				errs[i] = explainFull(p.s.dir, seg.w.Commit())
				p.s.syncs.add()
			} else if seg.w != nil {
				seg.w.Abort()
			}
		}()
	}
	wg.Wait()
	var packs []packInfo
	for i, seg := range segs {
		if errs[i] == nil {
			packs = append(packs, packInfo{Num: seg.num, Name: seg.name, Bytes: seg.size, Settled: seg.settled,
				Bundles: seg.bundles})
			p.names = append(p.names, seg.name)
		}
	}
	p.full, p.open = nil, [2]*segment{}
	for _, err := range errs {
		if err != nil {
			p.abort()
			return nil, err
		}
	}
	slices.SortFunc(packs, func(a, b packInfo) int { return int(a.Num) - int(b.Num) })
	return packs, nil
}

// abort takes back everything written by the set.
func (p *packSet) abort() {
	for _, seg := range append(p.full, p.open[0], p.open[1]) {
		if seg != nil && seg.w != nil {
			_ = seg.wait()
			seg.w.Abort()
		}
	}
	p.full, p.open = nil, [2]*segment{}
	p.s.media.Remove(p.names...)
	p.names = nil
}
