package store

import (
	"errors"
	"path/filepath"
)

// scanPacks writes provisional runs with every readable record head, and makes one run of
// them. Of several copies of an object a whole one is taken.
func (s *Store) scanPacks() error {
	all := s.newSpill(cmpID)
	defer all.close()
	ordinal := uint32(0)
	for i := range s.files.Packs {
		p := &s.files.Packs[i]
		if err := s.scanPack(p, func(e *indexEntry) error {
			e.pack, e.ordinal = p.Num, ordinal
			p.Bundles = p.Bundles || e.codec == codecBundle
			ordinal++
			return all.add(e)
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
			raw, err := s.readAt(copies[i].id, copies[i].location, nil)
			if err == nil && verifyRecord(raw, copies[i].id) == nil {
				return &copies[i]
			}
		}
	}
	return &copies[0]
}

// scanPack visits what the records and bundles of a pack hold, but for the entries' pack and ordinal.
func (s *Store) scanPack(p *packInfo, visit func(*indexEntry) error) error {
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
		var size int64
		if err == nil {
			size, err = blockSize(head)
		}
		if err != nil || at+size > r.Size() || (at+size < r.Size() && !s.followed(r, at+size)) {
			// The head cannot be trusted: go on at the next whole record.
			if err == nil && at+size <= r.Size() {
				raw := make([]byte, size)
				if _, err := r.ReadAt(raw, at); err == nil && verifyBlock(raw) == nil {
					if err := visitBlock(raw, at, visit); err != nil {
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
		if isBundle(head) {
			raw := make([]byte, size)
			if _, err := r.ReadAt(raw, at); passing(err) {
				return err
			} else if err == nil {
				err = visitBlock(raw, at, visit)
				if err != nil && !errors.Is(err, ErrDamaged) {
					return err
				}
			}
		} else if err := visitBlock(head, at, visit); err != nil {
			return err
		}
		at += size
	}
	return nil
}

func isBundle(head []byte) bool { return len(head) > 1 && head[1] == 'b' }

// blockSize is how long the record or the bundle is that begins with a head.
func blockSize(head []byte) (int64, error) {
	if isBundle(head) {
		h, err := parseBundle(head)
		return h.size(), err
	}
	h, err := parseHeader(head)
	return h.size(), err
}

// visitBlock visits what the heads in a block say, whether they are true or not. Of a record the head is enough.
func visitBlock(raw []byte, at int64, visit func(*indexEntry) error) error {
	if !isBundle(raw) {
		h, err := parseHeader(raw)
		if err != nil {
			return err
		}
		return visit(&indexEntry{h.id, location{offset: uint32(at), stored: h.stored, plain: h.plain, kind: h.kind,
			codec: h.codec}})
	}
	h, err := parseBundle(raw)
	if err != nil {
		return err
	}
	members, err := membersOf(&h, raw)
	if err != nil {
		return err
	}
	for i := range members {
		if err := visit(&indexEntry{members[i].id, members[i].location(&h, at)}); err != nil {
			return err
		}
	}
	return nil
}

// checkBlock compares the checksum of a whole block.
func checkBlock(raw []byte) (err error) {
	if isBundle(raw) {
		_, err = checkBundle(raw)
	} else {
		_, err = checkRecord(raw)
	}
	return err
}

// verifyBlock recomputes the identity of all that is in a block.
func verifyBlock(raw []byte) error {
	if isBundle(raw) {
		_, err := verifyBundle(raw)
		return err
	}
	h, err := parseHeader(raw)
	if err != nil {
		return err
	}
	return verifyRecord(raw, h.id)
}

// followed reports whether a block begins at an offset.
func (s *Store) followed(r MediaReader, at int64) bool {
	head := make([]byte, recordHead)
	if _, err := r.ReadAt(head, at); err != nil {
		return false
	}
	_, err := blockSize(head)
	return err == nil
}

// resync finds the next whole block at or after an offset.
func resync(r MediaReader, from int64) (int64, bool) {
	buf := make([]byte, 1<<20)
	for at := from; at < r.Size(); {
		n, _ := r.ReadAt(buf, at)
		if n < recordHead {
			break
		}
		for i := 0; i+recordHead <= n; i++ {
			if buf[i] != 'C' || buf[i+1] != 'r' && buf[i+1] != 'b' {
				continue
			}
			size, err := blockSize(buf[i:n])
			if err != nil || at+int64(i)+size > r.Size() {
				continue
			}
			raw := make([]byte, size)
			if _, err := r.ReadAt(raw, at+int64(i)); err != nil {
				continue
			}
			if checkBlock(raw) == nil {
				return at + int64(i), true
			}
		}
		at += int64(n - recordHead + 1)
	}
	return r.Size(), false
}
