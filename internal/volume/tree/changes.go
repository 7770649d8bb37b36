package tree

import (
	"maps"
	"path"
	"slices"
	"strings"

	"candidharbor/core/object"
)

// Changes tell a scan where something changed since the tree that the cache describes.
// All else is taken over without a look.
type Changes struct {
	Dirs   []string // directories whose entries or own metadata changed
	Below  []string // directories of which, and of all below, nothing is known
	Inodes []uint64 // files that changed and may have names elsewhere
	// Touched are files that were written or may have been, though their times need not tell.
	Touched map[uint64]bool
	// Always are files to be read whatever their times say: those in shared writable maps.
	Always map[uint64]bool
}

// Names are what the scans before found of files with several names. They are kept with
// the changes: a file that changes by one of its names changes under all.
type Names struct {
	inside  map[uint64][]string // inode to its names in the volume
	outside map[uint64]struct{} // inodes known to have no name in the volume
}

// Outside reports whether a file is known to have no name in the volume.
func (n *Names) Outside(inode uint64) bool {
	_, ok := n.outside[inode]
	return ok
}

// mostOutside bounds what is remembered of files elsewhere.
const mostOutside = 1 << 16

// patch is a directory in which, or below which, something changed.
type patch struct {
	self  bool // list it
	below bool // list all below it too
	kids  map[string]*patch
}

var everything = &patch{self: true, below: true}

func (p *patch) kid(name string) *patch {
	if p == nil || p.below {
		return p
	}
	return p.kids[name]
}

func (p *patch) at(rel string) *patch {
	if rel == "." || rel == "" {
		return p
	}
	for name := range strings.SplitSeq(rel, "/") {
		if p.below {
			return p
		}
		if p.kids == nil {
			p.kids = map[string]*patch{}
		}
		next := p.kids[name]
		if next == nil {
			next = &patch{}
			p.kids[name] = next
		}
		p = next
	}
	return p
}

// patches arranges the changes by directory. Files with several names are looked up in
// what is known of them, then in the cache.
func (s *scanner) patches(c *Changes, n *Names) *patch {
	if c == nil {
		return everything
	}
	top := &patch{}
	for _, d := range c.Dirs {
		top.at(d).self = true
	}
	unknown := map[uint64]bool{}
	locate := func(inode uint64) {
		if paths, ok := n.inside[inode]; ok {
			for _, p := range paths {
				top.at(path.Dir(p)).self = true
			}
		} else if _, ok := n.outside[inode]; !ok {
			unknown[inode] = true
		}
	}
	for _, i := range c.Inodes {
		locate(i)
	}
	for i := range c.Always {
		locate(i)
	}
	if len(unknown) > 0 {
		found := map[uint64]bool{}
		s.opt.Cache.findInodes(s.opt.Cache.head.Top, "", unknown, func(inode uint64, dir string) {
			found[inode] = true
			top.at(dir).self = true
		})
		s.foreign = map[uint64]struct{}{}
		for i := range unknown {
			if !found[i] {
				s.foreign[i] = struct{}{}
			}
		}
	}
	for _, d := range c.Below { // last: it makes what stands below it needless
		p := top.at(d)
		p.self, p.below, p.kids = true, true, nil
	}
	return top
}

// thoughtOutside reports whether a file was taken to have no name in the volume. Both
// sets stay as they are while directories are read.
func (s *scanner) thoughtOutside(inode uint64) bool {
	if _, ok := s.opt.Names.outside[inode]; ok {
		return true
	}
	_, ok := s.foreign[inode]
	return ok
}

// findInodes calls found for each file of these inodes that the cache knows.
func (c *Cache) findInodes(off int64, rel string, want map[uint64]bool, found func(inode uint64, dir string)) {
	d := c.readDir(off)
	if d == nil {
		return
	}
	for i := range d.entries {
		switch e := &d.entries[i]; {
		case e.kind == object.Dir:
			c.findInodes(e.child, path.Join(rel, string(e.name)), want, found)
		case want[e.inode]:
			found(e.inode, rel)
		}
	}
}

// looks notes how a directory was looked at, for telling later which of the known names
// of files stand.
type look uint8

const (
	listed look = iota + 1 // all its entries were looked at
	passed                 // only some directories in it
	kept                   // taken over with all below
)

func (s *scanner) note(rel string, l look) {
	if len(s.opt.Names.inside) == 0 {
		return
	}
	s.mu.Lock()
	s.looks[rel] = l
	s.mu.Unlock()
}

// stands reports whether a known name is still there, its directory not having been
// listed anew.
func (s *scanner) stands(name string) bool {
	dir := parent(name)
	switch s.looks[dir] {
	case listed:
		return false
	case passed, kept:
		return true
	}
	for dir != "" {
		dir = parent(dir)
		switch s.looks[dir] {
		case kept:
			return true
		case listed, passed:
			return false
		}
	}
	return false
}

func parent(rel string) string {
	if dir := path.Dir(rel); dir != "." {
		return dir
	}
	return ""
}

// names returns what is known of files with several names after this scan.
func (s *scanner) names(old *Names) *Names {
	n := &Names{inside: make(map[uint64][]string, len(s.linked)), outside: map[uint64]struct{}{}}
	for inode, paths := range old.inside {
		for _, p := range paths {
			if s.stands(p) {
				n.inside[inode] = append(n.inside[inode], p)
			}
		}
	}
	for inode, l := range s.linked {
		for _, p := range l.paths {
			n.inside[inode] = append(n.inside[inode], string(p))
		}
	}
	if len(old.outside)+len(s.foreign) < mostOutside {
		maps.Copy(n.outside, old.outside)
		maps.Copy(n.outside, s.foreign)
		for _, i := range s.entered {
			delete(n.outside, i)
		}
	}
	return n
}

// finishLinks writes the hard-link sets. Names that lie outside the volume do not count:
// a set needs two inside.
func (s *scanner) finishLinks(res *Scanned) error {
	var sets [][]string
	for _, paths := range res.Names.inside {
		if len(paths) > 1 {
			slices.Sort(paths)
			sets = append(sets, paths)
		}
	}
	slices.SortFunc(sets, func(a, b []string) int { return strings.Compare(a[0], b[0]) })
	b := object.NewLinksBuilder(s.opt.Sink.Put)
	for _, set := range sets {
		raw := make([][]byte, len(set))
		for i, p := range set {
			raw[i] = []byte(p)
		}
		if err := b.Add(raw); err != nil {
			return err
		}
	}
	var err error
	res.Links, res.HasLinks, err = b.Finish()
	return err
}
