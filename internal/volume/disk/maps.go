package disk

import (
	"encoding/binary"
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
	secDurable = sections // of the durable file, for its salt
)

// The durable file has a word of here and one of zero by turns: both bits of a block are in one sector, so
// that a power cut leaves both as they were or both as they became.
const pairsInPage = sectorsInPage * wordsInSector / 2

// The form of the files of maps. The first had no sums.
const (
	formPlain  = 1
	formSealed = 2
)

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
	generation    uint64
	plain         bool // what was read lies in files of the first form: they are to be written anew
}

func sectionBytes(blocks int64) int64 {
	words := (blocks + 63) / 64
	return ((words+wordsInSector-1)/wordsInSector*sector + page - 1) / page * page
}

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
	h.Form = formSealed
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
	if json.Unmarshal(raw, &h) != nil || h.Form != formPlain && h.Form != formSealed {
		return mapHead{}, nil
	}
	return h, nil
}

// salt tells the sectors of a section from those of others, and of other generations.
func (m *maps) salt(section int) uint64 { return m.generation<<3 | uint64(section+1) }

func (m *maps) readSection(f File, i int, into *bitmap) error {
	raw := make([]byte, m.section)
	if _, err := f.ReadAt(raw, page+int64(i)*m.section); err != nil {
		return err
	}
	if err := openSectors(raw, m.salt(i), into.words); err != nil {
		return err
	}
	into.cutEnd()
	return nil
}

func (m *maps) writeSection(i int, b *bitmap) error { return m.writeWords(i, b, 0, len(b.words)) }

// writeWords writes the sectors of a section of the live file that have words from one on up to before another.
func (m *maps) writeWords(i int, b *bitmap, first, last int) error {
	from := first / wordsInSector
	to := min((last+wordsInSector-1)/wordsInSector*wordsInSector, len(b.words))
	raw := sealSectors(make([]byte, 0, sector), m.salt(i), uint64(from), b.copied(from*wordsInSector, to))
	_, err := m.live.WriteAt(raw, page+int64(i)*m.section+int64(from)*sector)
	return err
}

// readPlain reads a section of a live file of the first form, in which nothing but words lay.
func (m *maps) readPlain(f File, i int, into *bitmap) error {
	section := (int64(len(into.words))*8 + page - 1) / page * page
	raw := make([]byte, section)
	if _, err := f.ReadAt(raw, page+int64(i)*section); err != nil {
		return err
	}
	into.load(raw)
	return nil
}

// makeDurable makes the durable file of a generation. It counts from when the state record names it.
func (m *maps) makeDurable(files Files, generation uint64) (err error) {
	if err := files.Remove(durableName(generation)); err != nil {
		return err
	}
	if m.durable, err = files.Open(durableName(generation)); err != nil {
		return err
	}
	m.generation = generation
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
	m.generation, m.plain = generation, h.Form == formPlain
	pairs := make([]uint64, 2*len(m.here.words))
	if m.plain {
		raw := make([]byte, 8*len(pairs))
		if _, err := m.durable.ReadAt(raw, page); err != nil {
			return err
		}
		for i := range pairs {
			pairs[i] = binary.LittleEndian.Uint64(raw[8*i:])
		}
	} else {
		raw := make([]byte, page*m.dirty.n)
		if _, err := m.durable.ReadAt(raw, page); err != nil {
			return err
		}
		if err := openSectors(raw, m.salt(secDurable), pairs); err != nil {
			return err
		}
	}
	for i := range m.here.words {
		m.here.words[i], m.zero.words[i] = pairs[2*i], pairs[2*i+1]
	}
	m.here.cutEnd()
	m.zero.cutEnd()
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
	is := mapHead{Form: h.Form, Generation: generation, Blocks: m.n, Boot: bootID(), Image: image, Own: own}
	if h != is || is.Boot == "" {
		return false, nil
	}
	read := m.readSection
	if h.Form == formPlain {
		m.plain, read = true, m.readPlain
	}
	was := newMaps(m.n)
	was.generation = generation
	for i, b := range was.all() {
		if err := read(m.live, i, b); errors.Is(err, ErrDamaged) {
			return false, nil // as after a power cut: what the durable file says counts
		} else if err != nil {
			return false, err
		}
	}
	m.here, m.zero, m.frozen = was.here, was.zero, was.frozen
	m.changed.Store(was.changed.Load())
	m.dirty.setRange(0, m.dirty.n) // what the durable file has of it is not known
	return true, nil
}

// writeLive writes the live file anew.
func (m *maps) writeLive(generation uint64, image imageID) error {
	m.generation = generation
	if _, err := m.live.WriteAt(make([]byte, page), 0); err != nil { // until all is there it is not believed
		return err
	}
	if err := m.live.Resize(page+sections*m.section, true); err != nil {
		return err
	}
	for i, b := range m.all() {
		if err := m.writeSection(i, b); err != nil {
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
	if err := m.writeWords(sec, b, first, last); err != nil {
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
	err := m.writeSection(secFrozen, was) // first: a kill between the two loses nothing
	if err == nil {
		err = m.writeSection(secChanged, m.changed.Load())
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
		err = m.writeSection(secChanged, changed)
	}
	m.frozen = newBitmap(m.n)
	if err == nil {
		err = m.writeSection(secFrozen, m.frozen)
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
		pairs := make([]uint64, 0, 2*pairsInPage)
		for w := int(p) * pairsInPage; w < min(int(p+1)*pairsInPage, len(m.here.words)); w++ {
			pairs = append(pairs, atomic.LoadUint64(&m.here.words[w]), atomic.LoadUint64(&m.zero.words[w]))
		}
		raw := sealSectors(make([]byte, 0, page), m.salt(secDurable), uint64(p)*sectorsInPage, pairs)
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
