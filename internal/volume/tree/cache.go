package tree

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"sync"

	"candidharbor/core/object"
)

// The scan cache of a lineage is a file of directory records, each written after
// those of its subdirectories and naming them by offset. A record is
//
//	length u32, CRC-32C u32, dir id 32, flags u32, files u64, dirs u64, others u64,
//	bytes u64 (of all below and the directory itself), entries u32, then per entry:
//	name length u8, name, kind u8, flags u8, inode u64, ctime i64, size i64,
//	content id 32 (flag has content), child record offset u64 (directories)
//
// all little-endian. A changed directory appends a new record; unchanged ones stay
// where they are. The head file beside it names the top record and is replaced by
// rename once the records are durable: what a power cut left of an abandoned scan must not
// stand for what the head describes. Files are read and not mapped, so that one which
// something cuts short costs a new reading and not the process.
type cacheHead struct {
	Form     int       `json:"form"` // 3; 2 relied on change times that had not settled
	File     string    `json:"file"`
	Top      int64     `json:"top"`
	Size     int64     `json:"size"`
	Base     int64     `json:"base"` // size when the file was last written from scratch
	Tree     object.ID `json:"tree"`
	Links    object.ID `json:"links"`
	Settings string    `json:"settings"` // what else decides the tree: chunking, excludes
}

// Cache remembers the last snapshot of one lineage.
type Cache struct {
	dir, name string
	head      cacheHead
	f         *os.File // nil: nothing remembered
}

// OpenCache opens the cache of a name in dir. One that cannot be used is empty.
func OpenCache(dir, name, settings string) *Cache {
	c := &Cache{dir: dir, name: name}
	raw, err := os.ReadFile(c.headPath())
	if err != nil || json.Unmarshal(raw, &c.head) != nil || c.head.Form != cacheForm || c.head.Settings != settings ||
		filepath.Base(c.head.File) != c.head.File {
		c.head = cacheHead{Form: cacheForm, Settings: settings}
		return c
	}
	c.f, err = os.Open(filepath.Join(dir, c.head.File))
	if top := c.readDir(c.head.Top); err != nil || top == nil || top.id != c.head.Tree {
		c.Close()
		c.head = cacheHead{Form: cacheForm, Settings: settings}
	}
	return c
}

func (c *Cache) headPath() string { return filepath.Join(c.dir, c.name+".head") }

// Tree returns the tree that the cache describes; ok is false when it is empty.
func (c *Cache) Tree() (id object.ID, ok bool) { return c.head.Tree, c.f != nil }

// Drop forgets what the cache describes: the next scan reads everything.
func (c *Cache) Drop() { os.Remove(c.headPath()) }

// Close closes the cache.
func (c *Cache) Close() {
	if c.f != nil {
		c.f.Close()
		c.f = nil
	}
}

type cacheEntry struct {
	name    []byte
	kind    object.EntryKind
	trusted bool
	has     bool
	look    bool
	inode   uint64
	ctime   int64
	size    int64
	content object.ID
	child   int64
}

const (
	flagTrusted = 1
	flagContent = 2
	flagLook    = 4 // of a directory: its record has flags

	cacheForm   = 3
	recordFixed = 4 + 4 + 32 + 4 + 4*8 + 4
)

// What a directory's record says of it.
const (
	lookHere  uint32 = 1 << iota // something in it could not be read as it is: list it each time
	lookBelow                    // so it is somewhere below
)

// totals are what a directory holds with all below, itself included.
type totals struct{ files, dirs, others, bytes int64 }

func (t *totals) add(o totals) {
	t.files += o.files
	t.dirs += o.dirs
	t.others += o.others
	t.bytes += o.bytes
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

type cacheDir struct {
	id      object.ID
	flags   uint32
	sum     totals
	entries []cacheEntry // sorted by name
}

// firstRead is how much of a record is read at once: most are not larger.
const firstRead = 2 << 10

// record returns the bytes of the record at an offset, or nil when there is no good one.
func (c *Cache) record(off int64) []byte {
	if c == nil || c.f == nil || off < 0 || off+recordFixed > c.head.Size {
		return nil
	}
	b := make([]byte, min(firstRead, c.head.Size-off))
	if _, err := c.f.ReadAt(b, off); err != nil {
		return nil
	}
	n := int64(binary.LittleEndian.Uint32(b))
	if n < recordFixed || off+n > c.head.Size {
		return nil
	}
	if first := int64(len(b)); n > first {
		b = append(b, make([]byte, n-first)...)
		if _, err := c.f.ReadAt(b[first:], off+first); err != nil {
			return nil
		}
	}
	b = b[:n]
	if crc32.Checksum(b[8:], castagnoli) != binary.LittleEndian.Uint32(b[4:]) {
		return nil
	}
	return b
}

func sumOf(record []byte) (t totals) {
	for i, n := range []*int64{&t.files, &t.dirs, &t.others, &t.bytes} {
		*n = int64(binary.LittleEndian.Uint64(record[44+8*i:]))
	}
	return t
}

// readDir returns the record at an offset, or nil when there is no good one.
func (c *Cache) readDir(off int64) *cacheDir {
	b := c.record(off)
	if b == nil {
		return nil
	}
	d := &cacheDir{id: object.ID(b[8:40]), flags: binary.LittleEndian.Uint32(b[40:]), sum: sumOf(b)}
	d.entries = make([]cacheEntry, binary.LittleEndian.Uint32(b[76:]))
	b = b[recordFixed:]
	for i := range d.entries {
		e := &d.entries[i]
		l := int(b[0])
		e.name, b = b[1:1+l], b[1+l:]
		e.kind, e.trusted, e.has, e.look = object.EntryKind(b[0]), b[1]&flagTrusted != 0, b[1]&flagContent != 0,
			b[1]&flagLook != 0
		e.inode = binary.LittleEndian.Uint64(b[2:])
		e.ctime = int64(binary.LittleEndian.Uint64(b[10:]))
		e.size = int64(binary.LittleEndian.Uint64(b[18:]))
		b = b[26:]
		if e.has {
			e.content, b = object.ID(b[:32]), b[32:]
		}
		if e.kind == object.Dir {
			e.child, b = int64(binary.LittleEndian.Uint64(b)), b[8:]
		}
	}
	return d
}

// readSum returns what the directory at an offset holds; ok is false when there is no
// good record.
func (c *Cache) readSum(off int64) (sum totals, ok bool) {
	b := c.record(off)
	if b == nil {
		return sum, false
	}
	return sumOf(b), true
}

// cacheWriter appends records for the next snapshot.
type cacheWriter struct {
	old   *Cache
	mu    sync.Mutex
	f     *os.File
	name  string
	size  int64
	base  int64
	buf   []byte
	fresh bool // a new file: records taken over are copied
	err   error
}

// begin starts the next version. A file that grew to three times its base is begun
// anew, so that what is out of date goes.
func (c *Cache) begin() (*cacheWriter, error) {
	w := &cacheWriter{old: c, name: c.head.File, size: c.head.Size, base: c.head.Base}
	if c.f == nil || c.head.Size > 3*c.head.Base+1<<20 {
		w.fresh, w.size, w.base = true, 0, 0
		w.name = fmt.Sprintf("%s.%d.scan", c.name, os.Getpid())
		if w.name == c.head.File {
			w.name = fmt.Sprintf("%s.%d.next.scan", c.name, os.Getpid())
		}
	}
	flags := os.O_CREATE | os.O_RDWR
	if w.fresh {
		flags |= os.O_TRUNC
	}
	var err error
	w.f, err = os.OpenFile(filepath.Join(c.dir, w.name), flags, 0o600)
	return w, err
}

func (w *cacheWriter) append(d *cacheDir) int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.appendLocked(d)
}

func (w *cacheWriter) appendLocked(d *cacheDir) int64 {
	start := len(w.buf)
	off := w.size
	b := append(w.buf, make([]byte, 8)...)
	b = append(b, d.id[:]...)
	b = binary.LittleEndian.AppendUint32(b, d.flags)
	for _, n := range []int64{d.sum.files, d.sum.dirs, d.sum.others, d.sum.bytes} {
		b = binary.LittleEndian.AppendUint64(b, uint64(n))
	}
	b = binary.LittleEndian.AppendUint32(b, uint32(len(d.entries)))
	for i := range d.entries {
		e := &d.entries[i]
		flags := byte(0)
		if e.trusted {
			flags |= flagTrusted
		}
		if e.has {
			flags |= flagContent
		}
		if e.look {
			flags |= flagLook
		}
		b = append(b, byte(len(e.name)))
		b = append(b, e.name...)
		b = append(b, byte(e.kind), flags)
		b = binary.LittleEndian.AppendUint64(b, e.inode)
		b = binary.LittleEndian.AppendUint64(b, uint64(e.ctime))
		b = binary.LittleEndian.AppendUint64(b, uint64(e.size))
		if e.has {
			b = append(b, e.content[:]...)
		}
		if e.kind == object.Dir {
			b = binary.LittleEndian.AppendUint64(b, uint64(e.child))
		}
	}
	rec := b[start:]
	binary.LittleEndian.PutUint32(rec, uint32(len(rec)))
	binary.LittleEndian.PutUint32(rec[4:], crc32.Checksum(rec[8:], castagnoli))
	w.size += int64(len(rec))
	w.buf = b
	if len(w.buf) >= 1<<20 {
		w.flush()
	}
	return off
}

func (w *cacheWriter) flush() {
	if w.err == nil && len(w.buf) > 0 {
		_, w.err = w.f.WriteAt(w.buf, w.size-int64(len(w.buf)))
	}
	w.buf = w.buf[:0]
}

// keep takes over the record of an unchanged directory and all below it.
func (w *cacheWriter) keep(off int64) int64 {
	if !w.fresh {
		return off
	}
	d := w.old.readDir(off)
	if d == nil {
		return -1
	}
	for i := range d.entries {
		if d.entries[i].kind == object.Dir {
			d.entries[i].child = w.keep(d.entries[i].child)
		}
	}
	return w.append(d)
}

// commit makes the new version the current one.
func (w *cacheWriter) commit(top int64, tree, links object.ID) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.flush()
	if w.err == nil {
		w.err = w.f.Sync()
	}
	err := errors.Join(w.err, w.f.Close())
	if err != nil {
		return err
	}
	h := w.old.head
	if w.fresh {
		w.base = w.size
	}
	old := h.File
	h.File, h.Top, h.Size, h.Base, h.Tree, h.Links = w.name, top, w.size, w.base, tree, links
	raw, err := json.Marshal(h)
	if err != nil {
		return err
	}
	path := w.old.headPath()
	if err := os.WriteFile(path+".new", raw, 0o600); err != nil {
		return err
	}
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	if w.fresh && old != "" && old != w.name {
		os.Remove(filepath.Join(w.old.dir, old))
	}
	return nil
}

func (w *cacheWriter) abandon() {
	w.f.Close()
	if w.fresh {
		os.Remove(filepath.Join(w.old.dir, w.name))
	}
}
