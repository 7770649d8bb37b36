// Package treediff tells what differs between two trees. It reads only the nodes that the
// two do not share, so that its cost grows with the difference and not with the trees.
package treediff

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"candidharbor/core/object"
)

// What says how a path differs.
type What string

// The kinds of difference.
const (
	Added    What = "added"
	Removed  What = "removed"
	Changed  What = "changed"  // its content, target or kind
	Adjusted What = "adjusted" // only owner, mode, attributes or, of what is no directory, its time
	Renamed  What = "renamed"  // the same content under another path
)

// Change is one path that differs.
type Change struct {
	Path string
	What What
	From string        // Renamed: the path before
	Old  *object.Entry // nil: it was not there
	New  *object.Entry // nil: it is not there any more
	// Below is how many names lie right in a renamed directory, all of them as they were.
	Below int64
}

// Walk calls fn for every path below two directories that differs in anything, each
// directory before what is in it. What is below an added or removed directory is added or
// removed too. A zero identity is no directory at all. fn may return object.ErrStop.
func Walk(get object.Getter, a, b object.ID, fn func(path string, old, new *object.Entry) error) error {
	err := walk(get, "", a, b, fn)
	if err == object.ErrStop {
		return nil
	}
	return err
}

func walk(get object.Getter, at string, a, b object.ID, fn func(path string, old, new *object.Entry) error) error {
	var inner error
	err := object.DiffDir(get, a, b, func(old, new *object.Entry) error {
		name := nameOf(old, new)
		p := path.Join(at, name)
		if inner = fn(p, old, new); inner != nil {
			return inner
		}
		inner = walk(get, p, below(old), below(new), fn)
		return inner
	})
	if inner != nil {
		return inner
	}
	return err
}

func nameOf(old, new *object.Entry) string {
	if old != nil {
		return string(old.Name)
	}
	return string(new.Name)
}

func below(e *object.Entry) object.ID {
	if e != nil && e.Kind == object.Dir {
		return e.Content
	}
	return object.ID{}
}

// Result is a comparison of two trees.
type Result struct {
	Changes []Change // in order of paths
	// Counts are of everything, also of what is not among the changes; what is below a
	// renamed directory counts as one.
	Counts map[What]int64
	// AddedBytes and RemovedBytes are the sizes of files that came, went or changed.
	AddedBytes, RemovedBytes int64
	Cut                      bool // there are more than were asked for
}

// Compare tells how two directories differ, with renames found by content. Of directories
// that only lost or gained entries nothing is said. At most limit changes are returned.
func Compare(get object.Getter, a, b object.ID, limit int) (*Result, error) {
	dir := func(id object.ID) *object.Entry {
		return &object.Entry{Kind: object.Dir, HasContent: true, Content: id}
	}
	return Entries(get, "", dir(a), dir(b), limit)
}

// Entries is Compare of what stands at a path; nil is nothing.
func Entries(get object.Getter, at string, a, b *object.Entry, limit int) (*Result, error) {
	c := &comparer{get: get, res: &Result{Counts: map[What]int64{}}}
	if err := c.entry(at, a, b); err != nil {
		return nil, err
	}
	if err := c.match(); err != nil {
		return nil, err
	}
	for _, ch := range c.res.Changes {
		c.res.Counts[ch.What]++
		if ch.What == Renamed || ch.What == Adjusted {
			continue
		}
		if ch.Old != nil && ch.Old.Kind == object.File {
			c.res.RemovedBytes += ch.Old.Size
		}
		if ch.New != nil && ch.New.Kind == object.File {
			c.res.AddedBytes += ch.New.Size
		}
	}
	slices.SortFunc(c.res.Changes, func(x, y Change) int { return comparePaths(x.Path, y.Path) })
	if limit > 0 && len(c.res.Changes) > limit {
		c.res.Changes, c.res.Cut = c.res.Changes[:limit], true
	}
	return c.res, nil
}

// comparePaths orders as a walk meets them: a directory, then what is in it.
func comparePaths(a, b string) int {
	return cmp.Compare(strings.ReplaceAll(a, "/", "\x00"), strings.ReplaceAll(b, "/", "\x00"))
}

type comparer struct {
	get         object.Getter
	res         *Result
	gone, fresh []Change // directories and files that only one side has
}

func (c *comparer) dir(at string, a, b object.ID) error {
	return object.DiffDir(c.get, a, b, func(old, new *object.Entry) error {
		return c.entry(path.Join(at, nameOf(old, new)), old, new)
	})
}

func (c *comparer) entry(p string, old, new *object.Entry) error {
	switch {
	case old == nil && new == nil:
	case new == nil:
		c.gone = append(c.gone, Change{Path: p, What: Removed, Old: old})
	case old == nil:
		c.fresh = append(c.fresh, Change{Path: p, What: Added, New: new})
	case old.Kind == object.Dir && new.Kind == object.Dir:
		if !old.SameRights(new) {
			c.say(Change{Path: p, What: Adjusted, Old: old, New: new})
		}
		return c.dir(p, old.Content, new.Content)
	case old.Kind != new.Kind && (old.Kind == object.Dir || new.Kind == object.Dir):
		c.gone = append(c.gone, Change{Path: p, What: Removed, Old: old})
		c.fresh = append(c.fresh, Change{Path: p, What: Added, New: new})
	case sameContent(old, new):
		if !old.Equal(new) {
			c.say(Change{Path: p, What: Adjusted, Old: old, New: new})
		}
	default:
		c.say(Change{Path: p, What: Changed, Old: old, New: new})
	}
	return nil
}

func (c *comparer) say(ch Change) { c.res.Changes = append(c.res.Changes, ch) }

func sameContent(a, b *object.Entry) bool {
	return a.Kind == b.Kind && a.Content == b.Content && a.HasContent == b.HasContent && a.Size == b.Size &&
		string(a.Target) == string(b.Target) && a.Major == b.Major && a.Minor == b.Minor
}

// key tells what may be the same thing under another path; empty things are not told apart.
type key struct {
	id   object.ID
	dir  bool
	name string // empty: under any name
}

func keyOf(ch *Change, named bool) (k key, ok bool) {
	e := cmp.Or(ch.Old, ch.New)
	k = key{id: e.Content, dir: e.Kind == object.Dir}
	if named {
		k.name = path.Base(ch.Path)
	}
	return k, e.HasContent && (k.dir || e.Size > 0)
}

// match finds renames: whole directories first, then what is in those that are not the
// same as any other.
func (c *comparer) match() error {
	for len(c.gone)+len(c.fresh) > 0 {
		c.pair()
		gone, fresh := c.gone, c.fresh
		c.gone, c.fresh = nil, nil
		var dirs bool
		for _, side := range [][]Change{gone, fresh} {
			for _, ch := range side {
				if e := cmp.Or(ch.Old, ch.New); e.Kind == object.Dir {
					dirs = true
				}
			}
		}
		if !dirs {
			c.res.Changes = append(append(c.res.Changes, gone...), fresh...)
			return nil
		}
		// One height of directories is gone into at a time; the files met so far wait, for
		// what they are the same as may lie deeper.
		if err := c.into(gone, &c.gone); err != nil {
			return err
		}
		if err := c.into(fresh, &c.fresh); err != nil {
			return err
		}
	}
	return nil
}

// pair takes out what both sides have: first under the same name, then in order.
func (c *comparer) pair() {
	for _, named := range []bool{true, false} {
		byKey := map[key][]int{}
		for i := range c.gone {
			if k, ok := keyOf(&c.gone[i], named); ok {
				byKey[k] = append(byKey[k], i)
			}
		}
		used := make([]bool, len(c.gone))
		c.fresh = slices.DeleteFunc(c.fresh, func(ch Change) bool {
			k, ok := keyOf(&ch, named)
			same := byKey[k]
			if !ok || len(same) == 0 {
				return false
			}
			old := c.gone[same[0]]
			byKey[k], used[same[0]] = same[1:], true
			r := Change{Path: ch.Path, What: Renamed, From: old.Path, Old: old.Old, New: ch.New}
			if k.dir {
				r.Below = count(c.get, ch.New.Content)
			}
			c.say(r)
			return true
		})
		i := -1
		c.gone = slices.DeleteFunc(c.gone, func(Change) bool { i++; return used[i] })
	}
}

// count is how many names lie right in a directory.
func count(get object.Getter, id object.ID) int64 {
	n, err := object.CountDir(get, id)
	if err != nil {
		return 0
	}
	return int64(n)
}

// into replaces directories by themselves, told, and what lies right in them.
func (c *comparer) into(side []Change, to *[]Change) error {
	for _, ch := range side {
		e := cmp.Or(ch.Old, ch.New)
		if e.Kind != object.Dir {
			*to = append(*to, ch)
			continue
		}
		c.say(ch)
		err := object.WalkDir(c.get, e.Content, nil, func(sub object.Entry) error {
			next := Change{Path: path.Join(ch.Path, string(sub.Name)), What: ch.What}
			if ch.Old != nil {
				next.Old = &sub
			} else {
				next.New = &sub
			}
			*to = append(*to, next)
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
