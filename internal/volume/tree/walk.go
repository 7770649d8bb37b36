package tree

import (
	"errors"
	"os"
	"path"
	"slices"
	"sync"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

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
			if err := unix.Fstatat(fd, it.name, &it.st, unix.AT_SYMLINK_NOFOLLOW); err != nil ||
				kindOf(it.st.Mode) != object.Dir || it.st.Ino != e.inode {
				return nil
			}
			it.same = e.ctime == unix.TimespecToNsec(it.st.Ctim)
			continue
		}
		it.over = true
		it.st.Ino, it.st.Size, it.st.Ctim = e.inode, e.size, unix.NsecToTimespec(e.ctime)
		it.st.Mode = TypeBits(e.kind)
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
		if it.st.Nlink > 1 {
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
	if p != nil || s.opt.Audit || it.old == nil || it.old.kind != object.Dir || it.old.look || it.old.inode != it.st.Ino ||
		it.st.Dev != s.dev && !it.over {
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
		if !s.mounts.passes(it.st.Dev, path.Join(s.opt.Path, rel)) {
			s.remark(rel, "another filesystem is mounted here; it is not entered")
		}
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
