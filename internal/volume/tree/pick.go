package tree

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"candidharbor/core/object"
)

// ErrNoPath is wrapped when a snapshot has nothing under a path.
var ErrNoPath = errors.New("no such path in the snapshot")

// CleanPath turns a path from the volume's top into its plain form: no leading
// slash, "" for the top. Paths that lead out are refused.
func CleanPath(p string) (string, error) {
	for _, part := range strings.Split(p, "/") {
		if part == ".." {
			return "", fmt.Errorf("path %q leads out of the volume: give it without \"..\"", p)
		}
	}
	if strings.IndexByte(p, 0) >= 0 {
		return "", fmt.Errorf("path %q has a zero byte", p)
	}
	return strings.TrimPrefix(path.Clean("/"+p), "/"), nil
}

// Lookup finds the entry at a clean path; "" is the top.
func Lookup(get object.Getter, root *object.Root, rel string) (object.Entry, error) {
	e := root.Top
	if rel == "" {
		return e, nil
	}
	for _, name := range strings.Split(rel, "/") {
		if e.Kind != object.Dir {
			return e, fmt.Errorf("%w: %s", ErrNoPath, rel)
		}
		next, ok, err := object.LookupDir(get, e.Content, []byte(name))
		if err != nil {
			return e, err
		}
		if !ok {
			return e, fmt.Errorf("%w: %s", ErrNoPath, rel)
		}
		e = next
	}
	return e, nil
}

// picker tells which paths of a tree are wanted.
type picker struct {
	all    bool
	picked map[string]bool
	above  map[string]bool // directories on the way to what is picked
}

// newPicker picks paths, which the snapshot must have unless missing ones are let pass.
func newPicker(get object.Getter, root *object.Root, paths []string, missing bool) (*picker, error) {
	p := &picker{all: len(paths) == 0, picked: map[string]bool{}, above: map[string]bool{}}
	for _, raw := range paths {
		rel, err := CleanPath(raw)
		if err != nil {
			return nil, err
		}
		if rel == "" {
			p.all = true
			continue
		}
		if _, err := Lookup(get, root, rel); err != nil && !(missing && errors.Is(err, ErrNoPath)) {
			return nil, err
		}
		p.picked[rel] = true
		for d := path.Dir(rel); d != "."; d = path.Dir(d) {
			p.above[d] = true
		}
	}
	return p, nil
}

// whole reports whether a path is picked or lies below one that is.
func (p *picker) whole(rel string) bool {
	if p.all {
		return true
	}
	for d := rel; d != "." && d != ""; d = path.Dir(d) {
		if p.picked[d] {
			return true
		}
	}
	return false
}

func (p *picker) wants(rel string) bool { return p.all || p.above[rel] || p.whole(rel) }

// WriteTar writes the picked part of a snapshot as a PAX archive (POSIX.1-2001).
func WriteTar(ctx context.Context, w io.Writer, get object.Getter, root *object.Root, paths []string) error {
	pick, err := newPicker(get, root, paths, false)
	if err != nil {
		return err
	}
	firstOf := map[string]string{}
	if root.HasLinks {
		err := object.WalkLinks(get, root.Links, func(set [][]byte) error {
			first := ""
			for _, p := range set {
				if !pick.wants(string(p)) {
					continue
				}
				if first == "" {
					first = string(p)
				} else {
					firstOf[string(p)] = first
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	t := &tarWriter{ctx: ctx, w: tar.NewWriter(w), get: get, pick: pick, firstOf: firstOf}
	if pick.all {
		top := root.Top
		if err := t.entry(".", &top); err != nil {
			return err
		}
	}
	if err := t.dir(root.Top.Content, ""); err != nil {
		return err
	}
	return t.w.Close()
}

type tarWriter struct {
	ctx     context.Context
	w       *tar.Writer
	get     object.Getter
	pick    *picker
	firstOf map[string]string
}

func (t *tarWriter) dir(id object.ID, rel string) error {
	return object.WalkDir(t.get, id, nil, func(e object.Entry) error {
		if err := t.ctx.Err(); err != nil {
			return err
		}
		child := path.Join(rel, string(e.Name))
		if !t.pick.wants(child) {
			return nil
		}
		if err := t.entry(child, &e); err != nil {
			return fmt.Errorf("%s: %w", child, err)
		}
		if e.Kind == object.Dir {
			return t.dir(e.Content, child)
		}
		return nil
	})
}

func (t *tarWriter) entry(name string, e *object.Entry) error {
	h := &tar.Header{Name: name, Mode: int64(e.Mode), Uid: int(e.UID), Gid: int(e.GID), ModTime: time.Unix(0, e.MTime),
		Format: tar.FormatPAX, PAXRecords: map[string]string{}}
	for _, x := range e.Xattrs {
		h.PAXRecords["SCHILY.xattr."+string(x.Name)] = string(x.Value)
	}
	switch e.Kind {
	case object.File:
		h.Typeflag, h.Size = tar.TypeReg, e.Size
		if first, ok := t.firstOf[name]; ok {
			h.Typeflag, h.Size, h.Linkname = tar.TypeLink, 0, first
		}
	case object.Dir:
		h.Typeflag = tar.TypeDir
		h.Name += "/"
	case object.Symlink:
		h.Typeflag, h.Linkname = tar.TypeSymlink, string(e.Target)
	case object.FIFO:
		h.Typeflag = tar.TypeFifo
	case object.CharDevice:
		h.Typeflag, h.Devmajor, h.Devminor = tar.TypeChar, int64(e.Major), int64(e.Minor)
	case object.BlockDevice:
		h.Typeflag, h.Devmajor, h.Devminor = tar.TypeBlock, int64(e.Major), int64(e.Minor)
	case object.Socket:
		return nil // tar has no sockets
	}
	if err := t.w.WriteHeader(h); err != nil {
		return err
	}
	if h.Typeflag != tar.TypeReg {
		return nil
	}
	return CopyContent(t.get, e, t.w)
}
