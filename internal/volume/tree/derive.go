package tree

import (
	"fmt"
	"path"
	"strings"

	"candidharbor/core/object"
)

// Parts choose a part of a tree by paths from its top: what is below In, or all when there
// is none, without what is below Out.
type Parts struct{ In, Out []string }

// Whole reports whether the parts are everything.
func (p Parts) Whole() bool { return len(p.In) == 0 && len(p.Out) == 0 }

func covers(dir, rel string) bool {
	return dir == "" || rel == dir || strings.HasPrefix(rel, dir+"/")
}

// Void returns the first path of In of which Out leaves nothing; empty: there is none.
func (p Parts) Void() string {
	for _, i := range p.In {
		for _, o := range p.Out {
			if covers(o, i) {
				return i
			}
		}
	}
	return ""
}

// has reports whether an entry is chosen.
func (p Parts) has(rel string) bool {
	for _, o := range p.Out {
		if covers(o, rel) {
			return false
		}
	}
	if len(p.In) == 0 {
		return true
	}
	for _, i := range p.In {
		if covers(i, rel) {
			return true
		}
	}
	return false
}

// edge reports whether something chosen, or something not chosen, lies below a directory
// of which that is not so itself.
func (p Parts) edge(rel string) bool {
	for _, list := range [][]string{p.In, p.Out} {
		for _, x := range list {
			if x != rel && covers(rel, x) {
				return true
			}
		}
	}
	return false
}

// deriver makes trees of parts.
type deriver struct {
	get   object.Getter
	put   object.Putter
	parts Parts
	root  *object.Root
}

// Derive makes the root of a part of a snapshot. Directories that are in it as a whole are
// the same objects. Who signs it, and as what, is for the caller.
func Derive(get object.Getter, put object.Putter, whole *object.Root, parts Parts) (*object.Root, error) {
	root := *whole
	root.Files, root.Dirs, root.Others, root.Bytes, root.Predecessor, root.HasLinks, root.Links = 0, 0, 0, 0, object.ID{},
		false, object.ID{}
	root.Remarks, root.RemarkCount = nil, 0
	for _, r := range whole.Remarks {
		if parts.has(string(r.Path)) {
			root.Remarks = append(root.Remarks, r)
			root.RemarkCount++
		}
	}
	d := &deriver{get: get, put: put, parts: parts, root: &root}
	var err error
	if root.Top.Content, err = d.dir(whole.Top.Content, ""); err != nil {
		return nil, err
	}
	if !whole.HasLinks {
		return &root, nil
	}
	links := object.NewLinksBuilder(put)
	err = object.WalkLinks(get, whole.Links, func(paths [][]byte) error {
		var left [][]byte
		for _, p := range paths {
			if parts.has(string(p)) {
				left = append(left, p)
			}
		}
		if len(left) < 2 {
			return nil
		}
		return links.Add(left)
	})
	if err != nil {
		return nil, err
	}
	root.Links, root.HasLinks, err = links.Finish()
	return &root, err
}

// count adds what lies below a directory that is there as a whole.
func (d *deriver) count(id object.ID) error {
	return object.WalkDir(d.get, id, nil, func(e object.Entry) error {
		d.add(&e)
		if e.Kind == object.Dir {
			return d.count(e.Content)
		}
		return nil
	})
}

func (d *deriver) add(e *object.Entry) {
	switch e.Kind {
	case object.Dir:
		d.root.Dirs++
	case object.File:
		d.root.Files++
		d.root.Bytes += e.Size
	default:
		d.root.Others++
	}
}

func (d *deriver) dir(id object.ID, rel string) (object.ID, error) {
	b := object.NewDirBuilder(d.put)
	err := object.WalkDir(d.get, id, nil, func(e object.Entry) error {
		p := path.Join(rel, string(e.Name))
		edge := e.Kind == object.Dir && d.parts.edge(p)
		if !d.parts.has(p) && !edge {
			return nil
		}
		if e.Kind == object.Dir {
			if edge {
				below, err := d.dir(e.Content, p)
				if err != nil {
					return err
				}
				e.Content = below
			} else if err := d.count(e.Content); err != nil {
				return err
			}
		}
		d.add(&e)
		return b.Add(e)
	})
	if err != nil {
		return object.ID{}, fmt.Errorf("part of %q: %w", rel, err)
	}
	return b.Finish()
}
