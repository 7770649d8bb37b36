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
	"time"

	"candidharbor/core/chunker"
	"candidharbor/core/object"

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
	Path     string
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

	cache *cacheWriter
	top   int64
}

type scanner struct {
	opt     ScanOptions
	ctx     context.Context
	dev     uint64
	trusted int64 // ctimes before this are settled, nanoseconds
	tokens  chan struct{}
	cache   *cacheWriter
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
	if err := CheckExcludes(opt.Excludes); err != nil {
		return nil, err
	}
	if opt.Progress == nil {
		opt.Progress = &Progress{}
	}
	fd, err := unix.Open(opt.Path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &os.PathError{Op: "read", Path: opt.Path, Err: err}
	}
	defer unix.Close(fd)
	if opt.Changes == nil || opt.Audit {
		// Late writes through memory maps change ctime only once their page was written
		// back; after this every later one does. Told changes name mapped files instead.
		_, _, _ = unix.Syscall(unix.SYS_SYNCFS, uintptr(fd), 0, 0)
	}
	if opt.Names == nil {
		opt.Names = &Names{}
	}
	var now unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_REALTIME_COARSE, &now); err != nil {
		return nil, err
	}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return nil, err
	}
	s := &scanner{opt: opt, ctx: ctx, dev: st.Dev, trusted: unix.TimespecToNsec(now) - int64(20*time.Millisecond),
		tokens: make(chan struct{}, 2*runtime.NumCPU()), linked: map[uint64]*linkedFile{}, looks: map[string]look{}, remarked: map[string]bool{}}
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
	res := &Scanned{Top: top, Files: d.sum.files, Dirs: d.sum.dirs, Others: d.sum.others, Bytes: d.sum.bytes,
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

// item is one directory entry on its way into the snapshot.
type item struct {
	name   string
	st     unix.Stat_t
	old    *cacheEntry // what the cache knows of the name
	same   bool        // nothing about it changed; old speaks for it
	over   bool        // a directory taken over without a look, its stat from the cache
	mapped bool        // written through memory, perhaps without a trace in its times
	entry  object.Entry
	drop   bool // could not be read; a remark says why
	child  int64
	look   uint32
	sum    totals
}

// dir reads one open directory. off is its cache record or -1; p tells what changed in
// it, and is nil when nothing was told.
func (s *scanner) dir(fd int, rel string, off int64, p *patch) (directory, error) {
	fail := func(err error) (directory, error) { return directory{off: -1}, err }
	if err := s.ctx.Err(); err != nil {
		return fail(err)
	}
	old := s.opt.Cache.readDir(off)
	// A directory that the store lost is read anew; what is below may still be there.
	lost := old != nil && !s.sure && s.opt.Sink.Has(old.id) != nil
	var items []*item
	var err error
	if items = s.pass(fd, rel, old, p); items == nil {
		if items, err = s.list(fd, rel, old, lost, p); err != nil {
			return fail(err)
		}
		s.note(rel, listed)
	} else {
		s.note(rel, passed)
	}
	if err := s.entries(fd, rel, items, p); err != nil {
		return fail(err)
	}
	items = slices.DeleteFunc(items, func(it *item) bool { return it.drop })
	d := directory{sum: totals{dirs: 1}}
	same := old != nil && !lost && len(items) == len(old.entries)
	for _, it := range items {
		same = same && it.same
		if it.look != 0 {
			d.flags |= lookBelow
		}
		d.sum.add(it.sum)
	}
	s.mu.Lock()
	if s.remarked[rel] {
		d.flags |= lookHere
	}
	s.mu.Unlock()
	s.opt.Progress.Dirs.Add(1)
	if same && old.flags == d.flags && old.sum == d.sum {
		d.id, d.off = old.id, s.cache.keep(off)
		return d, nil
	}
	if lost {
		old = nil
	}
	return s.encode(items, old, d.flags, d.sum)
}

// pass returns the entries of a directory in which nothing changed itself, though it did
// below: the directories on the way are looked at, the others are taken over. It returns
// nil when the directory must be listed.
func (s *scanner) pass(fd int, rel string, old *cacheDir, p *patch) []*item {
	if old == nil || p == nil || p.self || s.opt.Audit || old.flags&lookHere != 0 {
		return nil
	}
	items := make([]*item, len(old.entries))
	found := 0
	for i := range old.entries {
		e := &old.entries[i]
		it := &item{name: string(e.name), old: e, same: true, child: e.child}
		items[i] = it
		_, told := p.kids[it.name]
		if told && e.kind == object.Dir {
			found++
		}
		if e.kind == object.Dir && (told || e.look) {
			if err := unix.Fstatat(fd, it.name, &it.st, unix.AT_SYMLINK_NOFOLLOW); err != nil || kindOf(it.st.Mode) != object.Dir || it.st.Ino != e.inode {
				return nil
			}
			it.same = e.ctime == unix.TimespecToNsec(it.st.Ctim)
			continue
		}
		it.over = true
		it.st.Ino, it.st.Size, it.st.Ctim = e.inode, e.size, unix.NsecToTimespec(e.ctime)
		it.st.Mode = modeOf(e.kind)
	}
	if found != len(p.kids) {
		return nil
	}
	return items
}

// list looks at every entry of a directory.
func (s *scanner) list(fd int, rel string, old *cacheDir, lost bool, p *patch) ([]*item, error) {
	names, err := readNames(fd)
	if err != nil {
		return nil, &os.PathError{Op: "list", Path: path.Join(s.opt.Path, rel), Err: err}
	}
	items := make([]*item, 0, len(names))
	at := 0
	untold := false
	for _, name := range names {
		child := path.Join(rel, name)
		if len(s.opt.Excludes) > 0 && s.excluded(child) {
			continue
		}
		it := &item{name: name, child: -1}
		if err := unix.Fstatat(fd, name, &it.st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			if errors.Is(err, unix.ENOENT) {
				s.remark(child, "vanished while the directory was read")
			} else {
				s.remark(child, "left out: %s", plainError(err))
			}
			continue
		}
		if kindOf(it.st.Mode) == 0 {
			s.remark(child, "left out: of an unknown type")
			continue
		}
		if s.thoughtOutside(it.st.Ino) {
			s.mu.Lock()
			s.entered = append(s.entered, it.st.Ino)
			s.mu.Unlock()
		}
		touched := false
		if s.opt.Changes != nil {
			it.mapped, touched = s.opt.Changes.Always[it.st.Ino], s.opt.Changes.Touched[it.st.Ino]
		}
		if old != nil {
			for at < len(old.entries) && string(old.entries[at].name) < name {
				at++
			}
			if at < len(old.entries) && string(old.entries[at].name) == name {
				it.old = &old.entries[at]
				e := it.old
				as := e.kind == kindOf(it.st.Mode) && e.inode == it.st.Ino &&
					e.ctime == unix.TimespecToNsec(it.st.Ctim) && (e.kind == object.Dir || e.size == it.st.Size)
				it.same = as && !lost && e.trusted && !it.mapped && (!touched || e.kind != object.File)
				// The told change of a directory may show in its parent's entry alone.
				untold = untold || (!as && p.kid(name) == nil)
			} else {
				untold = true
			}
		}
		items = append(items, it)
	}
	if s.opt.Audit && old != nil && (p == nil || !p.self) && (untold || len(items) != len(old.entries)) {
		s.mu.Lock()
		if len(s.untold) < mostUntold {
			s.untold = append(s.untold, rel)
		}
		s.mu.Unlock()
	}
	return items, nil
}

// entries reads what changed, side by side where there is a free token.
func (s *scanner) entries(fd int, rel string, items []*item, p *patch) error {
	var wg sync.WaitGroup
	var mu sync.Mutex
	var first error
	run := func(f func() error) {
		do := func() {
			if err := f(); err != nil {
				mu.Lock()
				if first == nil {
					first = err
				}
				mu.Unlock()
			}
		}
		select {
		case s.tokens <- struct{}{}:
			wg.Add(1)
			go func() {
				defer wg.Done()
				defer func() { <-s.tokens }()
				do()
			}()
		default:
			do()
		}
	}
	const batch = 32
	var todo []*item
	flush := func() {
		part := todo
		todo = nil
		run(func() error {
			for _, it := range part {
				if err := s.one(fd, path.Join(rel, it.name), it); err != nil {
					return err
				}
			}
			return nil
		})
	}
	for _, it := range items {
		kind := kindOf(it.st.Mode)
		if kind == object.Dir {
			if !s.takeOver(path.Join(rel, it.name), it, p.kid(it.name)) {
				run(func() error { return s.subdir(fd, path.Join(rel, it.name), it, p.kid(it.name)) })
			}
			continue
		}
		s.count1(kind, it)
		if it.over {
			continue
		}
		if it.st.Nlink > 1 && kind == object.File {
			s.noteLink(path.Join(rel, it.name), it.st.Ino)
		}
		if it.same && (s.sure || !it.old.has || s.opt.Sink.Has(it.old.content) == nil) {
			continue
		}
		it.same = false
		if todo = append(todo, it); len(todo) == batch {
			flush()
		}
	}
	if len(todo) > 0 {
		flush()
	}
	wg.Wait()
	return first
}

func (s *scanner) count1(kind object.EntryKind, it *item) {
	if kind == object.File {
		it.sum = totals{files: 1, bytes: it.st.Size}
		s.opt.Progress.Files.Add(1)
		s.opt.Progress.Bytes.Add(it.st.Size)
	} else {
		it.sum = totals{others: 1}
	}
}

// takeOver keeps a directory of which no change was told, with all below it.
func (s *scanner) takeOver(rel string, it *item, p *patch) bool {
	if p != nil || s.opt.Audit || it.old == nil || it.old.kind != object.Dir || it.old.look || it.old.inode != it.st.Ino || it.st.Dev != s.dev && !it.over {
		return false
	}
	sum, ok := s.opt.Cache.readSum(it.old.child)
	if !ok || !it.over && !it.same {
		return false
	}
	it.child, it.sum = s.cache.keep(it.old.child), sum
	if it.child < 0 {
		return false
	}
	s.opt.Progress.Files.Add(sum.files)
	s.opt.Progress.Dirs.Add(sum.dirs)
	s.opt.Progress.Bytes.Add(sum.bytes)
	s.note(rel, kept)
	return true
}

func (s *scanner) subdir(fd int, rel string, it *item, p *patch) error {
	if it.over { // what was to be taken over is not there: look after all
		if err := unix.Fstatat(fd, it.name, &it.st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			s.remark(rel, "vanished while it was read")
			it.drop = true
			return nil
		}
		it.over, it.same = false, false
	}
	e := entryOf(it.name, &it.st)
	off := int64(-1)
	if it.old != nil && it.old.kind == object.Dir {
		off = it.old.child
	}
	if it.st.Dev != s.dev {
		s.remark(rel, "another filesystem is mounted here; it is not entered")
		return s.emptyDir(it, e)
	}
	sub, err := openDirAt(fd, it.name)
	switch {
	case errors.Is(err, unix.ENOENT), errors.Is(err, unix.ENOTDIR), errors.Is(err, unix.ELOOP):
		s.remark(rel, "vanished while it was read")
		it.drop = true
		return nil
	case err != nil:
		s.remark(rel, "its content is left out: %s", plainError(err))
		return s.emptyDir(it, e)
	}
	defer unix.Close(sub)
	d, err := s.dir(sub, rel, off, p)
	if err != nil {
		var pe *os.PathError
		if !errors.As(err, &pe) || pe.Op != "list" {
			return err
		}
		s.remark(rel, "its content is left out: %s", plainError(err))
		return s.emptyDir(it, e)
	}
	it.child, it.look, it.sum = d.off, d.flags, d.sum
	if it.same && !d.changed {
		return nil
	}
	it.same = false
	e.HasContent, e.Content = true, d.id
	if e.Xattrs, err = readXattrs(fdXattrs(sub)); err != nil {
		s.remark(rel, "attributes left out: %s", plainError(err))
	}
	it.entry = e
	return nil
}

func (s *scanner) emptyDir(it *item, e object.Entry) error {
	it.same = false
	id, err := object.NewDirBuilder(s.opt.Sink.Put).Finish()
	e.HasContent, e.Content = true, id
	it.entry, it.sum, it.look = e, totals{dirs: 1}, lookHere
	return err
}

// one records a changed entry that is not a directory.
func (s *scanner) one(fd int, rel string, it *item) error {
	if err := s.ctx.Err(); err != nil {
		return err
	}
	if kindOf(it.st.Mode) == object.File {
		return s.file(fd, rel, it)
	}
	e := entryOf(it.name, &it.st)
	var err error
	if e.Kind == object.Symlink {
		e.Target, err = readLink(fd, it.name)
	}
	if err == nil {
		e.Xattrs, err = readXattrs(pathXattrs(fd, it.name))
	}
	if err != nil {
		it.drop = true
		if errors.Is(err, unix.ENOENT) {
			s.remark(rel, "vanished while it was read")
		} else {
			s.remark(rel, "left out: %s", plainError(err))
		}
		return nil
	}
	it.entry = e
	return nil
}
