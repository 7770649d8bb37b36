package store

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
)

// rebuildIndex makes manifest, runs and ordinals anew from packs and logs. Only what
// a root or a durable lease reaches is admitted, children before parents.
func (s *Store) rebuildIndex() error {
	for _, r := range s.runs {
		r.f.Close()
	}
	if s.ords != nil {
		s.ords.close()
		s.ords = nil
	}
	if s.logf != nil {
		s.logf.f.Close()
		s.logf = nil
	}
	s.runs, s.mem = nil, map[object.ID]location{}
	s.gone, s.absent, s.taint = roaring.New(), roaring.New(), roaring.New()
	s.man = manifest{Form: 1, Epoch: newEpoch(), Pack: 1, Serial: 1}
	s.rebuilt = true
	old, _ := filepath.Glob(filepath.Join(s.dir, "index", "*"))
	for _, f := range append(old, filepath.Join(s.dir, "condemned"), filepath.Join(s.dir, "damaged")) {
		os.Remove(f)
	}
	if err := s.findPacks(); err != nil {
		return err
	}
	if err := s.packLogs(); err != nil {
		return err
	}
	if err := s.scanPacks(); err != nil {
		return err
	}
	if err := s.admitReached(); err != nil {
		return err
	}
	man := s.man
	man.Logs = []uint32{uint32(man.Serial)}
	man.Serial++
	if err := s.writeManifest(&man); err != nil {
		return err
	}
	for _, r := range s.runs {
		r.f.Close()
	}
	s.runs = nil
	s.ords.close()
	logs, _ := filepath.Glob(filepath.Join(s.dir, "log", "*"))
	for _, f := range logs {
		os.Remove(f)
	}
	return s.load(&man)
}

func (s *Store) findPacks() error {
	after := ""
	for {
		names, err := s.media.List("packs", after, 1000)
		if err != nil {
			return err
		}
		for _, n := range names {
			after = n
			r, err := s.media.Open("packs/" + n)
			if err != nil {
				return err
			}
			s.man.Packs = append(s.man.Packs, packInfo{Num: s.man.Pack, Name: "packs/" + n, Bytes: r.Size()})
			s.man.Pack++
			r.Close()
		}
		if len(names) < 1000 {
			return nil
		}
	}
}

// packLogs copies what is in logs into packs.
func (s *Store) packLogs() error {
	logs, err := filepath.Glob(filepath.Join(s.dir, "log", "*.log"))
	if err != nil || len(logs) == 0 {
		return err
	}
	p := newPackSet(s)
	for _, path := range logs {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		_, err = readLog(f, func(_ uint32, entries []indexEntry) error {
			for i := range entries {
				raw := make([]byte, entries[i].size())
				if _, err := f.ReadAt(raw, int64(entries[i].offset)); err != nil {
					return err
				}
				if err := p.append(&entries[i], raw); err != nil {
					return err
				}
			}
			return nil
		})
		f.Close()
		if err != nil {
			p.abort()
			return err
		}
	}
	packs, err := p.finish()
	if err != nil {
		return err
	}
	s.man.Packs = append(s.man.Packs, packs...)
	sortPacks(s.man.Packs)
	return nil
}

// scanPacks writes provisional runs with every readable record head.
func (s *Store) scanPacks() error {
	var batch []indexEntry
	ordinal := uint32(0)
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		slices.SortStableFunc(batch, func(a, b indexEntry) int { return bytes.Compare(a.id[:], b.id[:]) })
		batch = slices.CompactFunc(batch, func(a, b indexEntry) bool { return a.id == b.id })
		r, err := s.writeSortedRun(batch)
		s.runs = append(s.runs, r)
		batch = nil
		return err
	}
	for _, p := range s.man.Packs {
		r, err := s.media.Open(p.Name)
		if err != nil {
			return err
		}
		head := make([]byte, recordHead)
		for at := int64(packHead); at+recordHead <= r.Size(); {
			if _, err = r.ReadAt(head, at); err != nil {
				break
			}
			h, herr := parseHeader(head)
			if herr != nil || at+h.size() > r.Size() {
				// Look for the next head whose whole record is good.
				next, found := resync(r, at+1)
				s.log.Error("a stretch of a pack is unreadable", "pack", p.Name, "from", at, "to", next)
				if !found {
					break
				}
				at = next
				continue
			}
			batch = append(batch, indexEntry{h.id, location{pack: p.Num, offset: uint32(at), stored: h.stored, plain: h.plain, ordinal: ordinal, kind: h.kind, codec: h.codec}})
			ordinal++
			at += h.size()
			if len(batch) >= 500_000 {
				if err = flush(); err != nil {
					break
				}
			}
		}
		r.Close()
		if err != nil {
			return err
		}
	}
	return flush()
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

type reachWalk struct {
	s      *Store
	order  []uint32 // provisional ordinals in post-order
	seen   *roaring.Bitmap
	broken *roaring.Bitmap // something below is missing or unreadable
}

func (w *reachWalk) visit(id object.ID) (whole bool, err error) {
	loc, ok, err := w.s.lookup(&id)
	if err != nil || !ok {
		return false, err
	}
	if !w.seen.CheckedAdd(loc.ordinal) {
		return !w.broken.Contains(loc.ordinal), nil
	}
	whole = true
	err = w.s.eachChild(id, loc.kind, func(child object.ID) error {
		ok, err := w.visit(child)
		whole = whole && ok
		return err
	})
	if err != nil {
		if !errors.Is(err, ErrDamaged) {
			return false, err
		}
		whole = false
	}
	if !whole {
		w.broken.Add(loc.ordinal)
	}
	w.order = append(w.order, loc.ordinal)
	return whole, nil
}

// admitReached replaces the provisional runs by one with final ordinals.
func (s *Store) admitReached() error {
	w := &reachWalk{s: s, seen: roaring.New(), broken: roaring.New()}
	for _, id := range s.Roots() {
		root, _, err := s.Root(id)
		if err != nil {
			s.log.Error("a snapshot's record is unreadable", "snapshot", id, "error", err)
			continue
		}
		whole, err := w.visit(root.Tree())
		if err == nil && root.HasLinks {
			var ok bool
			ok, err = w.visit(root.Links)
			whole = whole && ok
		}
		if err != nil {
			return err
		}
		if !whole {
			s.log.Error("a snapshot is not whole; verify names the paths", "snapshot", id)
		}
	}
	leases, _ := filepath.Glob(filepath.Join(s.dir, "leases", "*.lease"))
	for _, path := range leases {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		var werr error
		readLease(f, func(id object.ID) {
			if werr == nil {
				_, werr = w.visit(id)
			}
		})
		f.Close()
		if werr != nil {
			return werr
		}
	}
	final := make(map[uint32]uint32, len(w.order))
	for i, o := range w.order {
		final[o] = uint32(i)
	}
	s.man.Next = uint32(len(w.order))
	var err error
	if s.ords, err = openOrdinals(s.ordinalsPath(s.man.Epoch)); err != nil {
		return err
	}
	liveIn := map[uint32]int64{}
	provisional := s.runs
	r, err := writeRun(filepath.Join(s.dir, "index"), s.runName(), s.man.Epoch, len(w.order), func(emit func(*indexEntry) error) error {
		return mergeRuns(provisional, s.gone, func(e *indexEntry) error {
			o, ok := final[e.ordinal]
			if !ok {
				return nil
			}
			e.ordinal = o
			liveIn[e.pack] += e.size()
			if err := s.ords.set(o, []indexEntry{*e}); err != nil {
				return err
			}
			return emit(e)
		})
	})
	if err != nil {
		return fmt.Errorf("rebuilding the index: %w", err)
	}
	if err := s.ords.sync(); err != nil {
		return err
	}
	for i := range s.man.Packs {
		p := &s.man.Packs[i]
		p.Dead = max(0, p.Bytes-packHead-liveIn[p.Num])
	}
	for _, old := range provisional {
		old.f.Close()
		os.Remove(filepath.Join(s.dir, "index", old.name))
	}
	s.runs = []*run{r}
	s.man.Runs = []string{r.name}
	if w.broken.IsEmpty() {
		return nil
	}
	broken := roaring.New()
	for it := w.broken.Iterator(); it.HasNext(); {
		broken.Add(final[it.Next()])
	}
	return s.saveDamaged(broken, broken.Clone())
}
