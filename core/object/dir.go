package object

import (
	"bytes"
	"fmt"
)

// EntryKind is the type of a directory entry.
type EntryKind uint8

// The entry kinds. Their numbers are stored and never change.
const (
	File EntryKind = iota + 1
	Dir
	Symlink
	FIFO
	Socket
	CharDevice
	BlockDevice
)

var entryKindNames = [...]string{"", "file", "directory", "symlink", "fifo", "socket", "character device",
	"block device"}

func (k EntryKind) String() string {
	if int(k) < len(entryKindNames) && k > 0 {
		return entryKindNames[k]
	}
	return fmt.Sprintf("entry kind %d", uint8(k))
}

// Xattr is one extended attribute; ACLs are kept as theirs.
type Xattr struct {
	_     struct{} `cbor:",toarray"`
	Name  []byte
	Value []byte
}

// Entry is one name in a directory with all that is recorded about it. What is
// true on one host only (inode, ctime, link count, where holes lie) is not in it.
type Entry struct {
	Name       []byte    `cbor:"1,keyasint"`
	Kind       EntryKind `cbor:"2,keyasint"`
	Mode       uint32    `cbor:"3,keyasint"` // permission, set-id and sticky bits
	UID        uint32    `cbor:"4,keyasint,omitempty"`
	GID        uint32    `cbor:"5,keyasint,omitempty"`
	MTime      int64     `cbor:"6,keyasint"` // nanoseconds since 1970
	Size       int64     `cbor:"7,keyasint,omitempty"`
	Xattrs     []Xattr   `cbor:"8,keyasint,omitempty"` // sorted by name
	Target     []byte    `cbor:"9,keyasint,omitempty"`
	Major      uint32    `cbor:"10,keyasint,omitempty"`
	Minor      uint32    `cbor:"11,keyasint,omitempty"`
	Sparse     bool      `cbor:"12,keyasint,omitempty"`
	HasContent bool      `cbor:"13,keyasint,omitempty"`
	Content    ID        `cbor:"-"` // a chunk or list (file), or a dir
}

type dirPage struct {
	_       struct{} `cbor:",toarray"`
	Level   uint8
	Entries []Entry  // level 0
	Firsts  [][]byte // level > 0: first name below each child
	Total   uint64   // entries below
}

// The page rule: a page ends after an entry whose name hashes to zero in its low
// eight bits once it has pageMin entries, or at pageMax entries or pageBytes.
const (
	pageMin   = 64
	pageMax   = 1024
	pageBytes = 256 << 10
	// MaxEntryBytes bounds names, targets and attributes of one entry.
	MaxEntryBytes = 2 << 20
)

// nameEnds uses FNV-1a with a final mix so that the rule is stated in two lines
// of the format description.
func nameEnds(name []byte) bool {
	h := uint32(2166136261)
	for _, c := range name {
		h = (h ^ uint32(c)) * 16777619
	}
	h ^= h >> 15
	h *= 0x2c1b3c6d
	return (h>>12)&0xff == 0
}

func entryBytes(e *Entry) int {
	n := len(e.Name) + len(e.Target) + 48
	for _, x := range e.Xattrs {
		n += len(x.Name) + len(x.Value) + 8
	}
	return n
}

// DirBuilder turns entries given in ascending byte order of their names into a
// directory object.
type DirBuilder struct {
	put   Putter
	page  []Entry
	bytes int
	last  []byte
	spine spine
}

// NewDirBuilder returns a builder that stores pages through put.
func NewDirBuilder(put Putter) *DirBuilder {
	d := &DirBuilder{put: put}
	d.spine = spine{put: put, kind: KindDir, encode: encodeDirIndex}
	return d
}

func encodeDirIndex(level int, items []node) ([]byte, error) {
	p := dirPage{Level: uint8(level)}
	for _, it := range items {
		p.Firsts = append(p.Firsts, it.first)
		p.Total += it.total
	}
	return encMode.Marshal(p)
}

// Add appends an entry. Names must ascend and be valid.
func (d *DirBuilder) Add(e Entry) error {
	if err := CheckName(e.Name); err != nil {
		return err
	}
	if d.last != nil && bytes.Compare(d.last, e.Name) >= 0 {
		return malformed("entry %q after %q", e.Name, d.last)
	}
	size := entryBytes(&e)
	if size > MaxEntryBytes {
		return malformed("entry %q has %d bytes of attributes, at most %d are kept", e.Name, size, MaxEntryBytes)
	}
	d.last = e.Name
	d.page = append(d.page, e)
	d.bytes += size
	if len(d.page) >= pageMax || d.bytes >= pageBytes || (len(d.page) >= pageMin && nameEnds(e.Name)) {
		return d.flush()
	}
	return nil
}

func (d *DirBuilder) flush() error {
	var children []ID
	for i := range d.page {
		if d.page[i].HasContent {
			children = append(children, d.page[i].Content)
		}
	}
	id, err := d.put(KindDir, children, appendPage(make([]byte, 0, d.bytes+16), d.page))
	if err != nil {
		return err
	}
	n := node{id: id, total: uint64(len(d.page))}
	if len(d.page) > 0 {
		n.first = d.page[0].Name
	}
	d.page, d.bytes = nil, 0
	return d.spine.add(0, n)
}

// Finish returns the identity of the directory.
func (d *DirBuilder) Finish() (ID, error) {
	if len(d.page) > 0 || len(d.spine.levels) == 0 {
		if err := d.flush(); err != nil {
			return ID{}, err
		}
	}
	top, err := d.spine.finish()
	return top.id, err
}

// CheckName refuses names that cannot be one component of a path.
func CheckName(name []byte) error {
	switch {
	case len(name) == 0 || len(name) > 255:
		return malformed("a name of %d bytes", len(name))
	case bytes.IndexByte(name, '/') >= 0 || bytes.IndexByte(name, 0) >= 0, string(name) == ".", string(name) == "..":
		return malformed("%q is not a file name", name)
	}
	return nil
}

func decodeDir(e Envelope) (dirPage, error) {
	var p dirPage
	if e.Kind != KindDir || !readPage(e.Payload, &p) {
		p = dirPage{}
		if err := decodePayload(e, KindDir, &p); err != nil {
			return p, err
		}
	}
	if p.Level > MaxDepth {
		return p, malformed("directory index of level %d", p.Level)
	}
	if p.Level > 0 {
		if len(p.Firsts) != e.NumChildren() || len(p.Entries) != 0 || len(p.Firsts) == 0 {
			return p, malformed("directory index with %d names for %d children", len(p.Firsts), e.NumChildren())
		}
		return p, nil
	}
	next := 0
	for i := range p.Entries {
		en := &p.Entries[i]
		if err := CheckName(en.Name); err != nil {
			return p, err
		}
		if i > 0 && bytes.Compare(p.Entries[i-1].Name, en.Name) >= 0 {
			return p, malformed("entry %q out of order", en.Name)
		}
		if en.Kind < File || en.Kind > BlockDevice || en.Size < 0 || (en.Kind == Dir) != (en.HasContent && en.Kind != File) {
			return p, malformed("entry %q contradicts itself", en.Name)
		}
		if en.HasContent {
			if next >= e.NumChildren() {
				return p, malformed("entry %q has no content identity", en.Name)
			}
			en.Content = e.Child(next)
			next++
		}
	}
	if next != e.NumChildren() || p.Total != uint64(len(p.Entries)) {
		return p, malformed("directory page with %d children for %d contents", e.NumChildren(), next)
	}
	return p, nil
}

// WalkDir calls fn for each entry of the directory id whose name is greater than
// after, in order. fn may return ErrStop.
func WalkDir(get Getter, id ID, after []byte, fn func(Entry) error) error {
	return WalkDirPast(get, id, after, func(err error) error { return err }, fn)
}

// WalkDirPast is WalkDir that asks what to do about a page that cannot be read: when broken
// returns nil the walk goes on with the next page.
func WalkDirPast(get Getter, id ID, after []byte, broken func(error) error, fn func(Entry) error) error {
	err := walkDir(get, id, after, MaxDepth+1, broken, fn)
	if err == ErrStop {
		return nil
	}
	return err
}

// ErrStop ends a walk early without an error.
var ErrStop = fmt.Errorf("stop walking")

func walkDir(get Getter, id ID, after []byte, depth int, broken func(error) error, fn func(Entry) error) error {
	env, err := get(id)
	if err != nil {
		return broken(err)
	}
	p, err := decodeDir(env)
	if err != nil {
		return fmt.Errorf("directory %s: %w", id, err)
	}
	if int(p.Level) >= depth {
		return malformed("directory index nested too deep")
	}
	for i := range p.Entries {
		if after != nil && bytes.Compare(p.Entries[i].Name, after) <= 0 {
			continue
		}
		if err := fn(p.Entries[i]); err != nil {
			return err
		}
	}
	for i := range p.Firsts {
		if after != nil && i+1 < len(p.Firsts) && bytes.Compare(p.Firsts[i+1], after) <= 0 {
			continue
		}
		if err := walkDir(get, env.Child(i), after, int(p.Level), broken, fn); err != nil {
			return err
		}
	}
	return nil
}

// LookupDir finds one name, reading one node per level.
func LookupDir(get Getter, id ID, name []byte) (Entry, bool, error) {
	for depth := MaxDepth + 1; ; {
		env, err := get(id)
		if err != nil {
			return Entry{}, false, err
		}
		p, err := decodeDir(env)
		if err != nil {
			return Entry{}, false, err
		}
		if int(p.Level) >= depth {
			return Entry{}, false, malformed("directory index nested too deep")
		}
		if depth = int(p.Level); depth == 0 {
			for i := range p.Entries {
				if bytes.Equal(p.Entries[i].Name, name) {
					return p.Entries[i].apart(), true, nil
				}
			}
			return Entry{}, false, nil
		}
		at := 0
		for i := range p.Firsts {
			if bytes.Compare(p.Firsts[i], name) <= 0 {
				at = i
			}
		}
		id = env.Child(at)
	}
}

// CountDir returns how many entries the directory has, from its top node alone.
func CountDir(get Getter, id ID) (uint64, error) {
	env, err := get(id)
	if err != nil {
		return 0, err
	}
	p, err := decodeDir(env)
	return p.Total, err
}

// DirPages returns the nodes right below a directory index; none for a page.
func DirPages(e Envelope) ([]ID, error) {
	p, err := decodeDir(e)
	if err != nil || p.Level == 0 {
		return nil, err
	}
	return e.Children(), nil
}

// PageEntries calls fn for the entries in this very node; an index has none.
func PageEntries(e Envelope, fn func(Entry) error) error {
	p, err := decodeDir(e)
	if err != nil {
		return err
	}
	for i := range p.Entries {
		if err := fn(p.Entries[i]); err != nil {
			return err
		}
	}
	return nil
}
