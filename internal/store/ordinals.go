package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"sync"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
	lru "github.com/hashicorp/golang-lru/v2"
)

// ordinalTable maps an ordinal to identity, stored bytes and kind: a file of 40-byte
// entries (id, stored record bytes u32, kind u8, the low 24 bits of the CRC-32C of
// identity and kind). It is read by blocks, of which a bounded number is kept; a file
// that something else cuts short or changes is noticed, entry by entry.
type ordinalTable struct {
	mu     sync.RWMutex
	f      *os.File
	blocks *lru.Cache[uint32, []byte]

	unknown *roaring.Bitmap // ordinals that the index does not know; under the store's mu
}

const (
	ordinalSize  = 40
	blockEntries = 1024
	blocksKept   = 256 // 10 MiB
)

var errOrdinalEntry = errors.New("the table of ordinals is damaged there")

func openOrdinals(path string) (*ordinalTable, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	t := &ordinalTable{f: f, unknown: roaring.New()}
	t.blocks, _ = lru.New[uint32, []byte](blocksKept)
	return t, nil
}

func ordinalCheck(id []byte, kind byte) uint32 {
	sum := crc32.Update(crc32.Checksum(id, castagnoli), castagnoli, []byte{kind})
	return sum & 0xffffff
}

func putOrdinal(b []byte, e *indexEntry) {
	copy(b, e.id[:])
	binary.LittleEndian.PutUint32(b[32:], uint32(e.size()))
	binary.LittleEndian.PutUint32(b[36:], uint32(e.kind)|ordinalCheck(e.id[:], byte(e.kind))<<8)
}

// set writes entries for consecutive ordinals from first on.
func (t *ordinalTable) set(first uint32, entries []indexEntry) error {
	if len(entries) == 0 {
		return nil
	}
	b := make([]byte, len(entries)*ordinalSize)
	for i := range entries {
		putOrdinal(b[i*ordinalSize:], &entries[i])
	}
	return t.write(first, len(entries), b, int64(first)*ordinalSize)
}

func (t *ordinalTable) write(first uint32, n int, b []byte, at int64) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	for k := first / blockEntries; k <= (first+uint32(n)-1)/blockEntries; k++ {
		t.blocks.Remove(k)
	}
	_, err := t.f.WriteAt(b, at)
	return err
}

// resize notes the new stored size of an object that was packed anew.
func (t *ordinalTable) resize(ordinal uint32, size int64) error {
	var b [4]byte
	binary.LittleEndian.PutUint32(b[:], uint32(size))
	return t.write(ordinal, 1, b[:], int64(ordinal)*ordinalSize+32)
}

// get returns an entry. ok is false when there is none or it is not what was written.
func (t *ordinalTable) get(ordinal uint32) (id object.ID, size int64, kind object.Kind, ok bool) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	k := ordinal / blockEntries
	block, have := t.blocks.Get(k)
	if !have {
		block = make([]byte, blockEntries*ordinalSize)
		n, err := t.f.ReadAt(block, int64(k)*blockEntries*ordinalSize)
		if err != nil && !errors.Is(err, io.EOF) {
			return id, 0, 0, false
		}
		block = block[:n]
		t.blocks.Add(k, block)
	}
	at := int(ordinal%blockEntries) * ordinalSize
	if at+ordinalSize > len(block) {
		return id, 0, 0, false
	}
	b := block[at : at+ordinalSize]
	last := binary.LittleEndian.Uint32(b[36:])
	if last>>8 != ordinalCheck(b[:32], byte(last)) {
		return id, 0, 0, false
	}
	copy(id[:], b)
	return id, int64(binary.LittleEndian.Uint32(b[32:])), object.Kind(last), true
}

// end returns the number of entries up to the last whole one at or after an ordinal.
func (t *ordinalTable) end(from uint32) (uint32, error) {
	st, err := t.f.Stat()
	if err != nil {
		return from, err
	}
	end := from
	for o := int64(from); o < min(st.Size()/ordinalSize, maxOrdinals); o++ {
		if id, _, _, ok := t.get(uint32(o)); ok && !id.IsZero() {
			end = uint32(o) + 1
		}
	}
	return end, nil
}

func (t *ordinalTable) sync() error { return t.f.Sync() }

func (t *ordinalTable) close() error { return t.f.Close() }

// openOrdinals opens the table of the epoch and makes it anew from the runs when it is
// missing.
func (s *Store) openOrdinals() error {
	path := s.ordinalsPath(s.epoch)
	st, err := os.Stat(path)
	t, oerr := openOrdinals(path)
	if oerr != nil {
		return oerr
	}
	s.ords = t
	if err == nil && st.Size() > 0 {
		return nil
	}
	return s.fillOrdinals()
}

// fillOrdinals writes every entry of the index into the table.
func (s *Store) fillOrdinals() error {
	err := s.eachPlaced(func(e *indexEntry) error { return s.ords.set(e.ordinal, []indexEntry{*e}) })
	if err != nil {
		return err
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	for id, loc := range s.mem {
		if err := s.ords.set(loc.ordinal, []indexEntry{{id, loc}}); err != nil {
			return err
		}
	}
	return nil
}

// entryAt returns what an ordinal stands for. A damaged table is made anew from the index.
func (s *Store) entryAt(ordinal uint32) (id object.ID, size int64, kind object.Kind, err error) {
	id, size, kind, ok := s.ords.get(ordinal)
	if ok {
		return id, size, kind, nil
	}
	s.mu.RLock()
	unknown := ordinal >= s.next || s.gone.Contains(ordinal) || s.lost.Contains(ordinal) ||
		s.ords.unknown.Contains(ordinal)
	s.mu.RUnlock()
	if !unknown {
		s.log.Error("the table of ordinals is damaged and is made anew from the index", "ordinal", ordinal)
		if err := s.fillOrdinals(); err != nil {
			return id, 0, 0, err
		}
		if id, size, kind, ok = s.ords.get(ordinal); ok {
			return id, size, kind, nil
		}
		s.mu.Lock()
		s.ords.unknown.Add(ordinal)
		s.mu.Unlock()
	}
	return id, 0, 0, fmt.Errorf("%w: ordinal %d: %w", ErrDamaged, ordinal, errOrdinalEntry)
}

// ObjectAt returns the identity, stored bytes and kind of the object with an ordinal.
// The identity is zero when the index does not know the ordinal.
func (s *Store) ObjectAt(ordinal uint32) (object.ID, int64, object.Kind) {
	id, size, kind, _ := s.entryAt(ordinal)
	return id, size, kind
}
