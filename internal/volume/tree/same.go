package tree

import (
	"bytes"
	"path"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// sameContent compares what is there with what should be, metadata aside. A file that
// the scan cache vouches for is not read.
func (r *restorer) sameContent(fd int, name, rel string, e *object.Entry, st *unix.Stat_t, known *cacheDir) (bool,
	error) {
	if kindOf(st.Mode) != e.Kind {
		return false, nil
	}
	switch e.Kind {
	case object.Symlink:
		target, err := readLink(fd, name)
		return bytes.Equal(target, e.Target), err
	case object.CharDevice, object.BlockDevice:
		return unix.Major(st.Rdev) == e.Major && unix.Minor(st.Rdev) == e.Minor, nil
	case object.File:
	default:
		return true, nil
	}
	if st.Size != e.Size {
		return false, nil
	}
	if _, linked := r.links[rel]; !linked && st.Nlink > 1 && r.opt.Exact {
		return false, nil // shares its bytes with another name, which it must not
	}
	if known != nil {
		if i, ok := known.find(name); ok {
			k := &known.entries[i]
			if k.trusted && k.kind == object.File && k.inode == st.Ino && k.ctime == unix.TimespecToNsec(st.Ctim) &&
				k.size == st.Size {
				return k.has == e.HasContent && k.content == e.Content, nil
			}
		}
	}
	return r.sameBytes(fd, name, e)
}

// nullSink computes identities and stores nothing.
type nullSink struct{}

func (nullSink) Put(kind object.Kind, children []object.ID, payload []byte) (object.ID, error) {
	return object.Sum(object.Encode(nil, kind, children, payload)), nil
}
func (nullSink) PutChunk(buf []byte) (object.ID, error) {
	return object.Sum(object.EncodeChunkInPlace(buf)), nil
}
func (nullSink) Has(object.ID) error { return nil }

func (r *restorer) sameBytes(fd int, name string, e *object.Entry) (bool, error) {
	s := &scanner{ctx: r.ctx, opt: ScanOptions{Chunker: r.opt.Chunker, Sink: nullSink{}, Progress: &Progress{},
		Names: &Names{}}, tokens: make(chan struct{})}
	it := &item{name: name}
	if err := s.readFile(fd, name, it); err != nil || it.drop || s.count > 0 {
		return false, err
	}
	return it.entry.HasContent == e.HasContent && it.entry.Content == e.Content, nil
}

func (r *restorer) planAll(id object.ID, rel string) error {
	return object.WalkDir(r.opt.Source.Get, id, nil, func(e object.Entry) error {
		child := path.Join(rel, string(e.Name))
		if !r.picked.wants(child) {
			return nil
		}
		r.act(child, "create")
		r.res.Bytes += e.Size
		if e.Kind == object.Dir {
			return r.listed(child, r.planAll(e.Content, child))
		}
		return r.ctx.Err()
	})
}
