package tree

import (
	"errors"
	"io"
	"sync"

	"candidharbor/core/object"
	"candidharbor/internal/beneath"

	"golang.org/x/sys/unix"
)

// fileBuf is memory for reading one file: headroom, then up to two largest chunks.
type fileBuf struct{ b []byte }

var fileBufs = sync.Pool{New: func() any { return &fileBuf{make([]byte, object.Headroom+2*object.MaxChunkPayload)} }}

// file records a regular file. A file with several names is read once.
func (s *scanner) file(fd int, rel string, it *item) error {
	if it.st.Nlink > 1 {
		s.mu.Lock()
		l := s.linked[it.st.Ino]
		s.mu.Unlock()
		if l != nil {
			l.once.Do(func() {
				l.err = s.readFile(fd, rel, it)
				l.entry = it.entry
			})
			if l.err != nil {
				return l.err
			}
			if l.entry.Kind == 0 { // the first name could not be read; try this one
				return s.readFile(fd, rel, it)
			}
			it.entry = l.entry
			it.entry.Name = []byte(it.name)
			return nil
		}
	}
	return s.readFile(fd, rel, it)
}

func (s *scanner) readFile(dirfd int, rel string, it *item) error {
	const flags = unix.O_RDONLY | unix.O_NOFOLLOW | unix.O_CLOEXEC | unix.O_NONBLOCK
	fd, err := unix.Openat(dirfd, it.name, flags|unix.O_NOATIME, 0)
	if errors.Is(err, unix.EPERM) {
		fd, err = unix.Openat(dirfd, it.name, flags, 0)
	}
	if err != nil {
		it.drop = true
		if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ELOOP) {
			s.remark(rel, "vanished while it was read")
		} else {
			s.remark(rel, "left out: %s", plainError(err))
		}
		return nil
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil || kindOf(st.Mode) != object.File {
		it.drop = true
		s.remark(rel, "left out: it was replaced while it was read")
		return nil
	}
	it.st = st
	e := entryOf(it.name, &st)
	if e.Xattrs, err = readXattrs(fdXattrs(fd)); err != nil {
		s.remark(rel, "attributes left out: %s", plainError(err))
	}
	buf := fileBufs.Get().(*fileBuf)
	defer fileBufs.Put(buf)
	r := &contentReader{s: s, fd: fd, size: st.Size, sparse: e.Sparse, buf: buf.b,
		list: object.NewListBuilder(s.opt.Sink.Put)}
	id, n, has, err := r.run()
	if err != nil {
		var re *readError
		if errors.As(err, &re) {
			it.drop = true
			s.remark(rel, "left out: it could not be read to its end: %s", plainError(re.err))
			return nil
		}
		return err
	}
	s.opt.Progress.ReadFiles.Add(1)
	e.Size, e.HasContent, e.Content = n, has, id
	var after unix.Stat_t
	if err := unix.Fstat(fd, &after); err == nil &&
		(after.Mtim != st.Mtim || after.Ctim != st.Ctim || after.Size != st.Size || n != st.Size) {
		s.remark(rel, "changed while it was read")
		it.st.Ctim = unix.Timespec{} // never equal again: the next scan reads it
	}
	it.entry = e
	return nil
}

type readError struct{ err error }

func (e *readError) Error() string { return e.err.Error() }

// contentReader cuts one file into chunks.
type contentReader struct {
	s      *scanner
	fd     int
	size   int64
	sparse bool
	buf    []byte // headroom first
	list   *object.ListBuilder
	window []*chunkTask
}

// chunkTask is a chunk being hashed and packed beside the reading.
type chunkTask struct {
	id   object.ID
	n    int
	err  error
	done chan struct{}
}

func (r *contentReader) run() (object.ID, int64, bool, error) {
	ck := r.s.opt.Chunker
	largest := ck.Params().Max
	body := r.buf[object.Headroom : object.Headroom+2*largest]
	have, start := 0, 0 // body[start:have] is read and not cut yet
	pos := int64(0)     // offset in the file of body[start]
	eof := false
	for {
		if r.sparse && have == start {
			if n := r.hole(pos, int64(largest)); n > 0 {
				if err := r.drain(0); err != nil {
					return object.ID{}, 0, false, err
				}
				if err := r.list.Zeros(n); err != nil {
					return object.ID{}, 0, false, err
				}
				pos += n
				start, have = 0, 0
				continue
			}
		}
		for !eof && have-start < largest {
			if have == len(body) || (start > 0 && len(body)-start < largest) {
				copy(body, body[start:have])
				have, start = have-start, 0
			}
			want := len(body)
			if left := r.size - (pos + int64(have-start)); left >= 0 && left+1 < int64(want-have) {
				want = have + int(left) + 1 // one more, to see the end in the same call
			}
			n, err := unix.Pread(r.fd, body[have:want], pos+int64(have-start))
			if errors.Is(err, unix.EINTR) {
				continue
			}
			if err != nil {
				return object.ID{}, 0, false, &readError{err}
			}
			if n == 0 || (n < want-have && pos+int64(have-start)+int64(n) == r.size) {
				eof = true
			}
			have += n
			r.s.opt.Progress.ReadBytes.Add(int64(n))
		}
		if have == start {
			break
		}
		if err := r.s.ctx.Err(); err != nil {
			return object.ID{}, 0, false, err
		}
		n := ck.Cut(body[start:have])
		last := eof && start+n == have
		if err := r.chunk(start, n, last && pos == 0); err != nil {
			return object.ID{}, 0, false, err
		}
		start += n
		pos += int64(n)
	}
	if err := r.drain(0); err != nil {
		return object.ID{}, 0, false, err
	}
	return r.list.Finish()
}

// chunk stores body[start:start+n]. All but the only chunk of a file are handed on, so
// that hashing and packing overlap with reading.
func (r *contentReader) chunk(start, n int, only bool) error {
	data := r.buf[object.Headroom+start : object.Headroom+start+n]
	if object.AllZero(data) {
		if err := r.drain(0); err != nil {
			return err
		}
		return r.list.Zeros(int64(n))
	}
	if !only {
		select {
		case r.s.tokens <- struct{}{}:
			t := &chunkTask{n: n, done: make(chan struct{})}
			cp := fileBufs.Get().(*fileBuf)
			copy(cp.b[object.Headroom:], data)
			go func() {
				t.id, t.err = r.s.opt.Sink.PutChunk(cp.b[:object.Headroom+n])
				fileBufs.Put(cp)
				<-r.s.tokens
				close(t.done)
			}()
			r.window = append(r.window, t)
			return r.drain(8)
		default:
		}
	}
	if err := r.drain(0); err != nil {
		return err
	}
	// The head goes right before the payload, over bytes that were cut already.
	id, err := r.s.opt.Sink.PutChunk(r.buf[start : object.Headroom+start+n])
	if err != nil {
		return err
	}
	return r.list.Chunk(id, n)
}

// drain takes finished chunks over, in order, until at most keep are on their way.
func (r *contentReader) drain(keep int) error {
	for len(r.window) > keep {
		t := r.window[0]
		r.window = r.window[1:]
		<-t.done
		if t.err != nil {
			for _, rest := range r.window {
				<-rest.done
			}
			return t.err
		}
		if err := r.list.Chunk(t.id, t.n); err != nil {
			return err
		}
	}
	return nil
}

// hole returns how many bytes from pos on, in whole largest chunks, lie in a hole.
func (r *contentReader) hole(pos, largest int64) int64 {
	next, err := unix.Seek(r.fd, pos, unix.SEEK_DATA)
	if errors.Is(err, unix.ENXIO) {
		next, err = r.size, nil
	}
	if err != nil || next <= pos {
		return 0
	}
	return (next - pos) / largest * largest
}

// Survey is what adding a volume finds out.
type Survey struct {
	Ground                     string // where the directory stands, as of Scanned
	Files, Dirs, Others, Bytes int64
	Unreadable                 []string // first few paths
	UnreadableCount            int64
	Mounts                     []string // other filesystems below, not entered
	Filesystem                 string
	Device                     uint64
	TimesMadeUp                bool // its change times tell nothing: each snapshot reads every file
	FreeBytes                  int64
}

var filesystems = map[int64]string{0xef53: "ext4", 0x58465342: "xfs", 0x9123683e: "btrfs", 0x01021994: "tmpfs",
	0x6969:     "nfs",
	0x794c7630: "overlayfs", 0x2fc12fc1: "zfs", 0x65735546: "fuse", 0xff534d42: "cifs", 0x2011bab0: "exfat",
	0x4d44: "vfat"}

// Look walks a directory as a scan would, reading only metadata.
func Look(root, dir string, excludes []string) (*Survey, error) {
	fd, err := beneath.Open(root, dir)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	var fs unix.Statfs_t
	if err := errors.Join(unix.Fstat(fd, &st), unix.Fstatfs(fd, &fs)); err != nil {
		return nil, err
	}
	ground, err := groundOf(fd)
	if err != nil {
		return nil, err
	}
	v := &Survey{Ground: ground, Device: st.Dev, FreeBytes: int64(fs.Bavail) * fs.Bsize,
		Filesystem: filesystems[int64(fs.Type)]}
	if v.Filesystem == "" {
		v.Filesystem = "another kind"
	}
	times, err := settlingOf(fd)
	if err != nil {
		return nil, err
	}
	v.TimesMadeUp = times.never
	s := &scanner{opt: ScanOptions{Path: dir, Excludes: excludes}}
	return v, v.walk(s, fd, "")
}

func (v *Survey) unreadable(rel string) {
	v.UnreadableCount++
	if len(v.Unreadable) < 10 {
		v.Unreadable = append(v.Unreadable, rel)
	}
}

func (v *Survey) walk(s *scanner, fd int, rel string) error {
	names, err := readNames(fd)
	if err != nil {
		v.unreadable(rel)
		return nil
	}
	v.Dirs++
	for _, name := range names {
		child := name
		if rel != "" {
			child = rel + "/" + name
		}
		if s.excluded(child) {
			continue
		}
		var st unix.Stat_t
		if unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) != nil {
			continue
		}
		switch kindOf(st.Mode) {
		case object.Dir:
			if st.Dev != v.Device {
				if !s.mounts.passes(st.Dev, s.opt.Path+"/"+child) {
					v.Mounts = append(v.Mounts, child)
				}
				continue
			}
			sub, err := openDirAt(fd, name)
			if err != nil {
				v.unreadable(child)
				continue
			}
			err = v.walk(s, sub, child)
			unix.Close(sub)
			if err != nil {
				return err
			}
		case object.File:
			v.Files++
			v.Bytes += st.Size
			if unix.Faccessat(fd, name, unix.R_OK, 0) != nil {
				v.unreadable(child)
			}
		default:
			v.Others++
		}
	}
	return nil
}

// CopyContent writes a file's content to w.
func CopyContent(get func(object.ID) (object.Envelope, error), e *object.Entry, w io.Writer) error {
	if !e.HasContent {
		return nil
	}
	zeros := make([]byte, 64<<10)
	return object.WalkContent(get, e.Content, 0, func(sp object.Span) error {
		if sp.Zero {
			for n := sp.Length; n > 0; {
				k := min(n, int64(len(zeros)))
				if _, err := w.Write(zeros[:k]); err != nil {
					return err
				}
				n -= k
			}
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
			return errors.New("a chunk is not as long as its list says")
		}
		_, err := w.Write(data)
		return err
	})
}
