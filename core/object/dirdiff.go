package object

import (
	"bytes"
	"slices"
)

// DiffDir calls fn for each name that differs between two directories, in order of names:
// old is nil for what only b has, new for what only a has. Nodes that both share are not
// read, so the cost grows with the difference. The zero ID is a directory without entries.
// fn may return ErrStop.
func DiffDir(get Getter, a, b ID, fn func(old, new *Entry) error) error {
	if a == b {
		return nil
	}
	left, right := newDirCursor(get, a), newDirCursor(get, b)
	for {
		l, r := left.head(), right.head()
		switch {
		case l == nil && r == nil:
			return nil
		case l != nil && r != nil && l.entry == nil && r.entry == nil:
			if l.id == r.id {
				left.pop()
				right.pop()
				continue
			}
			if err := openHigher(left, right); err != nil {
				return err
			}
			continue
		case l != nil && l.entry == nil && (r == nil || r.entry == nil || bytes.Compare(l.first, r.entry.Name) <= 0):
			if err := left.open(); err != nil {
				return err
			}
			continue
		case r != nil && r.entry == nil && (l == nil || l.entry == nil || bytes.Compare(r.first, l.entry.Name) <= 0):
			if err := right.open(); err != nil {
				return err
			}
			continue
		}
		var old, new *Entry
		order := 0
		switch {
		case l == nil || l.entry == nil:
			order = 1
		case r == nil || r.entry == nil:
			order = -1
		default:
			order = bytes.Compare(l.entry.Name, r.entry.Name)
		}
		if order <= 0 {
			old = l.entry
			left.pop()
		}
		if order >= 0 {
			new = r.entry
			right.pop()
		}
		if old != nil && new != nil && old.Equal(new) {
			continue
		}
		if err := fn(old, new); err == ErrStop {
			return nil
		} else if err != nil {
			return err
		}
	}
}

// apart is a copy that does not hold the page that the entry was read from.
func (e *Entry) apart() Entry {
	one := *e
	one.Name, one.Target, one.Xattrs = bytes.Clone(e.Name), bytes.Clone(e.Target), slices.Clone(e.Xattrs)
	for i := range one.Xattrs {
		x := &one.Xattrs[i]
		x.Name, x.Value = bytes.Clone(x.Name), bytes.Clone(x.Value)
	}
	return one
}

// Equal reports whether two entries are the same in all that is recorded.
func (e *Entry) Equal(o *Entry) bool {
	return e.Content == o.Content && e.HasContent == o.HasContent && e.Size == o.Size && e.Sparse == o.Sparse &&
		e.Kind == o.Kind && e.Major == o.Major && e.Minor == o.Minor && bytes.Equal(e.Target, o.Target) &&
		bytes.Equal(e.Name, o.Name) &&
		e.MTime == o.MTime && e.SameRights(o)
}

// SameRights reports whether owner, mode and extended attributes are the same.
func (e *Entry) SameRights(o *Entry) bool {
	if e.Mode != o.Mode || e.UID != o.UID || e.GID != o.GID || len(e.Xattrs) != len(o.Xattrs) {
		return false
	}
	for i := range e.Xattrs {
		if !bytes.Equal(e.Xattrs[i].Name, o.Xattrs[i].Name) || !bytes.Equal(e.Xattrs[i].Value, o.Xattrs[i].Value) {
			return false
		}
	}
	return true
}

// dirCursor goes through a directory, opening its nodes only when asked to.
type dirCursor struct {
	get   Getter
	stack []dirItem // the next is the last
}

// dirItem is an entry, or a node that was not opened.
type dirItem struct {
	entry *Entry
	id    ID
	first []byte // no name in the node is smaller
	level int    // -1: not known
	env   *Envelope
	page  dirPage
}

func newDirCursor(get Getter, id ID) *dirCursor {
	c := &dirCursor{get: get}
	if !id.IsZero() {
		c.stack = []dirItem{{id: id, level: -1}}
	}
	return c
}

func (c *dirCursor) head() *dirItem {
	if len(c.stack) == 0 {
		return nil
	}
	return &c.stack[len(c.stack)-1]
}

func (c *dirCursor) pop() { c.stack = c.stack[:len(c.stack)-1] }

func (c *dirCursor) read() error {
	n := c.head()
	if n.env != nil {
		return nil
	}
	env, err := c.get(n.id)
	if err != nil {
		return err
	}
	page, err := decodeDir(env)
	if err != nil {
		return err
	}
	if n.level >= 0 && int(page.Level) != n.level || len(c.stack) > 1<<20 {
		return malformed("directory index of another level than that above it")
	}
	n.env, n.page, n.level = &env, page, int(page.Level)
	return nil
}

// open replaces the node at the head by what is right below it.
func (c *dirCursor) open() error {
	if err := c.read(); err != nil {
		return err
	}
	n := *c.head()
	c.pop()
	for i := len(n.page.Entries) - 1; i >= 0; i-- {
		c.stack = append(c.stack, dirItem{entry: &n.page.Entries[i]})
	}
	for i := len(n.page.Firsts) - 1; i >= 0; i-- {
		c.stack = append(c.stack, dirItem{id: n.env.Child(i), first: n.page.Firsts[i], level: n.level - 1})
	}
	return nil
}

// openHigher opens that of two nodes which stands higher, or both: what they share stands
// at the same height.
func openHigher(a, b *dirCursor) error {
	if err := a.read(); err != nil {
		return err
	}
	if err := b.read(); err != nil {
		return err
	}
	la, lb := a.head().level, b.head().level
	if la >= lb {
		if err := a.open(); err != nil {
			return err
		}
	}
	if lb >= la {
		return b.open()
	}
	return nil
}
