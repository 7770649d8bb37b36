// Package names finds names in all snapshots of a history at once, also those that the
// newest one does not have any more.
//
// An index holds lives: a life is one path as it was from one snapshot to another without
// its size, time or content changing. It is made from the differences between each
// snapshot and the one before, so that adding one costs what changed in it. The lives of a
// path are chained, newest first. An index of n lives takes about 100 bytes times n and is
// gone through as a whole by a query, at some tens of nanoseconds for each life.
package names

import (
	"hash/maphash"
	"sort"
	"strings"
	"sync/atomic"
	"time"

	"candidharbor/core/object"
)

// Snap is a snapshot that an index knows.
type Snap struct {
	ID    object.ID
	Taken time.Time
}

// life is a path as it was in the snapshots from … to.
type life struct {
	dir, name  uint32 // directory, and where its name begins
	from, to   uint32 // ordinals of snapshots; to is stillThere in the newest
	prev, next uint32 // of the same path; 0: none
	size       int64
	mtime      int64
	length     uint8
	kind       object.EntryKind
}

const stillThere = 1<<32 - 1

type dirKey struct {
	parent uint32
	name   string
}

type pathKey struct {
	dir uint32
	sum uint64
}

// Index holds the names of a history. It is not safe for use while it is added to.
type Index struct {
	snaps []Snap
	top   object.ID
	lives []life // the first is none
	names []byte
	dirs  []dirKey           // the first is the top
	dirNo map[dirKey]uint32  // nil in one that was read and not added to yet, as last
	last  map[pathKey]uint32 // the newest life of a path
	seed  maphash.Seed
	seen  *atomic.Int64 // names gone through, for who waits; nil: nobody does
}

// Tell counts the names that are gone through from now on.
func (x *Index) Tell(seen *atomic.Int64) { x.seen = seen }

// New returns an index of no snapshots.
func New() *Index {
	return &Index{lives: make([]life, 1), dirs: make([]dirKey, 1), dirNo: map[dirKey]uint32{}, last: map[pathKey]uint32{},
		seed: maphash.MakeSeed()}
}

// Expect makes room for about so many names in an index that has none.
func (x *Index) Expect(n int64) {
	if n = max(0, min(n, 1<<22)); len(x.lives) == 1 { // what a snapshot says of itself is not believed without a bound
		x.lives, x.last = append(make([]life, 0, n+1), x.lives...), make(map[pathKey]uint32, n)
	}
}

// Snaps returns the snapshots that were added, oldest first.
func (x *Index) Snaps() []Snap { return x.snaps }

// Lives returns how many lives there are.
func (x *Index) Lives() int { return len(x.lives) - 1 }

// Add adds a snapshot that is newer than all before it. After an error the index is not
// to be used any more.
func (x *Index) Add(get object.Getter, s Snap, top object.ID) error {
	x.lookUps()
	x.snaps = append(x.snaps, s)
	if err := x.walk(get, 0, x.top, top); err != nil {
		return err
	}
	x.top = top
	return nil
}

func (x *Index) walk(get object.Getter, dir uint32, a, b object.ID) error {
	return object.DiffDir(get, a, b, func(old, new *object.Entry) error {
		both := old != nil && new != nil
		isDir := func(e *object.Entry) bool { return e != nil && e.Kind == object.Dir }
		switch {
		case both && isDir(old) && isDir(new): // it lives on, whatever changed in it
		// only its rights changed
		case both && old.Kind == new.Kind && old.Content == new.Content && old.Size == new.Size && old.MTime == new.MTime:
		default:
			if old != nil {
				x.end(dir, old.Name)
			}
			if new != nil {
				x.begin(dir, new)
			}
		}
		if !isDir(old) && !isDir(new) {
			return nil
		}
		var was, is object.ID
		name := ""
		if isDir(old) {
			was, name = old.Content, string(old.Name)
		}
		if isDir(new) {
			is, name = new.Content, string(new.Name)
		}
		key := dirKey{dir, name}
		no, ok := x.dirNo[key]
		if !ok {
			no = uint32(len(x.dirs))
			x.dirs = append(x.dirs, key)
			x.dirNo[key] = no
		}
		return x.walk(get, no, was, is)
	})
}

// Has reports whether a snapshot that live says yes to has a path.
func (x *Index) Has(path string, live func(object.ID) bool) bool {
	x.lookUps()
	dir, name := uint32(0), path
	for {
		at := strings.IndexByte(name, '/')
		if at < 0 {
			break
		}
		no, ok := x.dirNo[dirKey{dir, name[:at]}]
		if !ok {
			return false
		}
		dir, name = no, name[at+1:]
	}
	for i := x.last[x.keyOf(dir, []byte(name))]; i != 0; i = x.lives[i].prev {
		l := &x.lives[i]
		for n := l.from; n <= min(l.to, uint32(len(x.snaps)-1)); n++ {
			if live(x.snaps[n].ID) {
				return true
			}
		}
	}
	return false
}

func (x *Index) keyOf(dir uint32, name []byte) pathKey {
	return pathKey{dir, maphash.Bytes(x.seed, name)}
}

func (x *Index) end(dir uint32, name []byte) {
	if i := x.last[x.keyOf(dir, name)]; i != 0 {
		x.lives[i].to = uint32(len(x.snaps) - 2)
	}
}

func (x *Index) begin(dir uint32, e *object.Entry) {
	if x.seen != nil {
		x.seen.Add(1)
	}
	k, no := x.keyOf(dir, e.Name), uint32(len(x.lives))
	l := life{dir: dir, from: uint32(len(x.snaps) - 1), to: stillThere, size: e.Size, mtime: e.MTime, kind: e.Kind,
		length: uint8(len(e.Name))}
	if was := x.last[k]; was != 0 {
		l.prev, l.name = was, x.lives[was].name
		x.lives[was].next = no
	} else {
		l.name = uint32(len(x.names))
		x.names = append(x.names, e.Name...)
	}
	x.lives = append(x.lives, l)
	x.last[k] = no
}

func (x *Index) nameOf(l *life) []byte { return x.names[l.name : l.name+uint32(l.length)] }

// path appends the path of a life.
func (x *Index) path(dst []byte, l *life) []byte {
	return append(x.dirPath(dst, l.dir), x.nameOf(l)...)
}

func (x *Index) dirPath(dst []byte, dir uint32) []byte {
	if dir == 0 {
		return dst
	}
	d := &x.dirs[dir]
	return append(append(x.dirPath(dst, d.parent), d.name...), '/')
}

// Query says what to find.
type Query struct {
	Match        *Pattern
	Since, Until time.Time // there in a snapshot taken between; zero: no bound
	Deleted      bool      // only what the newest snapshot does not have
	MinSize      int64
	MaxSize      int64            // 0: no bound
	Kind         object.EntryKind // 0: any
	After        Cursor
	Limit        int
}

// Cursor is a place in the order of what was found: newest modified first.
type Cursor struct {
	MTime int64
	No    uint32 // 0: the beginning
}

// Found is a path that was found.
type Found struct {
	Path        string
	Kind        object.EntryKind
	Size        int64
	MTime       int64
	First, Last Snap // the oldest snapshot with the path, the newest with it as told here
	Versions    int  // how many lives of it can be brought back
	There       bool // the newest snapshot has it
	Cursor      Cursor
}

// Find returns what matches, the newest modified first, and how much there is in all.
// Only what a kept snapshot has is found.
func (x *Index) Find(q Query, kept func(object.ID) bool) (found []Found, total int) {
	// upTo counts the kept snapshots before an ordinal that the query's time lets stand.
	upTo := make([]uint32, len(x.snaps)+1)
	all := make([]uint32, len(x.snaps)+1)
	for i, s := range x.snaps {
		upTo[i+1], all[i+1] = upTo[i], all[i]
		if !kept(s.ID) {
			continue
		}
		all[i+1]++
		if !s.Taken.Before(q.Since) && (q.Until.IsZero() || !s.Taken.After(q.Until)) {
			upTo[i+1]++
		}
	}
	newest := len(x.snaps) - 1 // kept
	for newest >= 0 && all[newest+1] == all[newest] {
		newest--
	}
	in := func(l *life, sums []uint32) bool {
		return sums[min(l.to, uint32(len(x.snaps)-1))+1] > sums[l.from]
	}
	best := &worst{}
	// What the directories above a name say is asked once for each.
	above := make([]int8, len(x.dirs))
	for no := 1; no < len(x.lives); no++ {
		last := &x.lives[no]
		if last.next != 0 || q.Kind != 0 && last.kind != q.Kind && last.prev == 0 {
			continue
		}
		if !q.Match.name(x.nameOf(last)) {
			continue
		}
		if q.Match.long() {
			if above[last.dir] == 0 {
				if above[last.dir] = -1; q.Match.above(x.dirPath(nil, last.dir)) {
					above[last.dir] = 1
				}
			}
			if above[last.dir] < 0 {
				continue
			}
		}
		// The newest life within the bounds speaks for the path.
		i := uint32(no)
		for i != 0 && !(in(&x.lives[i], upTo) && x.fits(&q, &x.lives[i])) {
			i = x.lives[i].prev
		}
		if i == 0 {
			continue
		}
		there := false
		for j := uint32(no); j != 0 && !there; j = x.lives[j].prev {
			there = x.lives[j].from <= uint32(newest) && uint32(newest) <= x.lives[j].to
		}
		if q.Deleted && there {
			continue
		}
		total++
		c := Cursor{x.lives[i].mtime, i}
		if q.After.No == 0 || q.After.before(c) {
			best.offer(hit{c, uint32(no), there}, q.Limit)
		}
	}
	sort.Slice(best.hits, func(i, j int) bool { return best.hits[i].at.before(best.hits[j].at) })
	for _, h := range best.hits {
		found = append(found, x.tell(h, all, upTo, in))
	}
	return found, total
}

func (x *Index) fits(q *Query, l *life) bool {
	return l.size >= q.MinSize && (q.MaxSize == 0 || l.size <= q.MaxSize) && (q.Kind == 0 || l.kind == q.Kind)
}

func (x *Index) tell(h hit, all, upTo []uint32, in func(*life, []uint32) bool) Found {
	l := &x.lives[h.at.No]
	f := Found{Path: string(x.path(nil, l)), Kind: l.kind, Size: l.size, MTime: l.mtime, There: h.there, Cursor: h.at}
	first := uint32(0)
	for j := h.last; j != 0; j = x.lives[j].prev {
		if in(&x.lives[j], all) {
			f.Versions++
			first = j
		}
	}
	at := x.lives[first].from
	for all[at+1] == all[at] {
		at++
	}
	f.First = x.snaps[at]
	at = min(l.to, uint32(len(x.snaps)-1))
	for upTo[at+1] == upTo[at] {
		at--
	}
	f.Last = x.snaps[at]
	return f
}

// before tells whether a place comes before another: newer, or met first.
func (c Cursor) before(o Cursor) bool {
	return c.MTime > o.MTime || c.MTime == o.MTime && c.No < o.No
}

type hit struct {
	at    Cursor
	last  uint32
	there bool
}

// worst is a heap of the best hits with the worst of them on top.
type worst struct{ hits []hit }

func (w *worst) offer(h hit, most int) {
	if most > 0 && len(w.hits) == most {
		if !h.at.before(w.hits[0].at) {
			return
		}
		w.hits[0] = h
		w.down(0)
		return
	}
	w.hits = append(w.hits, h)
	for i := len(w.hits) - 1; i > 0; {
		up := (i - 1) / 2
		if w.hits[i].at.before(w.hits[up].at) {
			break
		}
		w.hits[i], w.hits[up] = w.hits[up], w.hits[i]
		i = up
	}
}

func (w *worst) down(i int) {
	for {
		child := 2*i + 1
		if child >= len(w.hits) {
			return
		}
		if child+1 < len(w.hits) && w.hits[child].at.before(w.hits[child+1].at) {
			child++
		}
		if w.hits[child].at.before(w.hits[i].at) {
			return
		}
		w.hits[i], w.hits[child] = w.hits[child], w.hits[i]
		i = child
	}
}
