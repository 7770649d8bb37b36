package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
)

// rebuildIndex makes manifest, runs and ordinals anew from packs and logs, those that were
// put aside included. Only what a root or a durable lease reaches is admitted, children
// before parents; but when a snapshot is not whole, everything is, because what it needs
// is not known. Nothing is deleted that was not copied first.
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
	s.runs = nil
	s.forget()
	s.epoch, s.files, s.next, s.heals = newEpoch(), contents{}, 0, 0
	if err := s.raiseNumbers(); err != nil {
		return err
	}
	s.rebuilt = true
	old, err := namesIn(filepath.Join(s.dir, "index"))
	if err != nil {
		return err
	}
	for _, name := range old {
		os.Remove(filepath.Join(s.dir, "index", name))
	}
	for _, name := range []string{"condemned", "damaged"} {
		os.Remove(filepath.Join(s.dir, name))
	}
	if err := s.bringBack(); err != nil {
		return err
	}
	if err := s.findPacks(); err != nil {
		return err
	}
	logs, err := s.packLogs()
	if err != nil {
		return err
	}
	if err := s.scanPacks(); err != nil {
		return err
	}
	if err := s.admitReached(); err != nil {
		return err
	}
	num := uint32(s.numbers.nextFile())
	f, err := createLog(s.dir, num)
	if err != nil {
		return err
	}
	f.Close()
	s.files.Logs = []uint32{num}
	if err := s.publish(change{edit: func(*contents) {}}); err != nil {
		return err
	}
	for _, r := range s.runs {
		r.f.Close()
	}
	s.runs = nil
	s.ords.close()
	for name, harmed := range logs { // no others: what was not read is not copied
		if harmed {
			s.putAside(filepath.Join("log", name))
		} else {
			os.Remove(filepath.Join(s.dir, "log", name))
		}
	}
	m, err := readManifest(s.dir)
	if err != nil {
		return err
	}
	s.find(Finding{Code: FindIndex, File: "manifest"})
	return s.load(m)
}

func (s *Store) findPacks() error {
	after := ""
	for {
		names, err := s.media.List("packs", after, listAtOnce)
		if err != nil {
			return err
		}
		for _, n := range names {
			after = n
			r, err := s.media.Open("packs/" + n)
			if err != nil {
				return err
			}
			num, err := s.numbers.nextPack()
			if err != nil {
				return err
			}
			s.files.Packs = append(s.files.Packs, packInfo{Num: num, Name: "packs/" + n, Bytes: r.Size()})
			r.Close()
		}
		if len(names) < listAtOnce {
			return nil
		}
	}
}

// packLogs copies the whole records of all logs into packs, wherever they lie, and returns
// by name which logs these are, and whether something else lies in them too.
func (s *Store) packLogs() (harmed map[string]bool, err error) {
	harmed = map[string]bool{}
	logs, err := namesIn(filepath.Join(s.dir, "log"))
	if err != nil || len(logs) == 0 {
		return harmed, err
	}
	p := newPackSet(s)
	for _, name := range logs {
		if harmed[name], err = s.packLog(name, p); err != nil {
			p.abort()
			return harmed, err
		}
	}
	packs, err := p.finish()
	if err != nil {
		return harmed, err
	}
	s.files.Packs = append(s.files.Packs, packs...)
	sortPacks(s.files.Packs)
	return harmed, nil
}

func (s *Store) packLog(name string, p *packSet) (harmed bool, err error) {
	f, err := os.Open(filepath.Join(s.dir, "log", name))
	if err != nil {
		return false, err
	}
	defer f.Close()
	raw, err := readWhole(f)
	if err != nil {
		return false, err
	}
	put := func(record []byte) {
		if h, herr := parseHeader(record); herr == nil && err == nil {
			err = p.append(&indexEntry{h.id, location{stored: h.stored, plain: h.plain, kind: h.kind, codec: h.codec}}, record)
		}
	}
	bad, serr := scanLog(raw, func(_ uint32, entries []indexEntry) error {
		for i := range entries {
			e := &entries[i]
			if e.id.IsZero() {
				harmed = true
				continue
			}
			put(raw[e.offset : int64(e.offset)+e.size()])
		}
		return err
	})
	for i, b := range bad {
		salvage(raw[b.from:b.to], put)
		harmed = harmed || i < len(bad)-1 || b.to < len(raw)
	}
	return harmed, errors.Join(serr, err)
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
		if !errors.Is(err, ErrDamaged) || passing(err) {
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

// reach visits what roots and durable leases lead to, and everything else too when a
// snapshot is not whole.
func (w *reachWalk) reach() error {
	s := w.s
	allWhole := true
	for _, id := range s.Roots() {
		root, _, err := s.Root(id)
		if passing(err) {
			return err
		}
		if err != nil {
			s.log.Error("a snapshot's record is unreadable", "snapshot", id, "error", err)
			allWhole = false
			continue
		}
		whole := true
		for _, top := range tops(root) {
			ok, err := w.visit(top)
			if err != nil {
				return err
			}
			whole = whole && ok
		}
		if !whole {
			s.log.Error("a snapshot is not whole; verify names the paths", "snapshot", id)
			allWhole = false
		}
	}
	leases, err := s.leaseFiles()
	if err != nil {
		return err
	}
	for _, path := range leases {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		_, err = readLease(f, func(id object.ID) error {
			_, err := w.visit(id)
			return err
		})
		f.Close()
		if err != nil {
			return err
		}
	}
	if allWhole {
		return nil
	}
	return mergeRuns(s.runs, s.gone, func(e *indexEntry) error {
		_, err := w.visit(e.id)
		return err
	})
}

// admitReached replaces the provisional run by one with final ordinals.
func (s *Store) admitReached() error {
	w := &reachWalk{s: s, seen: roaring.New(), broken: roaring.New()}
	if err := w.reach(); err != nil {
		return err
	}
	if len(w.order) >= maxOrdinals {
		return errOrdinals
	}
	final := make([]uint32, slices.Max(append(w.order, 0))+1) // plus one; 0: not reached
	for i, o := range w.order {
		final[o] = uint32(i) + 1
	}
	s.next = uint32(len(w.order))
	var err error
	if s.ords, err = openOrdinals(s.ordinalsPath(s.epoch)); err != nil {
		return err
	}
	liveIn := map[uint32]int64{}
	provisional := s.runs
	r, err := writeRun(filepath.Join(s.dir, "index"), s.runName(), s.epoch, len(w.order),
		func(emit func(*indexEntry) error) error {
			return mergeRuns(provisional, s.gone, func(e *indexEntry) error {
				if int(e.ordinal) >= len(final) || final[e.ordinal] == 0 {
					return nil
				}
				o := final[e.ordinal] - 1
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
	for i := range s.files.Packs {
		p := &s.files.Packs[i]
		p.Dead = max(0, p.Bytes-packHead-liveIn[p.Num])
	}
	for _, old := range provisional {
		old.drop(s.dir)
	}
	s.runs = []*run{r}
	s.files.Runs = []string{r.name}
	if w.broken.IsEmpty() {
		return nil
	}
	broken := roaring.New()
	for it := w.broken.Iterator(); it.HasNext(); {
		broken.Add(final[it.Next()] - 1)
	}
	return s.setDamaged(broken, broken.Clone())
}
