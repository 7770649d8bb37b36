package store

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
)

// location is where an object's record lies. Pack numbers with logBit are logs.
type location struct {
	pack    uint32
	offset  uint32
	stored  uint32 // bytes after the record head; of a member of a bundle its share
	plain   uint32
	ordinal uint32
	kind    object.Kind
	codec   codec
	span    uint16 // of a bundle, in steps of 8 bytes
}

const logBit = 1 << 31

// size is what an object takes: its record, or its share of a bundle.
func (l location) size() int64 {
	if l.codec == codecBundle {
		return int64(l.stored)
	}
	return recordHead + int64(l.stored)
}

// reads is how many bytes are read for it.
func (l location) reads() int {
	if l.codec == codecBundle {
		return int(l.span) * bundleStep
	}
	return int(l.size())
}

type indexEntry struct {
	id object.ID
	location
}

// A run is a file of entries sorted by identity:
//
//	0  "candid index run", version u32 = 1, entries u64, epoch u64 (all little-endian)
//	36 entries of 56 bytes: id, pack u32, offset u32, stored u32, plain u32, ordinal u32, kind u8, codec u8, span u16
//	   filter: u64 words, a Bloom filter with 7 probes
//	   filter words u64, CRC-32C u32 of all before
const (
	runMagic  = "candid index run"
	runHead   = 36
	entrySize = 56
	fenceStep = 64
	probes    = 7
)

type run struct {
	name   string
	f      *os.File
	n      int
	filter []uint64
	fences []uint64 // first eight bytes of every fenceStep-th identity
}

// drop closes a run that nothing names any more and removes its file.
func (r *run) drop(dir string) {
	r.f.Close()
	os.Remove(filepath.Join(dir, "index", r.name))
}

func filterWords(n int) int { return max(1, (n*10+63)/64) }

// Identities are uniform, so their own bytes serve as the two hashes of a
// double-hashing Bloom filter (Kirsch and Mitzenmacher, 2006).
func probe(filter []uint64, id *object.ID, visit func(word int, bit uint64) bool) bool {
	a := binary.LittleEndian.Uint64(id[8:])
	b := binary.LittleEndian.Uint64(id[16:]) | 1
	bits := uint64(len(filter)) * 64
	for range probes {
		p := a % bits
		if !visit(int(p/64), 1<<(p%64)) {
			return false
		}
		a += b
	}
	return true
}

func putEntry(b []byte, e *indexEntry) {
	copy(b, e.id[:])
	binary.LittleEndian.PutUint32(b[32:], e.pack)
	binary.LittleEndian.PutUint32(b[36:], e.offset)
	binary.LittleEndian.PutUint32(b[40:], e.stored)
	binary.LittleEndian.PutUint32(b[44:], e.plain)
	binary.LittleEndian.PutUint32(b[48:], e.ordinal)
	b[52], b[53] = byte(e.kind), byte(e.codec)
	binary.LittleEndian.PutUint16(b[54:], e.span)
}

func getEntry(b []byte) (e indexEntry) {
	copy(e.id[:], b)
	e.pack = binary.LittleEndian.Uint32(b[32:])
	e.offset = binary.LittleEndian.Uint32(b[36:])
	e.stored = binary.LittleEndian.Uint32(b[40:])
	e.plain = binary.LittleEndian.Uint32(b[44:])
	e.ordinal = binary.LittleEndian.Uint32(b[48:])
	e.kind, e.codec, e.span = object.Kind(b[52]), codec(b[53]), binary.LittleEndian.Uint16(b[54:])
	return e
}

// writeRun writes entries that come in ascending order of identity. n is an upper
// bound for sizing the filter.
func writeRun(dir, name string, epoch uint64, n int, entries func(emit func(*indexEntry) error) error) (*run, error) {
	path := filepath.Join(dir, name)
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	r := &run{name: name, f: f, filter: make([]uint64, filterWords(n))}
	fail := func(err error) (*run, error) {
		f.Close()
		os.Remove(path)
		return nil, err
	}
	var head [runHead]byte
	if _, err := f.Write(head[:]); err != nil {
		return fail(err)
	}
	sum := uint32(0)
	w := bufio.NewWriterSize(f, 256<<10)
	write := func(b []byte) error {
		sum = crc32.Update(sum, castagnoli, b)
		_, err := w.Write(b)
		return err
	}
	var buf [entrySize]byte
	err = entries(func(e *indexEntry) error {
		if r.n%fenceStep == 0 {
			r.fences = append(r.fences, binary.BigEndian.Uint64(e.id[:]))
		}
		probe(r.filter, &e.id, func(i int, bit uint64) bool { r.filter[i] |= bit; return true })
		r.n++
		putEntry(buf[:], e)
		return write(buf[:])
	})
	if err != nil {
		return fail(err)
	}
	var word [8]byte
	for _, f := range r.filter {
		binary.LittleEndian.PutUint64(word[:], f)
		if err := write(word[:]); err != nil {
			return fail(err)
		}
	}
	binary.LittleEndian.PutUint64(word[:], uint64(len(r.filter)))
	if err := write(word[:]); err != nil {
		return fail(err)
	}
	copy(head[:], runMagic)
	binary.LittleEndian.PutUint32(head[16:], 1)
	binary.LittleEndian.PutUint64(head[20:], uint64(r.n))
	binary.LittleEndian.PutUint64(head[28:], epoch)
	sum = crc32.Update(sum, castagnoli, head[:])
	binary.LittleEndian.PutUint32(word[:], sum)
	if _, err := w.Write(word[:4]); err != nil {
		return fail(err)
	}
	if err := w.Flush(); err != nil {
		return fail(err)
	}
	if _, err := f.WriteAt(head[:], 0); err != nil {
		return fail(err)
	}
	if err := f.Sync(); err != nil {
		return fail(err)
	}
	return r, nil
}

var errIndex = errors.New("index unusable")

func openRun(dir, name string, epoch uint64) (*run, error) {
	f, err := os.Open(filepath.Join(dir, name))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errIndex, err)
	}
	r := &run{name: name, f: f}
	if err := r.load(epoch); err != nil {
		f.Close()
		return nil, fmt.Errorf("%w: %s: %w", errIndex, name, err)
	}
	return r, nil
}

// load reads the filter and the fences; it reads every entry once to check the sum.
func (r *run) load(epoch uint64) error {
	var head [runHead]byte
	if _, err := r.f.ReadAt(head[:], 0); err != nil {
		return err
	}
	if string(head[:16]) != runMagic || binary.LittleEndian.Uint32(head[16:]) != 1 ||
		binary.LittleEndian.Uint64(head[28:]) != epoch {
		return errors.New("not a run of this index epoch")
	}
	st, err := r.f.Stat()
	if err != nil {
		return err
	}
	n := binary.LittleEndian.Uint64(head[20:])
	body := st.Size() - runHead - 4
	if n > uint64(body)/entrySize {
		return errors.New("shorter than it says")
	}
	r.n = int(n)
	in := bufio.NewReaderSize(io.NewSectionReader(r.f, runHead, body), 1<<20)
	sum := uint32(0)
	var buf [entrySize]byte
	for i := range r.n {
		if _, err := io.ReadFull(in, buf[:]); err != nil {
			return err
		}
		sum = crc32.Update(sum, castagnoli, buf[:])
		if i%fenceStep == 0 {
			r.fences = append(r.fences, binary.BigEndian.Uint64(buf[:]))
		}
	}
	rest, err := io.ReadAll(in)
	if err != nil || len(rest) < 8 || len(rest)%8 != 0 {
		return errors.New("filter cut short")
	}
	sum = crc32.Update(sum, castagnoli, rest)
	for i := 0; i < len(rest)-8; i += 8 {
		r.filter = append(r.filter, binary.LittleEndian.Uint64(rest[i:]))
	}
	var tail [4]byte
	if _, err := r.f.ReadAt(tail[:], st.Size()-4); err != nil {
		return err
	}
	if len(r.filter) == 0 || crc32.Update(sum, castagnoli, head[:]) != binary.LittleEndian.Uint32(tail[:]) {
		return errors.New("checksum differs")
	}
	return nil
}

func (r *run) find(id *object.ID) (location, bool, error) {
	var buf [fenceStep * entrySize]byte
	v := runView{r: r, buf: buf[:0]}
	return v.find(id)
}

// entryIn returns where the entry of an identity begins in a block of a run; -1: it is not there.
func entryIn(b []byte, id *object.ID) int {
	lo, hi := 0, len(b)/entrySize
	for lo < hi {
		mid := (lo + hi) / 2
		switch c := bytes.Compare(b[mid*entrySize:mid*entrySize+32], id[:]); {
		case c == 0:
			return mid * entrySize
		case c < 0:
			lo = mid + 1
		default:
			hi = mid
		}
	}
	return -1
}

// cursor reads a run's entries in order.
type cursor struct {
	in   *bufio.Reader
	left int
	gone *roaring.Bitmap
	cur  indexEntry
	ok   bool
}

func (r *run) cursor(gone *roaring.Bitmap) (*cursor, error) {
	c := &cursor{left: r.n, gone: gone, in: bufio.NewReaderSize(io.NewSectionReader(r.f, runHead, int64(r.n)*entrySize),
		256<<10)}
	return c, c.next()
}

func (c *cursor) next() error {
	for {
		if c.ok = c.left > 0; !c.ok {
			return nil
		}
		c.left--
		var buf [entrySize]byte
		if _, err := io.ReadFull(c.in, buf[:]); err != nil {
			return err
		}
		if c.cur = getEntry(buf[:]); !c.gone.Contains(c.cur.ordinal) {
			return nil
		}
	}
}

// mergeRuns emits each identity once, from the newest run (the last) that has it with
// an ordinal that is not gone.
func mergeRuns(runs []*run, gone *roaring.Bitmap, emit func(*indexEntry) error) error {
	cursors := make([]*cursor, len(runs))
	for i, r := range runs {
		c, err := r.cursor(gone)
		if err != nil {
			return err
		}
		cursors[i] = c
	}
	for {
		least := -1
		for i, c := range cursors {
			if c.ok && (least < 0 || bytes.Compare(c.cur.id[:], cursors[least].cur.id[:]) <= 0) {
				least = i
			}
		}
		if least < 0 {
			return nil
		}
		e := cursors[least].cur
		for _, c := range cursors {
			for c.ok && c.cur.id == e.id {
				if err := c.next(); err != nil {
					return err
				}
			}
		}
		if err := emit(&e); err != nil {
			return err
		}
	}
}
