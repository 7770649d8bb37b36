package views

import (
	"context"
	"sync"
	"syscall"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/volume/tree"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"
)

var (
	_ fs.NodeLookuper    = (*node)(nil)
	_ fs.NodeReaddirer   = (*node)(nil)
	_ fs.NodeGetattrer   = (*node)(nil)
	_ fs.NodeReadlinker  = (*node)(nil)
	_ fs.NodeOpener      = (*node)(nil)
	_ fs.NodeGetxattrer  = (*node)(nil)
	_ fs.NodeListxattrer = (*node)(nil)
	_ fs.NodeOnForgetter = (*node)(nil)
	_ fs.FileReader      = (*reader)(nil)
)

// shown is a snapshot that is looked at.
type shown struct {
	*view
	*Held
	base  uint64 // of the inodes of its files with several names
	once  sync.Once
	links map[string]uint64 // paths of files with several names → which file
	sets  map[uint64]uint32 // → how many names
}

// link tells which file with several names a path is, and how many it has.
func (s *shown) link(path string) (file uint64, n uint32) {
	s.once.Do(func() {
		if !s.Root.HasLinks {
			return
		}
		s.links, s.sets = map[string]uint64{}, map[uint64]uint32{}
		err := object.WalkLinks(s.Get, s.Root.Links, func(set [][]byte) error {
			no := uint64(len(s.sets) + 1)
			for _, p := range set {
				s.links[string(p)] = no
			}
			s.sets[no] = uint32(len(set))
			return nil
		})
		if err != nil {
			s.fail("its files with several names", err)
		}
	})
	file = s.links[path]
	return file, s.sets[file]
}

// node is an entry of a snapshot.
type node struct {
	fs.Inode
	*shown
	e    object.Entry
	path string
	id   string // of a moment's top
	nlnk uint32

	mu     sync.Mutex
	window []object.Entry // of a directory: where it was looked last, in order
}

// OnForget is part of fs: nobody looks at the moment any more.
func (n *node) OnForget() {
	if n.id != "" {
		n.letGo(n.Held)
	}
}

func (n *node) attr(a *fuse.Attr) {
	a.Mode = n.e.Mode & 0o7777
	a.Size = uint64(n.e.Size)
	if n.e.Kind == object.Symlink {
		a.Size = uint64(len(n.e.Target))
	}
	a.Blocks = (a.Size + 511) / 512
	a.Blksize = 64 << 10
	a.Owner = fuse.Owner{Uid: n.e.UID, Gid: n.e.GID}
	a.Nlink = max(n.nlnk, 1)
	a.Rdev = uint32(unix.Mkdev(n.e.Major, n.e.Minor))
	at := time.Unix(0, n.e.MTime)
	a.SetTimes(&at, &at, &at)
}

// Getattr is part of fs.
func (n *node) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	n.attr(&out.Attr)
	out.SetTimeout(forever)
	return 0
}

// Lookup is part of fs.
func (n *node) Lookup(ctx context.Context, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	e, ok, err := n.child(name)
	if err != nil {
		return nil, n.fail(n.path+"/"+name, err)
	}
	if !ok {
		return nil, syscall.ENOENT
	}
	c := &node{shown: n.shown, e: e, path: name}
	if n.path != "" {
		c.path = n.path + "/" + name
	}
	stable := fs.StableAttr{Mode: tree.TypeBits(e.Kind)}
	if e.Kind == object.File {
		if file, names := n.link(c.path); names > 0 {
			stable.Ino, c.nlnk = n.base|file, names
		}
	}
	c.attr(&out.Attr)
	out.SetEntryTimeout(forever)
	out.SetAttrTimeout(forever)
	return n.NewInode(ctx, c, stable), 0
}

const windowSize = 1024

// child finds a name. Who lists a directory asks for its names one after the other.
func (n *node) child(name string) (object.Entry, bool, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if e, ok := inWindow(n.window, name); ok {
		return e, true, nil
	}
	n.window = n.window[:0]
	after := []byte(name[:len(name)-1]) // smaller than the name, and near it
	err := object.WalkDir(n.Get, n.e.Content, after, func(e object.Entry) error {
		if n.window = append(n.window, e); len(n.window) == windowSize {
			return object.ErrStop
		}
		return nil
	})
	if err != nil {
		n.window = nil
		return object.Entry{}, false, err
	}
	if e, ok := inWindow(n.window, name); ok || len(n.window) < windowSize {
		return e, ok, nil
	}
	return object.LookupDir(n.Get, n.e.Content, []byte(name))
}

func inWindow(w []object.Entry, name string) (object.Entry, bool) {
	lo, hi := 0, len(w)
	for lo < hi {
		mid := (lo + hi) / 2
		if string(w[mid].Name) < name {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	if lo < len(w) && string(w[lo].Name) == name {
		return w[lo], true
	}
	return object.Entry{}, false
}

// Readdir is part of fs.
func (n *node) Readdir(context.Context) (fs.DirStream, syscall.Errno) {
	return &pages{n: n}, 0
}

// pages lists a directory page by page.
type pages struct {
	n     *node
	page  []fuse.DirEntry
	after []byte
	end   bool
	err   syscall.Errno
}

func (s *pages) HasNext() bool {
	if len(s.page) > 0 || s.end {
		return len(s.page) > 0
	}
	err := object.WalkDir(s.n.Get, s.n.e.Content, s.after, func(e object.Entry) error {
		s.page = append(s.page, fuse.DirEntry{Name: string(e.Name), Mode: tree.TypeBits(e.Kind)})
		if s.after = e.Name; len(s.page) == windowSize {
			return object.ErrStop
		}
		return nil
	})
	if err != nil {
		s.err = s.n.fail(s.n.path, err)
		s.page, s.end = append(s.page[:0], fuse.DirEntry{}), true
		return true
	}
	s.end = len(s.page) < windowSize
	return len(s.page) > 0
}

func (s *pages) Next() (fuse.DirEntry, syscall.Errno) {
	e := s.page[0]
	s.page = s.page[1:]
	return e, s.err
}

func (s *pages) Close() {}

// Readlink is part of fs.
func (n *node) Readlink(context.Context) ([]byte, syscall.Errno) { return n.e.Target, 0 }

// Open is part of fs.
func (n *node) Open(_ context.Context, flags uint32) (fs.FileHandle, uint32, syscall.Errno) {
	if flags&syscall.O_ACCMODE != syscall.O_RDONLY {
		return nil, 0, syscall.EROFS
	}
	return &reader{n: n, c: tree.NewContent(n.Get, &n.e)}, fuse.FOPEN_KEEP_CACHE, 0
}

type reader struct {
	n *node
	c *tree.Content
}

// Read is part of fs.
func (r *reader) Read(_ context.Context, dest []byte, off int64) (fuse.ReadResult, syscall.Errno) {
	got, err := r.c.ReadAt(dest, off)
	if err != nil && got < len(dest) && off+int64(got) < r.c.Size() {
		return nil, r.n.fail(r.n.path, err)
	}
	return fuse.ReadResultData(dest[:got]), 0
}

// Release is part of fs.
func (r *reader) Release(context.Context) syscall.Errno {
	r.c.Close()
	return 0
}

// Getxattr is part of fs.
func (n *node) Getxattr(_ context.Context, attr string, dest []byte) (uint32, syscall.Errno) {
	for _, x := range n.e.Xattrs {
		if string(x.Name) == attr {
			if len(dest) == 0 {
				return uint32(len(x.Value)), 0
			}
			if len(dest) < len(x.Value) {
				return uint32(len(x.Value)), syscall.ERANGE
			}
			return uint32(copy(dest, x.Value)), 0
		}
	}
	return 0, syscall.ENODATA
}

// Listxattr is part of fs.
func (n *node) Listxattr(_ context.Context, dest []byte) (uint32, syscall.Errno) {
	var all []byte
	for _, x := range n.e.Xattrs {
		all = append(append(all, x.Name...), 0)
	}
	if len(dest) == 0 {
		return uint32(len(all)), 0
	}
	if len(dest) < len(all) {
		return uint32(len(all)), syscall.ERANGE
	}
	return uint32(copy(dest, all)), 0
}
