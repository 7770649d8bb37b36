package store

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
)

// spill sorts index entries of which there may be more than memory should hold.
type spill struct {
	dir   string
	cmp   func(a, b *indexEntry) int
	batch []indexEntry
	files []*os.File // sorted, unlinked already
	n     int
}

const spillBatch = 200_000

func (s *Store) newSpill(cmp func(a, b *indexEntry) int) *spill {
	return &spill{dir: filepath.Join(s.dir, "index"), cmp: cmp}
}

func cmpOrdinal(a, b *indexEntry) int { return cmp.Compare(a.ordinal, b.ordinal) }
func cmpID(a, b *indexEntry) int      { return bytes.Compare(a.id[:], b.id[:]) }

func (p *spill) sort() {
	slices.SortFunc(p.batch, func(a, b indexEntry) int { return p.cmp(&a, &b) })
}

func (p *spill) add(e *indexEntry) error {
	p.batch = append(p.batch, *e)
	p.n++
	if len(p.batch) < spillBatch {
		return nil
	}
	p.sort()
	f, err := os.CreateTemp(p.dir, "sorting-*")
	if err != nil {
		return err
	}
	os.Remove(f.Name())
	p.files = append(p.files, f)
	w := bufio.NewWriterSize(f, 256<<10)
	var buf [entrySize]byte
	for i := range p.batch {
		putEntry(buf[:], &p.batch[i])
		if _, err := w.Write(buf[:]); err != nil {
			return err
		}
	}
	p.batch = p.batch[:0]
	return w.Flush()
}

// each visits the entries in order.
func (p *spill) each(visit func(*indexEntry) error) error {
	p.sort()
	type source struct {
		in  *bufio.Reader
		cur indexEntry
	}
	var from []*source
	next := func(s *source) (bool, error) {
		var buf [entrySize]byte
		if _, err := io.ReadFull(s.in, buf[:]); err != nil {
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return false, err
		}
		s.cur = getEntry(buf[:])
		return true, nil
	}
	for _, f := range p.files {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return err
		}
		s := &source{in: bufio.NewReaderSize(f, 128<<10)}
		if ok, err := next(s); err != nil {
			return err
		} else if ok {
			from = append(from, s)
		}
	}
	rest := p.batch
	for len(from) > 0 || len(rest) > 0 {
		least := -1
		for i, s := range from {
			if least < 0 || p.cmp(&s.cur, &from[least].cur) < 0 {
				least = i
			}
		}
		if least < 0 || (len(rest) > 0 && p.cmp(&rest[0], &from[least].cur) <= 0) {
			e := rest[0]
			rest = rest[1:]
			if err := visit(&e); err != nil {
				return err
			}
			continue
		}
		e := from[least].cur
		ok, err := next(from[least])
		if err != nil {
			return err
		}
		if !ok {
			from = slices.Delete(from, least, least+1)
		}
		if err := visit(&e); err != nil {
			return err
		}
	}
	return nil
}

func (p *spill) close() {
	for _, f := range p.files {
		f.Close()
	}
}
