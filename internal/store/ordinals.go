package store

import (
	"encoding/binary"
	"os"
	"sync"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// ordinalTable maps an ordinal to identity, stored bytes and kind: a file of
// 40-byte entries (id, stored record bytes u32, kind u8, 3 zero bytes), mapped into
// memory so that it needs no anonymous memory.
type ordinalTable struct {
	mu   sync.RWMutex
	f    *os.File
	data []byte
}

const (
	ordinalSize = 40
	ordinalGrow = 1 << 20 // entries
)

func openOrdinals(path string) (*ordinalTable, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	t := &ordinalTable{f: f}
	st, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	return t, t.remap(max(1, (st.Size()+ordinalGrow*ordinalSize-1)/(ordinalGrow*ordinalSize)))
}

func (t *ordinalTable) remap(steps int64) error {
	size := steps * ordinalGrow * ordinalSize
	if err := t.f.Truncate(size); err != nil {
		return err
	}
	data, err := unix.Mmap(int(t.f.Fd()), 0, int(size), unix.PROT_READ, unix.MAP_SHARED)
	if err != nil {
		return err
	}
	if t.data != nil {
		unix.Munmap(t.data)
	}
	t.data = data
	return nil
}

// set writes entries for consecutive ordinals from first on.
func (t *ordinalTable) set(first uint32, entries []indexEntry) error {
	if len(entries) == 0 {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	end := (int64(first) + int64(len(entries))) * ordinalSize
	if end > int64(len(t.data)) {
		if err := t.remap((end + ordinalGrow*ordinalSize - 1) / (ordinalGrow * ordinalSize)); err != nil {
			return err
		}
	}
	b := make([]byte, len(entries)*ordinalSize)
	for i := range entries {
		at := b[i*ordinalSize:]
		copy(at, entries[i].id[:])
		binary.LittleEndian.PutUint32(at[32:], uint32(entries[i].size()))
		at[36] = byte(entries[i].kind)
	}
	_, err := t.f.WriteAt(b, int64(first)*ordinalSize)
	return err
}

// resize notes the new stored size of an object that was packed anew.
func (t *ordinalTable) resize(ordinal uint32, size int64) error {
	t.mu.RLock()
	defer t.mu.RUnlock()
	var b [4]byte
	binary.LittleEndian.PutUint32(b[:], uint32(size))
	_, err := t.f.WriteAt(b[:], int64(ordinal)*ordinalSize+32)
	return err
}

func (t *ordinalTable) get(ordinal uint32) (id object.ID, size int64, kind object.Kind) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	at := int64(ordinal) * ordinalSize
	if at+ordinalSize > int64(len(t.data)) {
		return id, 0, 0
	}
	b := t.data[at:]
	copy(id[:], b)
	return id, int64(binary.LittleEndian.Uint32(b[32:])), object.Kind(b[36])
}

func (t *ordinalTable) sync() error { return t.f.Sync() }

func (t *ordinalTable) close() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.data != nil {
		unix.Munmap(t.data)
		t.data = nil
	}
	return t.f.Close()
}
