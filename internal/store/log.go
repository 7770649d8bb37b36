package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"candidharbor/core/object"
)

// The log takes small commits with one fsync each. It is a sequence of groups:
// records as in packs, then a group end of 28 bytes:
//
//	0  magic  "Ce"
//	2  zero   u16
//	4  count  u32  records in the group
//	8  first  u32  ordinal of the first record; the others follow
//	12 bytes  u64  of the records
//	20 check  u32  CRC-32C of bytes 0..19 and all record heads' checks
//	24 zero   u32
//
// A group without a whole end was not acknowledged and is cut off.
type logFile struct {
	num  uint32
	f    *os.File
	size int64
}

const (
	groupEnd   = 28
	sealAtSize = 16 << 20
	sealAtObjs = 50_000
)

func logName(num uint32) string { return fmt.Sprintf("%08d.log", num) }

func (s *Store) openLogs() error {
	if len(s.man.Logs) == 0 {
		s.man.Logs = []uint32{uint32(s.man.Serial)}
		s.man.Serial++
		if err := s.writeManifest(&s.man); err != nil {
			return err
		}
	}
	num := s.man.Logs[len(s.man.Logs)-1]
	f, err := os.OpenFile(filepath.Join(s.dir, "log", logName(num)), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	s.logf = &logFile{num: num, f: f}
	if err := syncDir(filepath.Join(s.dir, "log")); err != nil {
		return err
	}
	whole, err := readLog(f, func(first uint32, entries []indexEntry) error {
		for i := range entries {
			entries[i].pack = num | logBit
		}
		s.admitLogged(first, entries)
		return s.ords.set(first, entries)
	})
	if err != nil {
		return err
	}
	s.logf.size = whole
	st, err := f.Stat()
	if err == nil && st.Size() > whole {
		s.log.Info("an unfinished commit was cut off the log", "bytes", st.Size()-whole)
		if err = f.Truncate(whole); err == nil {
			err = f.Sync()
		}
	}
	return err
}

// admitLogged enters a group into the index. The caller holds mu or is opening.
func (s *Store) admitLogged(first uint32, entries []indexEntry) {
	for i := range entries {
		e := &entries[i]
		e.ordinal = first + uint32(i)
		if _, ok, err := s.present(&e.id); ok && err == nil {
			s.gone.Add(e.ordinal)
			s.absent.Add(e.ordinal)
			continue
		}
		s.noteHealedLocked(&e.id)
		s.mem[e.id] = e.location
	}
	s.man.Next = max(s.man.Next, first+uint32(len(entries)))
}

// readLog calls group for each whole group and returns where the last one ends.
func readLog(f *os.File, group func(first uint32, entries []indexEntry) error) (int64, error) {
	st, err := f.Stat()
	if err != nil {
		return 0, err
	}
	var at, begin int64
	var entries []indexEntry
	sum := uint32(0)
	head := make([]byte, recordHead)
	for {
		n, err := f.ReadAt(head, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return begin, err
		}
		if n >= groupEnd && head[0] == 'C' && head[1] == 'e' {
			check := crc32.Update(sum, castagnoli, head[:20])
			if binary.LittleEndian.Uint32(head[4:]) != uint32(len(entries)) || binary.LittleEndian.Uint64(head[12:]) != uint64(at-begin) ||
				binary.LittleEndian.Uint32(head[20:]) != check {
				return begin, nil
			}
			if err := group(binary.LittleEndian.Uint32(head[8:]), entries); err != nil {
				return begin, err
			}
			at += groupEnd
			begin, entries, sum = at, nil, 0
			continue
		}
		if n < recordHead {
			return begin, nil
		}
		h, err := parseHeader(head)
		if err != nil || at+h.size() > st.Size() {
			return begin, nil
		}
		entries = append(entries, indexEntry{h.id, location{offset: uint32(at), stored: h.stored, plain: h.plain, kind: h.kind, codec: h.codec}})
		sum = crc32.Update(sum, castagnoli, head[44:48])
		at += h.size()
	}
}

// commitLog appends one group durably and admits it. The caller holds adm.
func (s *Store) commitLog(entries []indexEntry, record func(i int) []byte, lease *Lease) error {
	first := s.man.Next
	start := s.logf.size
	var buf []byte
	sum := uint32(0)
	for i := range entries {
		raw := record(i)
		entries[i].offset = uint32(start) + uint32(len(buf))
		entries[i].pack = s.logf.num | logBit
		sum = crc32.Update(sum, castagnoli, raw[44:48])
		buf = append(buf, raw...)
	}
	end := make([]byte, groupEnd)
	end[0], end[1] = 'C', 'e'
	binary.LittleEndian.PutUint32(end[4:], uint32(len(entries)))
	binary.LittleEndian.PutUint32(end[8:], first)
	binary.LittleEndian.PutUint64(end[12:], uint64(len(buf)))
	binary.LittleEndian.PutUint32(end[20:], crc32.Update(sum, castagnoli, end[:20]))
	buf = append(buf, end...)
	_, err := s.ballast.writeAt(s.logf.f, buf, start)
	if err == nil {
		err = s.logf.f.Sync()
		s.syncs.add()
	}
	if err == nil {
		err = s.ords.set(first, entries)
	}
	if err != nil {
		s.logf.f.Truncate(start)
		return explainFull(s.dir, err)
	}
	s.mu.Lock()
	s.logf.size = start + int64(len(buf))
	s.admitLogged(first, entries)
	for i := range entries {
		if loc, ok, _ := s.present(&entries[i].id); ok {
			lease.add(loc.ordinal)
		}
	}
	s.mu.Unlock()
	return nil
}

// seal moves the log's objects into packs and begins a new log. The caller holds
// maint and adm.
func (s *Store) seal() error {
	if len(s.mem) == 0 {
		return nil
	}
	entries := make([]indexEntry, 0, len(s.mem))
	for id, loc := range s.mem {
		entries = append(entries, indexEntry{id, loc})
	}
	byOrdinal(entries)
	p := newPackSet(s)
	for i := range entries {
		raw, err := s.readAt(entries[i].location, nil)
		if err == nil {
			_, err = checkRecord(raw)
		}
		if err != nil {
			p.abort()
			return fmt.Errorf("log %d: object %s: %w", s.logf.num, entries[i].id, err)
		}
		if err := p.append(&entries[i], raw); err != nil {
			p.abort()
			return err
		}
	}
	packs, err := p.finish()
	if err != nil {
		return err
	}
	r, err := s.writeSortedRun(entries)
	if err != nil {
		p.abort()
		return err
	}
	num := uint32(s.man.Serial)
	f, err := os.OpenFile(filepath.Join(s.dir, "log", logName(num)), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if errors.Is(err, fs.ErrExist) {
		f, err = os.OpenFile(filepath.Join(s.dir, "log", logName(num)), os.O_TRUNC|os.O_RDWR, 0o600)
	}
	if err == nil {
		err = syncDir(filepath.Join(s.dir, "log"))
	}
	next := s.man.clone()
	next.Serial++
	next.Logs = []uint32{num}
	next.Packs = append(next.Packs, packs...)
	next.Runs = append(next.Runs, r.name)
	next.Gone = bitmapBytes(s.gone.Clone())
	if err == nil {
		err = s.ords.sync()
	}
	if err == nil {
		err = s.writeManifest(&next)
	}
	if err != nil {
		p.abort()
		return err
	}
	s.mu.Lock()
	old := s.logf
	s.man = next
	s.runs = append(s.runs, r)
	s.mem = map[object.ID]location{}
	s.logf = &logFile{num: num, f: f}
	s.mu.Unlock()
	old.f.Close()
	os.Remove(filepath.Join(s.dir, "log", logName(old.num)))
	return nil
}
