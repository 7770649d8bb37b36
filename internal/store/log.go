package store

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
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
// A group without a whole end at the end of the log was not acknowledged. Anywhere else
// it is damage: reading goes on at the next whole group, and nothing is cut off.
type logFile struct {
	num  uint32
	f    *os.File
	size int64
	// spoiled: an fsync failed. Nothing more is written to this log, and it is sealed soon.
	spoiled bool
	// evidence: parts of it are damaged, so it is moved aside and not removed once sealed.
	evidence bool
}

const (
	groupEnd   = 28
	sealAtSize = 16 << 20
	sealAtObjs = 50_000
	maxLog     = 2 << 30 // offsets are 32 bits
)

func logName(num uint32) string { return fmt.Sprintf("%08d.log", num) }

// createLog makes an empty log that is durable under its name.
func createLog(dir string, num uint32) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "log", logName(num)), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err == nil {
		if err = syncDir(filepath.Join(dir, "log")); err != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}
	return f, err
}

// stretch is a part of a log that is not of a whole group.
type stretch struct{ from, to int }

// scanLog calls group for each whole group, wherever it lies, and returns what lies
// between them. The identity of a record that is not whole is zero.
func scanLog(raw []byte, group func(first uint32, entries []indexEntry) error) (bad []stretch, err error) {
	begin := 0
	emit := func(from, end int, entries []indexEntry) error {
		if from > begin {
			bad = append(bad, stretch{begin, from})
		}
		begin = end + groupEnd
		return group(binary.LittleEndian.Uint32(raw[end+8:]), entries)
	}
	for begin < len(raw) {
		if end, entries, ok := parseGroup(raw, begin); ok {
			if err := emit(begin, end, entries); err != nil {
				return bad, err
			}
			continue
		}
		from, end, entries, ok := nextGroup(raw, begin)
		if !ok {
			return append(bad, stretch{begin, len(raw)}), nil
		}
		if err := emit(from, end, entries); err != nil {
			return bad, err
		}
	}
	return bad, nil
}

// parseGroup reads the group that begins at an offset and returns where its end begins.
func parseGroup(raw []byte, begin int) (end int, entries []indexEntry, ok bool) {
	sum := uint32(0)
	for at := begin; ; {
		if isGroupEnd(raw, at) {
			ok := int(binary.LittleEndian.Uint32(raw[at+4:])) == len(entries) &&
				binary.LittleEndian.Uint64(raw[at+12:]) == uint64(at-begin) &&
				binary.LittleEndian.Uint32(raw[at+20:]) == crc32.Update(sum, castagnoli, raw[at:at+20])
			return at, entries, ok
		}
		if at > len(raw) {
			return at, nil, false
		}
		h, err := parseHeader(raw[at:])
		if err != nil || h.size() > int64(len(raw)-at) {
			return at, nil, false
		}
		e := indexEntry{h.id, location{offset: uint32(at), stored: h.stored, plain: h.plain, kind: h.kind, codec: h.codec}}
		if _, err := checkRecord(raw[at : at+int(h.size())]); err != nil {
			e.id = object.ID{}
		}
		entries = append(entries, e)
		sum = crc32.Update(sum, castagnoli, raw[at+44:at+48])
		at += int(h.size())
	}
}

func isGroupEnd(raw []byte, at int) bool {
	return at+groupEnd <= len(raw) && raw[at] == 'C' && raw[at+1] == 'e' && raw[at+2] == 0 && raw[at+3] == 0
}

// nextGroup finds the first whole group that begins after an offset, by its end.
func nextGroup(raw []byte, after int) (from, end int, entries []indexEntry, ok bool) {
	for at := after; ; at++ {
		i := bytes.Index(raw[at:], []byte{'C', 'e', 0, 0})
		if i < 0 || at+i+groupEnd > len(raw) {
			return 0, 0, nil, false
		}
		at += i
		size := binary.LittleEndian.Uint64(raw[at+12:])
		if size > uint64(at-after) {
			continue
		}
		from := at - int(size)
		if end, entries, ok := parseGroup(raw, from); ok && end == at {
			return from, end, entries, true
		}
	}
}

// salvage visits the whole records in a part of a log.
func salvage(raw []byte, visit func(record []byte)) {
	for at := 0; ; {
		i := bytes.Index(raw[at:], []byte("Cr"))
		if i < 0 {
			return
		}
		at += i
		h, err := parseHeader(raw[at:])
		if err == nil && h.size() <= int64(len(raw)-at) {
			record := raw[at : at+int(h.size())]
			if _, err := openRecord(nil, record, h.id); err == nil {
				visit(record)
				at += len(record)
				continue
			}
		}
		at++
	}
}

// openLogs reads the log that the manifest names. What is damaged in it is kept, told,
// and got back as far as its records are whole.
func (s *Store) openLogs() error {
	if len(s.files.Logs) == 0 {
		return fmt.Errorf("%w: no log is named", errIndex)
	}
	num := s.files.Logs[len(s.files.Logs)-1]
	f, err := os.OpenFile(filepath.Join(s.dir, "log", logName(num)), os.O_RDWR, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: log %d is missing", errIndex, num)
	}
	if err != nil {
		return err
	}
	s.logf = &logFile{num: num, f: f}
	raw, err := readWhole(f)
	if err != nil {
		return err
	}
	s.logf.size = int64(len(raw))
	broken := 0
	bad, err := scanLog(raw, func(first uint32, entries []indexEntry) error {
		for i := range entries {
			entries[i].pack = num | logBit
			if entries[i].id.IsZero() {
				broken++ // the table of ordinals still knows what lies there
				if id, _, kind, ok := s.ords.get(first + uint32(i)); ok {
					entries[i].id, entries[i].kind = id, kind
				}
			}
		}
		s.admitLogged(first, entries)
		return s.setOrdinals(first, entries)
	})
	if err != nil {
		return err
	}
	var records [][]byte
	for i, b := range bad {
		n := len(records)
		salvage(raw[b.from:b.to], func(r []byte) { records = append(records, bytes.Clone(r)) })
		if i == len(bad)-1 && b.to == len(raw) && n == len(records) { // an unfinished commit
			s.log.Info("an unfinished commit was cut off the log", "bytes", b.to-b.from)
			if err := errors.Join(f.Truncate(int64(b.from)), f.Sync()); err != nil {
				return err
			}
			s.logf.size, bad = int64(b.from), bad[:i]
		}
	}
	end, err := s.ords.end(s.next)
	if err != nil {
		return err
	}
	if len(bad)+broken > 0 || end > s.next {
		// Ordinals that were given and are not known may be of a commit that was never
		// acknowledged; a snapshot that lacks something says that they were not.
		_, lacks, err := s.lacking()
		if err != nil {
			return err
		}
		s.logf.evidence = len(bad)+broken > 0
		if s.logf.evidence || lacks {
			s.find(Finding{Code: FindLog, File: "log/" + logName(num), Bytes: badBytes(bad)})
		}
		if err := s.noteLost(end); err != nil {
			return err
		}
	}
	return s.putBack(records)
}

// readWhole reads a file from its beginning to its end.
func readWhole(f *os.File) ([]byte, error) {
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	raw := make([]byte, st.Size())
	if len(raw) > 0 {
		_, err = f.ReadAt(raw, 0)
	}
	return raw, err
}

func badBytes(bad []stretch) (n int64) {
	for _, b := range bad {
		n += int64(b.to - b.from)
	}
	return n
}

// setOrdinals enters a group's records into the table of ordinals, damaged ones that
// nothing names left out.
func (s *Store) setOrdinals(first uint32, entries []indexEntry) error {
	for i := range entries {
		if entries[i].id.IsZero() {
			continue
		}
		if id, _, _, ok := s.ords.get(first + uint32(i)); ok && id == entries[i].id {
			continue
		}
		if err := s.ords.set(first+uint32(i), entries[i:i+1]); err != nil {
			return err
		}
	}
	return nil
}

// noteLost makes durable which ordinals were given and are in no index entry, so that no
// census that has one of them is believed and none of them is given again.
func (s *Store) noteLost(end uint32) error {
	known := roaring.New()
	if err := s.eachPlaced(func(e *indexEntry) error { known.Add(e.ordinal); return nil }); err != nil {
		return err
	}
	next := max(s.next, end)
	for _, loc := range s.mem {
		known.Add(loc.ordinal)
	}
	s.lost = roaring.New()
	s.lost.AddRange(0, uint64(next))
	s.lost.AndNot(known)
	s.lost.AndNot(s.gone)
	s.next = next
	return s.publish(change{edit: func(*contents) {}})
}

// putBack commits records that were found in damaged parts of a log, as far as their
// children are here.
func (s *Store) putBack(records [][]byte) error {
	if len(records) == 0 {
		return nil
	}
	lease := s.NewLease()
	defer lease.Release()
	w := s.NewWriter(lease)
	defer w.Close()
	for _, raw := range records {
		if _, err := w.PutRecord(raw); err != nil && !errors.Is(err, ErrNotClosed) && !errors.Is(err, ErrDamaged) {
			return err
		}
	}
	return w.Flush()
}

// admitLogged enters a group into the index. The caller holds mu or is opening. Records
// without an identity are damaged, and nothing says what they were.
func (s *Store) admitLogged(first uint32, entries []indexEntry) {
	for i := range entries {
		e := &entries[i]
		e.ordinal = first + uint32(i)
		if e.id.IsZero() {
			continue
		}
		if loc, ok, err := s.present(&e.id); ok && err == nil && !s.stale.Contains(loc.ordinal) {
			s.gone.Add(e.ordinal)
			s.absent.Add(e.ordinal)
			continue
		}
		s.noteHealedLocked(&e.id)
		s.mem[e.id] = e.location
	}
	s.next = max(s.next, first+uint32(len(entries)))
}

// commitLog appends one group durably and admits it. The caller holds adm.
func (s *Store) commitLog(entries []indexEntry, record func(i int) []byte, lease *Lease) error {
	first := s.next
	if first > maxOrdinals {
		return errOrdinals
	}
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
	if start+int64(len(buf)) > maxLog {
		return fmt.Errorf("the log of the store %s has %d bytes and could not be sealed: see the log of the service", s.dir,
			start)
	}
	_, err := s.ballast.writeAt(s.logf.f, buf, start)
	if err == nil {
		if err = s.logf.f.Sync(); err != nil {
			s.mu.Lock()
			s.logf.spoiled = true
			s.mu.Unlock()
		}
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

// logUsable reports whether small commits may go to the log.
func (s *Store) logUsable() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return !s.logf.spoiled
}
