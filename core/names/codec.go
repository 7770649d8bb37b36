package names

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"hash/maphash"
	"io"
	"time"

	"candidharbor/core/object"
)

// An index is written as (little endian): 8 bytes of magic; the numbers of snapshots, of lives
// without the first, of directories without the first, u32 each, and of bytes of names, u64;
// the tree of the newest snapshot, 32 bytes; each snapshot's id and when it was taken in
// nanoseconds, i64; the names; each life in 42 bytes (dir, name, from, to, prev, next u32, size
// and mtime i64, length and kind u8); each directory's parent u32, length u8 and name; CRC-32C
// u32 of all before.
const (
	magic    = "chnames1"
	headSize = 8 + 3*4 + 8 + 32
	snapSize = 32 + 8
	lifeSize = 6*4 + 2*8 + 2
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Write writes the index so that Read makes it again.
func (x *Index) Write(to io.Writer) error {
	sum := crc32.New(castagnoli)
	w := bufio.NewWriterSize(io.MultiWriter(to, sum), 1<<16)
	le := binary.LittleEndian
	b := append(make([]byte, 0, headSize), magic...)
	b = le.AppendUint32(b, uint32(len(x.snaps)))
	b = le.AppendUint32(b, uint32(x.Lives()))
	b = le.AppendUint32(b, uint32(len(x.dirs)-1))
	b = le.AppendUint64(b, uint64(len(x.names)))
	b = append(b, x.top[:]...)
	w.Write(b)
	for i := range x.snaps {
		w.Write(le.AppendUint64(append(b[:0], x.snaps[i].ID[:]...), uint64(x.snaps[i].Taken.UnixNano())))
	}
	w.Write(x.names)
	for i := range x.lives[1:] {
		l := &x.lives[i+1]
		b = b[:0]
		for _, n := range [...]uint32{l.dir, l.name, l.from, l.to, l.prev, l.next} {
			b = le.AppendUint32(b, n)
		}
		b = le.AppendUint64(b, uint64(l.size))
		b = le.AppendUint64(b, uint64(l.mtime))
		w.Write(append(b, l.length, byte(l.kind)))
	}
	for _, d := range x.dirs[1:] {
		w.Write(append(append(le.AppendUint32(b[:0], d.parent), byte(len(d.name))), d.name...))
	}
	if err := w.Flush(); err != nil { // a writer keeps the first error
		return err
	}
	_, err := to.Write(le.AppendUint32(nil, sum.Sum32()))
	return err
}

var errNotWhole = errors.New("the index of names is not whole")

// Read makes the index that was written. Nothing of b is kept.
func Read(b []byte) (*Index, error) {
	le := binary.LittleEndian
	if len(b) < headSize+4 || string(b[:8]) != magic {
		return nil, fmt.Errorf("%w: no index begins here", errNotWhole)
	}
	if body := b[:len(b)-4]; crc32.Checksum(body, castagnoli) != le.Uint32(b[len(body):]) {
		return nil, fmt.Errorf("%w: checksum differs", errNotWhole)
	}
	snaps, lives, dirs, text := uint64(le.Uint32(b[8:])), uint64(le.Uint32(b[12:])), uint64(le.Uint32(b[16:])),
		le.Uint64(b[20:])
	x := &Index{seed: maphash.MakeSeed()}
	copy(x.top[:], b[28:])
	b = b[headSize : len(b)-4]
	if text > uint64(len(b)) || snaps*snapSize+lives*lifeSize+dirs*5+text > uint64(len(b)) {
		return nil, fmt.Errorf("%w: it is cut short", errNotWhole)
	}
	x.snaps = make([]Snap, snaps)
	for i := range x.snaps {
		copy(x.snaps[i].ID[:], b)
		x.snaps[i].Taken = time.Unix(0, int64(le.Uint64(b[32:])))
		b = b[snapSize:]
	}
	x.names, b = bytes.Clone(b[:text]), b[text:]
	x.lives = make([]life, lives+1)
	for i := uint64(1); i <= lives; i++ {
		x.lives[i] = life{dir: le.Uint32(b), name: le.Uint32(b[4:]), from: le.Uint32(b[8:]), to: le.Uint32(b[12:]),
			prev: le.Uint32(b[16:]), next: le.Uint32(b[20:]),
			size: int64(le.Uint64(b[24:])), mtime: int64(le.Uint64(b[32:])), length: b[40], kind: object.EntryKind(b[41])}
		l := &x.lives[i]
		if uint64(l.dir) > dirs || uint64(l.name)+uint64(l.length) > text || uint64(l.from) >= snaps || uint64(l.prev) >= i ||
			l.next != 0 && (uint64(l.next) <= i || uint64(l.next) > lives) || l.to < l.from {
			return nil, fmt.Errorf("%w: life %d contradicts itself", errNotWhole, i)
		}
		b = b[lifeSize:]
	}
	x.dirs = make([]dirKey, 1, dirs+1)
	for len(x.dirs) <= int(dirs) {
		if len(b) < 5 || len(b) < 5+int(b[4]) || int(le.Uint32(b)) >= len(x.dirs) {
			return nil, fmt.Errorf("%w: directory %d contradicts itself", errNotWhole, len(x.dirs))
		}
		n := 5 + int(b[4])
		x.dirs = append(x.dirs, dirKey{le.Uint32(b), string(b[5:n])})
		b = b[n:]
	}
	if len(b) != 0 {
		return nil, fmt.Errorf("%w: there is more than it says", errNotWhole)
	}
	return x, nil
}

// lookUps makes what finds paths, which searching does not need and adding does.
func (x *Index) lookUps() {
	if x.last != nil {
		return
	}
	x.dirNo = make(map[dirKey]uint32, len(x.dirs))
	for i, d := range x.dirs[1:] {
		x.dirNo[d] = uint32(i + 1)
	}
	x.last = make(map[pathKey]uint32, len(x.lives))
	for i := 1; i < len(x.lives); i++ {
		if l := &x.lives[i]; l.next == 0 {
			x.last[x.keyOf(l.dir, x.nameOf(l))] = uint32(i)
		}
	}
}
