package store

import (
	"path/filepath"
)

// scanPacks writes provisional runs with every readable record head, and makes one run of
// them. Of several copies of an object a whole one is taken.
func (s *Store) scanPacks() error {
	all := s.newSpill(cmpID)
	defer all.close()
	ordinal := uint32(0)
	for _, p := range s.files.Packs {
		if err := s.scanPack(p, func(h *recordHeader, at int64) error {
			ordinal++
			return all.add(&indexEntry{h.id, location{pack: p.Num, offset: uint32(at), stored: h.stored, plain: h.plain,
				ordinal: ordinal - 1, kind: h.kind, codec: h.codec}})
		}); err != nil {
			return err
		}
	}
	r, err := writeRun(filepath.Join(s.dir, "index"), s.runName(), s.epoch, all.n,
		func(emit func(*indexEntry) error) error {
			var same []indexEntry
			flush := func() error {
				if len(same) == 0 {
					return nil
				}
				e := s.wholeCopy(same)
				same = same[:0]
				return emit(e)
			}
			err := all.each(func(e *indexEntry) error {
				if len(same) > 0 && same[0].id != e.id {
					if err := flush(); err != nil {
						return err
					}
				}
				same = append(same, *e)
				return nil
			})
			if err != nil {
				return err
			}
			return flush()
		})
	if err == nil {
		s.runs = append(s.runs, r)
	}
	return err
}

// wholeCopy returns the first of several copies that is what was written.
func (s *Store) wholeCopy(copies []indexEntry) *indexEntry {
	if len(copies) > 1 {
		for i := range copies {
			if raw, err := s.readAt(copies[i].location, nil); err == nil && verifyRecord(raw, copies[i].id) == nil {
				return &copies[i]
			}
		}
	}
	return &copies[0]
}

func (s *Store) scanPack(p packInfo, visit func(h *recordHeader, at int64) error) error {
	r, err := s.media.Open(p.Name)
	if err != nil {
		return err
	}
	defer r.Close()
	head := make([]byte, recordHead)
	for at := int64(packHead); at+recordHead <= r.Size(); {
		_, err := r.ReadAt(head, at)
		if passing(err) {
			return err
		}
		var h recordHeader
		if err == nil {
			h, err = parseHeader(head)
		}
		if err != nil || at+h.size() > r.Size() || (at+h.size() < r.Size() && !s.followed(r, at+h.size())) {
			// The head cannot be trusted: go on at the next whole record.
			if raw := make([]byte, h.size()); err == nil && at+h.size() <= r.Size() {
				if _, err := r.ReadAt(raw, at); err == nil && verifyRecord(raw, h.id) == nil {
					if err := visit(&h, at); err != nil {
						return err
					}
				}
			}
			next, found := resync(r, at+1)
			s.log.Error("a stretch of a pack is unreadable", "pack", p.Name, "from", at, "to", next)
			if !found {
				return nil
			}
			at = next
			continue
		}
		if err := visit(&h, at); err != nil {
			return err
		}
		at += h.size()
	}
	return nil
}

// followed reports whether a record head begins at an offset.
func (s *Store) followed(r MediaReader, at int64) bool {
	head := make([]byte, recordHead)
	if _, err := r.ReadAt(head, at); err != nil {
		return false
	}
	_, err := parseHeader(head)
	return err == nil
}

// resync finds the next whole record at or after an offset.
func resync(r MediaReader, from int64) (int64, bool) {
	buf := make([]byte, 1<<20)
	for at := from; at < r.Size(); {
		n, _ := r.ReadAt(buf, at)
		if n < recordHead {
			break
		}
		for i := 0; i+recordHead <= n; i++ {
			if buf[i] != 'C' || buf[i+1] != 'r' {
				continue
			}
			h, err := parseHeader(buf[i:n])
			if err != nil || at+int64(i)+h.size() > r.Size() {
				continue
			}
			raw := make([]byte, h.size())
			if _, err := r.ReadAt(raw, at+int64(i)); err != nil {
				continue
			}
			if _, err := checkRecord(raw); err == nil {
				return at + int64(i), true
			}
		}
		at += int64(n - recordHead + 1)
	}
	return r.Size(), false
}
