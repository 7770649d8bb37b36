package tree

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"candidharbor/core/chunker"
	"candidharbor/core/object"
	"candidharbor/internal/beneath"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/sys/unix"
)

// Sink takes the objects of a scan; *store.Writer is one.
type Sink interface {
	Put(kind object.Kind, children []object.ID, payload []byte) (object.ID, error)
	PutChunk(buf []byte) (object.ID, error)
	Has(id object.ID) error
}

// ScanOptions say what to read and where to.
type ScanOptions struct {
	Path     string   // resolved
	Beneath  string   // what Path lies below; from there on no link is followed
	Excludes []string // globs: without a slash any name, with one the path from the top
	Chunker  *chunker.Chunker
	Sink     Sink
	Get      object.Getter
	Cache    *Cache
	Progress *Progress
	// Changes since the tree that the cache describes, and the Names that the scan of it
	// returned; without them everything is looked at.
	Changes *Changes
	Names   *Names
	// Audit looks at everything nevertheless, and tells what the changes left out.
	Audit bool
	// Ground is where the directory stood at the last scan; empty: anywhere. A scan of another
	// ground reads nothing and fails with OtherGround.
	Ground string
}

// Progress counts while a scan or restore runs. All fields may be read at any time.
type Progress struct {
	Files, Dirs, Bytes         atomic.Int64 // seen, with sizes
	ReadFiles, ReadBytes       atomic.Int64 // opened and read
	WrittenFiles, WrittenBytes atomic.Int64
	Total                      atomic.Int64 // expected bytes, when known
}

// Scanned is the outcome of a scan, before it becomes a snapshot.
type Scanned struct {
	Top                        object.Entry
	Links                      object.ID
	HasLinks                   bool
	Files, Dirs, Others, Bytes int64
	Remarks                    []object.Remark
	RemarkCount                int64
	Unchanged                  bool // the same tree as the cache describes
	Names                      *Names
	// Untold are directories in which an audit found changes that were not told, the
	// first of them.
	Untold []string

	cache  *cacheWriter
	top    int64
	Ground string // where the directory stands
}

type scanner struct {
	mounts mounts
	opt    ScanOptions
	ctx    context.Context
	dev    uint64
	times  settling
	tokens chan struct{}
	cache  *cacheWriter
	// sure means that a lease holds the whole cached tree: nothing that the cache
	// names needs to be looked up.
	sure bool

	mu       sync.Mutex
	remarks  []object.Remark
	remarked map[string]bool // directories with something remarkable directly in them
	count    int64
	linked   map[uint64]*linkedFile
	looks    map[string]look
	foreign  map[uint64]struct{} // looked for and not found in the volume as it was
	entered  []uint64            // seen in it though thought outside
	untold   []string
}

// directory is what reading one came to.
type directory struct {
	id      object.ID
	off     int64 // its cache record
	changed bool
	flags   uint32
	sum     totals
}

// mostUntold bounds what an audit lists.
const mostUntold = 100

// linkedFile is a file with several names; its content is read once.
type linkedFile struct {
	once  sync.Once
	entry object.Entry
	err   error
	paths [][]byte
}

// CheckExcludes refuses patterns that are not globs.
func CheckExcludes(globs []string) error {
	for _, g := range globs {
		if g == "" || !doublestar.ValidatePattern(g) {
			return fmt.Errorf("exclude %q is not a valid glob", g)
		}
	}
	return nil
}

// Scan reads the directory into the sink. It fails only when the directory itself
// cannot be read, the sink refuses, or ctx ends; what goes wrong with single entries
// is in the remarks.
func Scan(ctx context.Context, opt ScanOptions) (*Scanned, error) {
	fd, err := beneath.Open(opt.Beneath, opt.Path)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	return scan(ctx, fd, opt)
}

// scan is Scan of what is open.
func scan(ctx context.Context, fd int, opt ScanOptions) (*Scanned, error) {
	if err := CheckExcludes(opt.Excludes); err != nil {
		return nil, err
	}
	if opt.Progress == nil {
		opt.Progress = &Progress{}
	}
	ground, err := groundOf(fd)
	if err != nil {
		return nil, err
	}
	if opt.Ground != "" && opt.Ground != ground {
		return nil, &OtherGround{Path: opt.Path, Was: opt.Ground, Is: ground}
	}
	if opt.Changes == nil || opt.Audit {
		// Late writes through memory maps change ctime only once their page was written
		// back; after this every later one does. Told changes name mapped files instead.
		_, _, _ = unix.Syscall(unix.SYS_SYNCFS, uintptr(fd), 0, 0)
	}
	if opt.Names == nil {
		opt.Names = &Names{}
	}
	times, err := settlingOf(fd)
	if err != nil {
		return nil, err
	}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return nil, err
	}
	s := &scanner{opt: opt, ctx: ctx, dev: st.Dev, times: times,
		tokens: make(chan struct{}, 2*runtime.NumCPU()), linked: map[uint64]*linkedFile{}, looks: map[string]look{},
		remarked: map[string]bool{}}
	if s.cache, err = opt.Cache.begin(); err != nil {
		return nil, err
	}
	ok := false
	defer func() {
		if !ok {
			s.cache.abandon()
		}
	}()
	off := int64(-1)
	if tree, known := opt.Cache.Tree(); known && opt.Sink.Has(tree) == nil {
		off = opt.Cache.head.Top
		s.sure = true
		if l := opt.Cache.head.Links; !l.IsZero() && opt.Sink.Has(l) != nil {
			s.sure = false
		}
	} else if known {
		off = opt.Cache.head.Top
	}
	top := entryOf("", &st)
	if top.Xattrs, err = readXattrs(fdXattrs(fd)); err != nil {
		return nil, fmt.Errorf("read the attributes of %s: %w", opt.Path, err)
	}
	if !s.sure && !opt.Audit {
		s.opt.Changes = nil
	}
	if s.opt.Changes == nil {
		s.opt.Names = &Names{}
	}
	d, err := s.dir(fd, "", off, s.patches(s.opt.Changes, s.opt.Names))
	if err != nil {
		return nil, err
	}
	top.HasContent, top.Content = true, d.id
	res := &Scanned{Top: top, Ground: ground, Files: d.sum.files, Dirs: d.sum.dirs, Others: d.sum.others,
		Bytes: d.sum.bytes,
		Names: s.names(s.opt.Names), Untold: s.untold, cache: s.cache, top: d.off}
	if err := s.finishLinks(res); err != nil {
		return nil, err
	}
	slices.SortFunc(s.remarks, func(a, b object.Remark) int { return bytes.Compare(a.Path, b.Path) })
	res.Remarks, res.RemarkCount = s.remarks, s.count
	if known, has := opt.Cache.Tree(); has {
		res.Unchanged = known == top.Content && opt.Cache.head.Links == res.Links
	}
	ok = true
	return res, nil
}

// Remember makes the scan the one that the cache describes. Call it once the
// snapshot exists, or when the tree was found unchanged.
func (r *Scanned) Remember() error { return r.cache.commit(r.top, r.Top.Content, r.Links) }

// Forget leaves the cache as it was.
func (r *Scanned) Forget() { r.cache.abandon() }

func (s *scanner) remark(rel string, format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.count++
	if s.remarked != nil {
		s.remarked[parent(rel)] = true
	}
	if len(s.remarks) < object.MaxRemarks {
		s.remarks = append(s.remarks, object.Remark{Path: []byte(rel), What: fmt.Sprintf(format, args...)})
	}
}

func plainError(err error) string {
	var pe *os.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	return err.Error()
}

func (s *scanner) excluded(rel string) bool { return excluded(s.opt.Excludes, rel) }

func excluded(globs []string, rel string) bool {
	for _, g := range globs {
		subject := rel
		if !strings.Contains(g, "/") {
			subject = path.Base(rel)
		}
		if m, _ := doublestar.Match(strings.TrimPrefix(g, "/"), subject); m {
			return true
		}
	}
	return false
}
