package store

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"candidharbor/core/object"
	"candidharbor/core/space"

	"github.com/RoaringBitmap/roaring/v2"
)

// Lease keeps objects, and all below them, from being swept while a snapshot, carry
// or restore relies on them. A durable lease also outlives a restart.
//
// A durable lease's file is a sequence of blocks: count u32, CRC-32C u32 of the
// identities, then count × 32 bytes. A torn block at the end is ignored.
type Lease struct {
	s    *Store
	name string // durable ones only

	mu   sync.Mutex
	held *roaring.Bitmap
	hits []object.ID // held because they were here already, and not in the file yet; durable ones only
	f    *os.File    // nil: nothing more comes into the file
	path string      // of durable ones that have not ended
}

// LeaseMaxAge is how long a durable lease that nobody touches is honoured.
const LeaseMaxAge = 14 * 24 * time.Hour

// NewLease returns a lease that holds nothing yet.
func (s *Store) NewLease() *Lease {
	l := &Lease{s: s, held: roaring.New()}
	s.mu.Lock()
	s.leases[l] = struct{}{}
	s.mu.Unlock()
	return l
}

// DurableLease opens the durable lease of a name, or begins it. Objects that it held
// before are held again as far as they are in the store.
func (s *Store) DurableLease(name string) (*Lease, error) {
	if name == "" || strings.ContainsAny(name, "/.") {
		return nil, fmt.Errorf("%q cannot name a lease", name)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for l := range s.leases {
		if l.name == name && l.f != nil {
			return l, nil
		}
	}
	return s.openLease(name)
}

// openLease reads a lease's file. The caller holds mu or is opening the store.
func (s *Store) openLease(name string) (*Lease, error) {
	path := filepath.Join(s.dir, "leases", name+".lease")
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, explainFull(s.dir, err)
	}
	l := &Lease{s: s, name: name, held: roaring.New(), f: f, path: path}
	whole, err := readLease(f, func(id object.ID) error {
		loc, ok, err := s.present(&id)
		if ok {
			l.held.Add(loc.ordinal)
		}
		return err
	})
	if err == nil {
		_, err = f.Seek(whole, io.SeekStart)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	s.leases[l] = struct{}{}
	return l, nil
}

// Settle closes a lease's file, which gets nothing more: there may be thousands of pins.
func (l *Lease) Settle() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	f := l.f
	if f == nil {
		return nil
	}
	l.f = nil
	return f.Close()
}

// readLease visits what a lease's file names, up to a torn block, and returns where that is.
func readLease(f io.Reader, visit func(object.ID) error) (whole int64, err error) {
	var head [8]byte
	torn := func(err error) bool { return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) }
	for {
		if _, err := io.ReadFull(f, head[:]); torn(err) {
			return whole, nil
		} else if err != nil {
			return whole, err
		}
		n := binary.LittleEndian.Uint32(head[:])
		if n > flushObjects*2 {
			return whole, nil
		}
		ids := make([]byte, int(n)*32)
		if _, err := io.ReadFull(f, ids); torn(err) {
			return whole, nil
		} else if err != nil {
			return whole, err
		}
		if crc32.Checksum(ids, castagnoli) != binary.LittleEndian.Uint32(head[4:]) {
			return whole, nil
		}
		for b := ids; len(b) > 0; b = b[32:] {
			if err := visit(object.ID(b[:32])); err != nil {
				return whole, err
			}
		}
		whole += int64(len(head) + len(ids))
	}
}

// leaseFiles are the files of all durable leases.
func (s *Store) leaseFiles() (paths []string, err error) {
	names, err := namesIn(filepath.Join(s.dir, "leases"))
	for _, name := range names {
		if strings.HasSuffix(name, ".lease") {
			paths = append(paths, filepath.Join(s.dir, "leases", name))
		}
	}
	return paths, err
}

func (s *Store) loadLeases() error {
	paths, err := s.leaseFiles()
	if err != nil {
		return err
	}
	for _, path := range paths {
		st, err := os.Stat(path)
		if err == nil && !isPin(filepath.Base(path)) && time.Since(st.ModTime()) > LeaseMaxAge {
			s.log.Info("a lease that nobody renewed has ended", "lease", filepath.Base(path), "age", time.Since(st.ModTime()))
			os.Remove(path)
			continue
		}
		l, err := s.openLease(strings.TrimSuffix(filepath.Base(path), ".lease"))
		if err == nil && isPin(l.name) {
			err = l.Settle()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Acquire holds the object when it is present. Looking up and holding are one step
// against the sweep's condemning.
func (l *Lease) Acquire(id object.ID) (bool, error) {
	l.s.mu.RLock()
	defer l.s.mu.RUnlock()
	loc, ok, err := l.s.present(&id)
	if ok {
		l.hold(id, loc.ordinal)
	}
	return ok, err
}

// reach is what a writer may rely on besides what it was given: what a lease holds, and what
// more says so of, by ordinal.
type reach struct {
	base *Lease
	more func(ordinal uint32) bool
}

// acquireWithin is Acquire of an object that this lease holds already or that is within reach;
// others are as if they were not there.
func (l *Lease) acquireWithin(id object.ID, in *reach) (bool, error) {
	l.s.mu.RLock()
	loc, ok, err := l.s.present(&id)
	sure := false
	if ok {
		l.mu.Lock()
		sure = l.held.Contains(loc.ordinal)
		l.mu.Unlock()
		if !sure && in.base.holds(loc.ordinal) {
			sure = true
			l.hold(id, loc.ordinal)
		}
	}
	l.s.mu.RUnlock()
	if !ok || sure || err != nil {
		return ok, err
	}
	if !in.more(loc.ordinal) { // it may look into the store, so no lock is held
		return false, nil
	}
	return l.Acquire(id)
}

func (l *Lease) holds(ordinal uint32) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.held.Contains(ordinal)
}

// hold notes an object that is present. The caller holds the store's mu.
func (l *Lease) hold(id object.ID, ordinal uint32) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.held.CheckedAdd(ordinal) && l.durable() {
		l.hits = append(l.hits, id)
	}
}

// AcquireSet holds all objects of a census whose snapshot is known to be kept at
// this moment.
func (l *Lease) AcquireSet(set *roaring.Bitmap) {
	l.s.mu.RLock()
	defer l.s.mu.RUnlock()
	l.mu.Lock()
	l.held.Or(set)
	l.mu.Unlock()
}

func (l *Lease) add(ordinal uint32) {
	l.mu.Lock()
	l.held.Add(ordinal)
	l.mu.Unlock()
}

func (l *Lease) durable() bool { return l.name != "" }

// persist appends what was newly flushed to a durable lease's file, and what it holds
// besides: whoever goes on after a restart relies on both.
func (l *Lease) persist(entries []indexEntry) error {
	if !l.durable() {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	ids := l.hits
	for i := range entries {
		ids = append(ids, entries[i].id)
	}
	if len(ids) == 0 {
		return nil
	}
	if l.f == nil {
		return errors.New("the lease has ended")
	}
	var raw []byte
	for part := range slices.Chunk(ids, flushObjects) {
		at := len(raw)
		raw = append(raw, make([]byte, 8)...)
		for _, id := range part {
			raw = append(raw, id[:]...)
		}
		binary.LittleEndian.PutUint32(raw[at:], uint32(len(part)))
		binary.LittleEndian.PutUint32(raw[at+4:], crc32.Checksum(raw[at+8:], castagnoli))
	}
	if _, err := l.f.Write(raw); err != nil {
		return explainFull(l.s.dir, err)
	}
	l.hits = nil
	l.s.syncs.add()
	return l.f.Sync()
}

// Release ends the lease, the durable one for good.
func (l *Lease) Release() {
	l.s.mu.Lock()
	delete(l.s.leases, l)
	l.s.mu.Unlock()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.f != nil {
		l.f.Close()
		l.f = nil
	}
	if l.path != "" {
		os.Remove(l.path)
		l.path = ""
	}
}

// leased returns what all leases hold. The caller holds mu.
func (s *Store) leased() *roaring.Bitmap {
	all := roaring.New()
	for l := range s.leases {
		l.mu.Lock()
		space.Include(all, l.held)
		l.mu.Unlock()
	}
	return all
}

// LeaseName returns a name for a durable lease from any text.
func LeaseName(text string) string {
	sum := object.Sum([]byte(text))
	return hex.EncodeToString(sum[:12])
}
