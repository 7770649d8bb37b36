package tree

import (
	"errors"
	"fmt"
	"sync"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"golang.org/x/sys/unix"
)

// create makes an entry that is not there, or replaces what is.
func (r *restorer) create(p *place, rel, name string, e *object.Entry, what string) error {
	set, linked := r.links[rel]
	r.act(rel, what)
	if e.Kind == object.File && !(linked && set.first != rel) {
		r.mu.Lock()
		r.res.Bytes += e.Size
		r.mu.Unlock()
	}
	if r.opt.Plan {
		if e.Kind == object.Dir {
			return r.listed(rel, r.planAll(e.Content, rel))
		}
		return nil
	}
	if e.Kind == object.Dir {
		return r.createDir(p, rel, name, e, what)
	}
	if linked && set.first != rel {
		r.mu.Lock()
		r.later = append(r.later, pendingLink{path: rel, entry: *e, what: what})
		r.mu.Unlock()
		return nil
	}
	at, err := p.staging()
	temp := name
	if !r.fresh {
		temp = tempName()
	}
	if err == nil {
		if err = r.make(at, rel, temp, e); err == nil && temp != name {
			err = putInPlace(at, temp, p.fd, name)
		}
		if err != nil {
			unix.Unlinkat(at, temp, 0)
		}
	}
	if err != nil {
		r.failed(rel, what, e)
		return r.explain(rel, err)
	}
	r.standsAt(rel)
	return nil
}

// putInPlace moves a finished entry over what stands under the name.
func putInPlace(from int, temp string, to int, name string) error {
	err := unix.Renameat(from, temp, to, name)
	if errors.Is(err, unix.EISDIR) || errors.Is(err, unix.ENOTEMPTY) || errors.Is(err, unix.EEXIST) ||
		errors.Is(err, unix.ENOTDIR) {
		// A directory and a file change places in one step; then the old one goes.
		if err = unix.Renameat2(from, temp, to, name, unix.RENAME_EXCHANGE); err == nil {
			return removeAll(from, temp)
		}
	}
	return err
}

// createDir makes a directory with all that is in it. It stands under its name from the
// beginning, where nobody but whoever restores may enter it, unless it replaces something.
func (r *restorer) createDir(p *place, rel, name string, e *object.Entry, what string) error {
	replace := what == "replace"
	at, err := p.staging()
	temp := name
	if !r.fresh || replace {
		temp = tempName()
	}
	sub := -1
	if err == nil {
		sub, err = r.newDir(at, temp)
	}
	if err == nil {
		// It is known for unfinished from before it has its name.
		if err = unix.Fchmod(sub, unfinished); err == nil && temp != name && !replace {
			err = unix.Renameat2(at, temp, p.fd, name, unix.RENAME_NOREPLACE)
		}
		if err != nil {
			unix.Close(sub)
			_ = removeAll(at, temp)
		}
	}
	if err != nil {
		r.failed(rel, what, e)
		return r.explain(rel, err)
	}
	err = r.dir(&place{r: r, fd: sub, private: true}, rel, e.Content, nil)
	hurt := damaged(err)
	if err = r.listed(rel, err); err == nil {
		err = r.applyMeta(sub, rel, e)
	}
	unix.Close(sub)
	if !replace {
		return err
	}
	if err == nil && !hurt {
		if err = putInPlace(at, temp, p.fd, name); err == nil {
			return nil
		}
		err = r.explain(rel, err)
	}
	// What stands there is worth more than a part of this.
	r.failed(rel, what, e)
	return errors.Join(err, removeAll(at, temp))
}

// make writes a new entry under a name that is not taken.
func (r *restorer) make(dirfd int, rel, name string, e *object.Entry) error {
	switch e.Kind {
	case object.File:
		return r.writeFile(dirfd, rel, name, e)
	case object.Symlink:
		if err := unix.Symlinkat(string(e.Target), dirfd, name); err != nil {
			return err
		}
	default:
		dev := int(unix.Mkdev(e.Major, e.Minor))
		if err := unix.Mknodat(dirfd, name, typeBits(e.Kind)|0o600, dev); err != nil {
			return err
		}
	}
	return r.applyMetaAt(dirfd, rel, name, e, nil)
}

var readBufs = sync.Pool{New: func() any { return &store.Buffers{} }}

type intoGetter interface {
	GetInto(id object.ID, buf *store.Buffers) (object.Envelope, error)
}

func (r *restorer) writeFile(dirfd int, rel, name string, e *object.Entry) error {
	fd, err := unix.Openat(dirfd, name, unix.O_RDWR|unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if e.HasContent {
		if err := r.writeContent(fd, e); err != nil {
			return err
		}
	}
	r.opt.Progress.WrittenFiles.Add(1)
	return r.applyMeta(fd, rel, e)
}

func (r *restorer) writeContent(fd int, e *object.Entry) error {
	buf := readBufs.Get().(*store.Buffers)
	defer readBufs.Put(buf)
	get := r.opt.Source.Get
	if g, ok := r.opt.Source.(intoGetter); ok {
		get = func(id object.ID) (object.Envelope, error) { return g.GetInto(id, buf) }
	}
	if e.Sparse { // a hole at the end is there from the beginning, to be read back
		if err := unix.Ftruncate(fd, e.Size); err != nil {
			return err
		}
	}
	var end int64
	holes := false
	// The first read of a file that is one chunk is its content: no copy is made.
	err := object.WalkContent(func(id object.ID) (object.Envelope, error) {
		env, err := get(id)
		if err == nil && env.Kind != object.KindChunk { // a list outlives the buffer
			return r.opt.Source.Get(id)
		}
		return env, err
	}, e.Content, 0, func(sp object.Span) error {
		if err := r.ctx.Err(); err != nil {
			return err
		}
		end = sp.Offset + sp.Length
		if end > e.Size {
			return errors.New("the content is longer than the file")
		}
		if sp.Zero {
			holes = true
			return nil
		}
		data := sp.Data
		if data == nil {
			env, err := get(sp.Chunk)
			if err != nil {
				return err
			}
			data = env.Payload
		}
		if int64(len(data)) != sp.Length {
			return fmt.Errorf("%w: a chunk is not as long as its list says", store.ErrDamaged)
		}
		r.opt.Progress.WrittenBytes.Add(int64(len(data)))
		if err := writeAt(fd, data, sp.Offset, e.Sparse, &holes); err != nil {
			return err
		}
		return readBack(fd, data, sp.Offset)
	})
	if err != nil {
		return err
	}
	if end != e.Size {
		return fmt.Errorf("%w: the content has %d bytes, the file had %d", store.ErrDamaged, end, e.Size)
	}
	if holes && !e.Sparse {
		// Zeros that were written, not a hole: keep the room taken.
		if err := unix.Fallocate(fd, 0, 0, e.Size); err != nil && !errors.Is(err, unix.EOPNOTSUPP) {
			return err
		}
		return unix.Ftruncate(fd, e.Size)
	}
	return nil
}

// writeAt writes data; in a sparse file whole blocks of zeros are left as holes.
func writeAt(fd int, data []byte, off int64, sparse bool, holes *bool) error {
	const block = 4096
	write := func(b []byte, at int64) error {
		for len(b) > 0 {
			n, err := unix.Pwrite(fd, b, at)
			if err != nil && !errors.Is(err, unix.EINTR) {
				return err
			}
			b, at = b[max(n, 0):], at+int64(max(n, 0))
		}
		return nil
	}
	if !sparse {
		return write(data, off)
	}
	begin := 0
	for i := 0; i < len(data); {
		n := min(block-int((off+int64(i))%block), len(data)-i)
		if n == block && object.AllZero(data[i:i+n]) {
			if err := write(data[begin:i], off+int64(begin)); err != nil {
				return err
			}
			begin = i + n
			*holes = true
		}
		i += n
	}
	return write(data[begin:], off+int64(begin))
}
