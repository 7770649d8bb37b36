package disk

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"sync/atomic"
)

const page = 4096

// The sections of the live file, in their order behind a page of head.
const (
	secHere = iota
	secZero
	secChanged
	secFrozen
	sections
)

// The durable file has a word of here and one of zero by turns: both bits of a block are in one sector, so
// that a power cut leaves both as they were or both as they became.
const pairsInPage = page / 16

// mapHead says what a file of maps is of.
type mapHead struct {
	Form       int     `json:"form"`
	Generation uint64  `json:"generation"`
	Blocks     int64   `json:"blocks"`
	Boot       string  `json:"boot,omitempty"` // of the live one, with the two files as they were then
	Image      imageID `json:"image"`
	Own        imageID `json:"own"`
}

// maps are those of a disk, in memory and in their two files.
type maps struct {
	n       int64 // blocks
	section int64 // bytes of one

	// wordMu orders changes of bits with their writing, so that the file has all that memory has.
	wordMu  sync.Mutex
	here    *bitmap
	zero    *bitmap
	changed atomic.Pointer[bitmap] // replaced at an instant
	frozen  *bitmap                // was changed until the last instant
	dirty   *bitmap                // pages of the durable file that lack what memory has
	broken  error                  // the live file does not have what memory has

	live, durable File
}

func sectionBytes(blocks int64) int64 { return ((blocks+63)/64*8 + page - 1) / page * page }

func newMaps(blocks int64) *maps {
	m := &maps{n: blocks, section: sectionBytes(blocks), here: newBitmap(blocks), zero: newBitmap(blocks),
		frozen: newBitmap(blocks)}
	m.changed.Store(newBitmap(blocks))
	m.dirty = newBitmap((int64(len(m.here.words)) + pairsInPage - 1) / pairsInPage)
	return m
}

func (m *maps) all() [sections]*bitmap {
	return [sections]*bitmap{m.here, m.zero, m.changed.Load(), m.frozen}
}

func durableName(generation uint64) string { return fmt.Sprintf("maps-%d", generation) }

const liveName = "live"

func writeHead(f File, h mapHead) error {
	h.Form = 1
	raw, err := json.Marshal(h)
	if err != nil {
		return err
	}
	if _, err := f.WriteAt(append(raw, make([]byte, page-len(raw))...), 0); err != nil {
		return err
	}
	return nil
}

func readHead(f File) (h mapHead, err error) {
	raw := make([]byte, page)
	if _, err := f.ReadAt(raw, 0); err != nil && !errors.Is(err, io.EOF) {
		return h, err
	}
	for len(raw) > 0 && raw[len(raw)-1] == 0 {
		raw = raw[:len(raw)-1]
	}
	if json.Unmarshal(raw, &h) != nil || h.Form != 1 {
		return mapHead{}, nil
	}
	return h, nil
}

func (m *maps) readSection(f File, i int, into *bitmap) error {
	raw := make([]byte, m.section)
	if _, err := f.ReadAt(raw, page+int64(i)*m.section); err != nil {
		return err
	}
	into.load(raw)
	return nil
}

func (m *maps) writeSection(f File, i int, b *bitmap) error {
	raw := b.bytes(make([]byte, 0, m.section), 0, len(b.words))
	_, err := f.WriteAt(append(raw, make([]byte, m.section-int64(len(raw)))...), page+int64(i)*m.section)
	return err
}

// makeDurable makes the durable file of a generation. It counts from when the state record names it.
func (m *maps) makeDurable(files Files, generation uint64) (err error) {
	if err := files.Remove(durableName(generation)); err != nil {
		return err
	}
	if m.durable, err = files.Open(durableName(generation)); err != nil {
		return err
	}
	err = m.durable.Resize(page*(1+m.dirty.n), true)
	m.dirty.setRange(0, m.dirty.n)
	if err == nil {
		err = m.writePages(m.takeDirty())
	}
	if err == nil {
		err = writeHead(m.durable, mapHead{Generation: generation, Blocks: m.n})
	}
	if err == nil {
		err = m.durable.Sync()
	}
	return err
}

// openDurable reads the durable file of a generation.
func (m *maps) openDurable(files Files, generation uint64) (err error) {
	if _, err := files.Read(durableName(generation)); errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: the file of maps %d is not there", ErrDamaged, generation)
	}
	if m.durable, err = files.Open(durableName(generation)); err != nil {
		return err
	}
	h, err := readHead(m.durable)
	if err != nil {
		return err
	}
	if h.Generation != generation || h.Blocks != m.n {
		return fmt.Errorf("%w: the file of maps %d is not of it", ErrDamaged, generation)
	}
	raw := make([]byte, page*m.dirty.n)
	if _, err := m.durable.ReadAt(raw, page); err != nil {
		return err
	}
	here, zero := make([]byte, 0, len(raw)/2), make([]byte, 0, len(raw)/2)
	for ; len(raw) > 0; raw = raw[16:] {
		here, zero = append(here, raw[:8]...), append(zero, raw[8:16]...)
	}
	m.here.load(here)
	m.zero.load(zero)
	return nil
}

// openLive opens the live file, and reads it when it can be believed: nothing but the end of the process
// has happened to it and to the image since it was written.
func (m *maps) openLive(files Files, generation uint64, image imageID) (believed bool, err error) {
	if m.live, err = files.Open(liveName); err != nil {
		return false, err
	}
	own, err := m.live.ID()
	if err != nil {
		return false, err
	}
	h, err := readHead(m.live)
	if err != nil {
		return false, err
	}
	is := mapHead{Form: 1, Generation: generation, Blocks: m.n, Boot: bootID(), Image: image, Own: own}
	if h != is || is.Boot == "" {
		return false, nil
	}
	for i, b := range m.all() {
		if err := m.readSection(m.live, i, b); err != nil {
			return false, err
		}
	}
	m.dirty.setRange(0, m.dirty.n) // what the durable file has of it is not known
	return true, nil
}

// writeLive writes the live file anew.
func (m *maps) writeLive(generation uint64, image imageID) error {
	if _, err := m.live.WriteAt(make([]byte, page), 0); err != nil { // until all is there it is not believed
		return err
	}
	if err := m.live.Resize(page+sections*m.section, true); err != nil {
		return err
	}
	for i, b := range m.all() {
		if err := m.writeSection(m.live, i, b); err != nil {
			return err
		}
	}
	own, err := m.live.ID()
	if err != nil {
		return err
	}
	return writeHead(m.live, mapHead{Generation: generation, Blocks: m.n, Boot: bootID(), Image: image, Own: own})
}

// write sets or clears bits of one map from a block on up to before another, in memory and in the live
// file. Of changed and frozen it is told the bitmap: which of both that is may have changed meanwhile.
func (m *maps) write(sec int, b *bitmap, from, to int64, set bool) error {
	if !m.differs(b, from, to, set) {
		return nil
	}
	m.wordMu.Lock()
	defer m.wordMu.Unlock()
	if sec == secChanged && b == m.frozen {
		sec = secFrozen
	}
	for i := from; i < to; i++ {
		if set {
			b.set(i)
		} else {
			b.clear(i)
		}
	}
	first, last := int(from>>6), int((to-1)>>6)+1
	if sec == secHere || sec == secZero {
		m.dirty.setRange(int64(first)/pairsInPage, int64(last-1)/pairsInPage+1)
	}
	raw := b.bytes(make([]byte, 0, 8*(last-first)), first, last)
	if _, err := m.live.WriteAt(raw, page+int64(sec)*m.section+int64(first)*8); err != nil {
		m.broken = err
		return err
	}
	return m.broken
}

func (m *maps) differs(b *bitmap, from, to int64, set bool) bool {
	for i := from; i < to; i++ {
		if b.has(i) != set {
			return true
		}
	}
	return false
}

// flip makes changed frozen. What is in frozen already is in it still.
func (m *maps) flip() error {
	m.wordMu.Lock()
	defer m.wordMu.Unlock()
	was := m.changed.Load()
	was.or(m.frozen)
	m.frozen = was
	m.changed.Store(newBitmap(m.n))
	err := m.writeSection(m.live, secFrozen, was) // first: a kill between the two loses nothing
	if err == nil {
		err = m.writeSection(m.live, secChanged, m.changed.Load())
	}
	if err != nil {
		m.broken = err
	}
	return err
}

// thaw ends an instant: stored, or given up, when its blocks count as changed again.
func (m *maps) thaw(stored bool) error {
	m.wordMu.Lock()
	defer m.wordMu.Unlock()
	var err error
	if !stored {
		changed := m.changed.Load()
		changed.or(m.frozen)
		err = m.writeSection(m.live, secChanged, changed)
	}
	m.frozen = newBitmap(m.n)
	if err == nil {
		err = m.writeSection(m.live, secFrozen, m.frozen)
	}
	if err != nil {
		m.broken = err
	}
	return err
}

// durablePage is a page of the durable file as it is to be.
type durablePage struct {
	at  int64
	raw []byte
}

// takeDirty returns what the durable file lacks, as it is now.
func (m *maps) takeDirty() (pages []durablePage) {
	m.wordMu.Lock()
	defer m.wordMu.Unlock()
	for p := m.dirty.next(0); p < m.dirty.n; p = m.dirty.next(p + 1) {
		raw := make([]byte, 0, page)
		for w := int(p) * pairsInPage; w < min(int(p+1)*pairsInPage, len(m.here.words)); w++ {
			raw = m.zero.bytes(m.here.bytes(raw, w, w+1), w, w+1)
		}
		pages = append(pages, durablePage{page * (1 + p), raw})
		m.dirty.clear(p)
	}
	return pages
}

func (m *maps) writePages(pages []durablePage) error {
	for _, p := range pages {
		if _, err := m.durable.WriteAt(p.raw, p.at); err != nil {
			return err
		}
	}
	return nil
}

func (m *maps) close() error {
	var err error
	for _, f := range []File{m.live, m.durable} {
		if f != nil {
			err = errors.Join(err, f.Close())
		}
	}
	return err
}
