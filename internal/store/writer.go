package store

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"

	"candidharbor/core/object"
)

// Writer puts objects into the store. Put may be called from many goroutines.
// Nothing is visible to others until Flush or Commit; a Writer that is closed
// without Commit leaves nothing that a sweep would not take away.
type Writer struct {
	s     *Store
	lease *Lease
	reach *reach // nil: everything that is here

	gate sync.RWMutex // Put holds it shared, Flush alone: a flush never splits a Put

	mu      sync.Mutex
	pending map[object.ID]*pendingObject
	entries []indexEntry
	packs   *packSet

	putBytes, newBytes, newObjects atomic.Int64
}

type pendingObject struct {
	ready chan struct{} // closed when the record is placed
	err   error
}

const (
	flushObjects = 1 << 16
	flushPacks   = 8
)

// NewWriter begins a writer. With a durable lease, what it flushes survives a
// restart even before its root comes.
func (s *Store) NewWriter(lease *Lease) *Writer {
	return &Writer{s: s, lease: lease, pending: map[object.ID]*pendingObject{}, packs: newPackSet(s)}
}

// Within has the writer know nothing of the store but what base holds, what more says so of by
// ordinal, and what its own lease came to hold: what is put can name nothing else, and so
// nobody gets hold of an object by its identity alone.
func (w *Writer) Within(base *Lease, more func(ordinal uint32) bool) {
	w.reach = &reach{base, more}
}

// acquire holds an object that is here, as far as the writer may know of it.
func (w *Writer) acquire(id object.ID) (bool, error) {
	if w.reach != nil {
		return w.lease.acquireWithin(id, w.reach)
	}
	return w.lease.Acquire(id)
}

// Stats tells how many bytes of objects were put, how many bytes of records and
// objects were new.
func (w *Writer) Stats() (put, stored, objects int64) {
	return w.putBytes.Load(), w.newBytes.Load(), w.newObjects.Load()
}

// ErrNotClosed is wrapped when an object comes before one of its children.
var ErrNotClosed = errors.New("a child is not in the store")

var scratch = sync.Pool{New: func() any { b := make([]byte, 0, 64<<10); return &b }}

// Put stores an object. Its children must be in the store or put before.
func (w *Writer) Put(kind object.Kind, children []object.ID, payload []byte) (object.ID, error) {
	buf := scratch.Get().(*[]byte)
	env := object.Encode((*buf)[:0], kind, children, payload)
	id, err := w.PutEnvelope(kind, children, env)
	*buf = env
	scratch.Put(buf)
	return id, err
}

// PutFrom is Put for an object of which only the children that fresh says so of are new. The others stand in
// an object that this writer's lease holds, so that they are here as long as it does.
func (w *Writer) PutFrom(kind object.Kind, children []object.ID, fresh []bool, payload []byte) (object.ID, error) {
	buf := scratch.Get().(*[]byte)
	env := object.Encode((*buf)[:0], kind, children, payload)
	id := object.Sum(env)
	var check []object.ID
	for i := range children {
		if fresh[i] {
			check = append(check, children[i])
		}
	}
	err := w.put(id, kind, check, len(env), func(dst []byte) []byte { return appendRecord(dst, kind, id, env) })
	*buf = env
	scratch.Put(buf)
	return id, err
}

// PutChunk stores a chunk whose payload is buf[object.Headroom:], without copying it.
func (w *Writer) PutChunk(buf []byte) (object.ID, error) {
	return w.PutEnvelope(object.KindChunk, nil, object.EncodeChunkInPlace(buf))
}

// PutEnvelope stores an encoded envelope, which it does not keep.
func (w *Writer) PutEnvelope(kind object.Kind, children []object.ID, env []byte) (object.ID, error) {
	id := object.Sum(env)
	return id, w.put(id, kind, children, len(env), func(dst []byte) []byte { return appendRecord(dst, kind, id, env) })
}

// PutRecord stores a record as another store sent it, after recomputing its
// identity and checking that its children are here.
func (w *Writer) PutRecord(raw []byte) (object.ID, error) {
	h, err := checkRecord(raw)
	if err != nil {
		return h.id, err
	}
	buf := scratch.Get().(*[]byte)
	defer scratch.Put(buf)
	if cap(*buf) < int(h.plain) {
		*buf = make([]byte, 0, h.plain)
	}
	b, err := openRecord(*buf, raw, h.id)
	if err != nil {
		return h.id, err
	}
	env, err := object.Decode(b)
	if err != nil {
		return h.id, err
	}
	if env.Kind != h.kind {
		return h.id, fmt.Errorf("%w: a %s in a record for a %s", ErrDamaged, env.Kind, h.kind)
	}
	return h.id, w.put(h.id, h.kind, env.Children(), int(h.plain), func(dst []byte) []byte { return append(dst, raw...) })
}

func (w *Writer) put(id object.ID, kind object.Kind, children []object.ID, plain int,
	encode func([]byte) []byte) error {
	if plain > object.MaxSize(kind) {
		return fmt.Errorf("%s of %d bytes, at most %d are kept", kind, plain, object.MaxSize(kind))
	}
	w.putBytes.Add(int64(plain))
	w.gate.RLock()
	full, err := w.putGated(id, kind, children, plain, encode)
	w.gate.RUnlock()
	if err == nil && full {
		err = w.Flush()
	}
	return err
}

func (w *Writer) putGated(id object.ID, kind object.Kind, children []object.ID, plain int, encode func([]byte) []byte) (
	full bool, err error) {
	w.mu.Lock()
	if p, ok := w.pending[id]; ok {
		w.mu.Unlock()
		<-p.ready
		return false, p.err
	}
	w.mu.Unlock()
	if ok, err := w.acquire(id); ok || err != nil {
		return false, err
	}
	for i := range children {
		if err := w.Has(children[i]); err != nil {
			return false, fmt.Errorf("%s %s: %w", kind, id, err)
		}
	}
	if w.reach != nil { // it was given whole, with all below it, and may be here
		if ok, err := w.lease.Acquire(id); ok || err != nil {
			return false, err
		}
	}
	w.mu.Lock()
	if p, ok := w.pending[id]; ok {
		w.mu.Unlock()
		<-p.ready
		return false, p.err
	}
	p := &pendingObject{ready: make(chan struct{})}
	w.pending[id] = p
	w.mu.Unlock()

	buf := scratch.Get().(*[]byte)
	raw := encode((*buf)[:0])
	if w.s.thorough != nil {
		if small, err := recompress(w.s.thorough, raw); err == nil {
			raw = small
		}
	}
	h, err := parseHeader(raw)
	w.mu.Lock()
	e := indexEntry{id, location{stored: h.stored, plain: uint32(plain), kind: kind, codec: h.codec}}
	if err == nil {
		err = w.packs.append(&e, raw)
	}
	if err == nil {
		w.entries = append(w.entries, e)
	} else {
		delete(w.pending, id)
	}
	full = len(w.entries) >= flushObjects || len(w.packs.full) >= flushPacks
	w.mu.Unlock()
	w.newBytes.Add(int64(len(raw)))
	w.newObjects.Add(1)
	*buf = raw
	scratch.Put(buf)
	p.err = err
	close(p.ready)
	return full, err
}

// Has returns nil when the object was put by this writer or is in the store, where
// the writer's lease now holds it.
func (w *Writer) Has(id object.ID) error {
	w.mu.Lock()
	p, ok := w.pending[id]
	w.mu.Unlock()
	if ok {
		<-p.ready
		return p.err
	}
	ok, err := w.acquire(id)
	if err == nil && !ok {
		err = fmt.Errorf("%w: %s", ErrNotClosed, id)
	}
	return err
}

// Flush makes everything put so far durable and visible.
func (w *Writer) Flush() error {
	w.gate.Lock()
	defer w.gate.Unlock()
	if len(w.entries) == 0 {
		return w.lease.persist(nil)
	}
	entries, packs := w.entries, w.packs
	w.entries, w.packs, w.pending = nil, newPackSet(w.s), map[object.ID]*pendingObject{}
	small := packs.inMemory() && w.s.logUsable()
	var buffers map[uint32][]byte
	var infos []packInfo
	if small {
		buffers = map[uint32][]byte{}
		for _, seg := range packs.open {
			if seg != nil {
				buffers[seg.num] = seg.buf
			}
		}
	} else {
		var err error
		if infos, err = packs.finish(); err != nil {
			return err
		}
	}
	w.s.adm.Lock()
	var err error
	if small {
		type place struct{ pack, at uint32 }
		at := make([]place, len(entries))
		for i, e := range entries {
			at[i] = place{e.pack, e.offset}
		}
		err = w.s.commitLog(entries, func(i int) []byte {
			return buffers[at[i].pack][at[i].at : int64(at[i].at)+entries[i].size()]
		}, w.lease)
	} else {
		err = w.s.admit(entries, infos, w.lease, packs.abort)
	}
	w.s.adm.Unlock()
	if err == nil {
		err = w.lease.persist(entries)
	}
	w.s.tidy()
	return err
}

// Close gives up what was not flushed and releases the lease unless it is durable.
func (w *Writer) Close() {
	w.gate.Lock()
	w.packs.abort()
	w.entries = nil
	w.gate.Unlock()
	if !w.lease.durable() {
		w.lease.Release()
	}
}

// admit enters packed objects into the index, durably; undo takes the packs away when
// that did not come about. The caller holds adm.
func (s *Store) admit(entries []indexEntry, packs []packInfo, lease *Lease, undo func()) error {
	fresh := entries[:0:0]
	dead := map[uint32]int64{}
	first := s.next
	for i := range entries {
		e := entries[i]
		// Leasing a copy that is here already keeps it from being condemned.
		known, err := lease.Acquire(e.id)
		if err != nil {
			undo()
			return err
		}
		if known {
			dead[e.pack] += e.size()
			continue
		}
		e.ordinal = first + uint32(len(fresh))
		fresh = append(fresh, e)
		s.noteHealed(&e.id)
	}
	for i := range packs {
		packs[i].Dead = dead[packs[i].Num]
	}
	err := errOrdinals
	if first <= maxOrdinals {
		err = s.ords.set(first, fresh)
	}
	if err == nil {
		err = s.ords.sync()
	}
	var r *run
	if err == nil {
		r, err = s.writeSortedRun(slices.Clone(fresh))
	}
	if err != nil {
		undo()
		return explainFull(s.dir, err)
	}
	return s.publish(change{
		edit: func(files *contents) {
			files.Packs = append(files.Packs, packs...)
			files.Runs = append(files.Runs, r.name)
		},
		next: first + uint32(len(fresh)),
		take: func() {
			s.runs = append(s.runs, r)
			for i := range fresh {
				lease.add(fresh[i].ordinal)
			}
		},
		undo: func() { undo(); r.drop(s.dir) },
	})
}

// writeSortedRun writes entries as a new run; it reorders them.
func (s *Store) writeSortedRun(entries []indexEntry) (*run, error) {
	slices.SortFunc(entries, func(a, b indexEntry) int { return bytes.Compare(a.id[:], b.id[:]) })
	return writeRun(filepath.Join(s.dir, "index"), s.runName(), s.epoch, len(entries),
		func(emit func(*indexEntry) error) error {
			for i := range entries {
				if err := emit(&entries[i]); err != nil {
					return err
				}
			}
			return nil
		})
}

func (s *Store) runName() string { return fmt.Sprintf("%010d.run", s.numbers.nextFile()) }

func byOrdinal(entries []indexEntry) {
	slices.SortFunc(entries, func(a, b indexEntry) int { return int(int64(a.ordinal) - int64(b.ordinal)) })
}

// tidy seals a large log and merges runs of like size, unless maintenance runs.
func (s *Store) tidy() {
	if !s.maint.TryLock() {
		return
	}
	defer s.maint.Unlock()
	s.adm.Lock()
	defer s.adm.Unlock()
	if s.logf.size >= sealAtSize || len(s.mem) >= sealAtObjs || s.logf.spoiled {
		if err := s.seal(); err != nil {
			s.log.Error("the log could not be sealed; it is kept and tried again", "error", err)
		}
	}
	for n := len(s.runs); n >= 2 && s.runs[n-2].n < 4*s.runs[n-1].n; n = len(s.runs) {
		if err := s.mergeLast(2); err != nil {
			s.log.Error("index runs could not be merged; they are used as they are", "error", err)
			return
		}
	}
}

// mergeLast replaces the last k runs by one. The caller holds maint and adm.
func (s *Store) mergeLast(k int) error {
	old := s.runs[len(s.runs)-k:]
	n := 0
	for _, r := range old {
		n += r.n
	}
	merged, err := writeRun(filepath.Join(s.dir, "index"), s.runName(), s.epoch, n,
		func(emit func(*indexEntry) error) error {
			return mergeRuns(old, s.gone, emit)
		})
	if err != nil {
		return err
	}
	return s.publish(change{
		edit: func(files *contents) { files.Runs = append(files.Runs[:len(files.Runs)-k], merged.name) },
		take: func() { s.runs = append(slices.Clone(s.runs[:len(s.runs)-k]), merged) },
		undo: func() { merged.drop(s.dir) },
		obsolete: func() {
			for _, r := range old {
				r.drop(s.dir)
			}
		},
	})
}

// syncCounter counts durable steps, for the claim that they do not grow with files.
type syncCounter struct{ n atomic.Int64 }

func (c *syncCounter) add() { c.n.Add(1) }
