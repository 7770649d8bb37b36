package store

import (
	"os"
	"path/filepath"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
)

// noPack is the pack of index entries whose record is damaged beyond its head. They stay
// in the index so that verification names what they were and a good copy replaces them.
const noPack = 0

// seal moves the log's objects into packs and begins a new log. A record that is not
// whole stops nothing: it is noted as damaged, and the old log is kept. The caller holds
// maint and adm.
func (s *Store) seal() error {
	if len(s.mem) == 0 && s.logf.size == 0 && !s.logf.spoiled {
		return nil
	}
	entries := make([]indexEntry, 0, len(s.mem))
	for id, loc := range s.mem {
		entries = append(entries, indexEntry{id, loc})
	}
	byOrdinal(entries)
	p := newPackSet(s)
	bad := roaring.New()
	for i := range entries {
		e := &entries[i]
		raw, err := s.readAt(e.id, e.location, nil)
		if err == nil {
			_, err = openRecord(nil, raw, e.id)
		}
		if err != nil {
			s.log.Error("a record of the log is damaged", "log", s.logf.num, "object", e.id, "error", err)
			bad.Add(e.ordinal)
			e.pack, e.offset = noPack, 0
			continue
		}
		if err := p.append(e, raw); err != nil {
			p.abort()
			return err
		}
	}
	packs, err := p.finish()
	if err != nil {
		return err
	}
	c := change{undo: p.abort}
	var r *run
	if len(entries) > 0 {
		if r, err = s.writeSortedRun(entries); err != nil {
			p.abort()
			return err
		}
		c.undo = func() { p.abort(); r.drop(s.dir) }
	}
	num := uint32(s.numbers.nextFile())
	f, err := createLog(s.dir, num)
	if err == nil {
		if err = s.ords.sync(); err != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}
	if err != nil {
		c.undo()
		return err
	}
	undo := c.undo
	c.undo = func() { undo(); f.Close(); os.Remove(f.Name()) }
	c.edit = func(files *contents) {
		files.Logs = []uint32{num}
		files.Packs = append(files.Packs, packs...)
		if r != nil {
			files.Runs = append(files.Runs, r.name)
		}
	}
	old := s.logf
	c.take = func() {
		if r != nil {
			s.runs = append(s.runs, r)
		}
		s.mem = map[object.ID]location{}
		s.logf = &logFile{num: num, f: f}
		s.taint.Or(bad)
		s.absent.Or(bad)
	}
	c.obsolete = func() {
		old.f.Close()
		if old.evidence || !bad.IsEmpty() {
			s.putAside(filepath.Join("log", logName(old.num)))
		} else {
			os.Remove(old.f.Name())
		}
	}
	if err := s.publish(c); err != nil {
		return err
	}
	if bad.IsEmpty() {
		return nil
	}
	s.find(Finding{Code: FindLog, File: "log/" + logName(old.num)})
	return s.addDamaged(bad)
}
