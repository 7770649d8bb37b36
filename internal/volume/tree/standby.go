package tree

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// StandbyOptions say how the idle one of two trees side by side is brought up to a
// snapshot. Both belong to the service: nobody looks at the idle one, nobody writes into
// the active one.
type StandbyOptions struct {
	Source   Source
	Root     *object.Root // what it becomes
	Was      *object.Root // what it was laid out as; nil: it is to be made from nothing
	Beside   *object.Root // what the active tree is; nil: there is none
	Dir      int          // open directory that both lie in
	Idle     string
	Active   string
	Additive bool // what the snapshot does not have stays
}

// standby lays one tree out.
type standby struct {
	*restorer
	opt     StandbyOptions
	private bool // the idle tree is made from nothing, and nobody else may enter it before its end
}

// LayOut brings the idle tree up to the snapshot by what differs from what it was. A file
// that the active tree has as it should be becomes a further name of that one; no file is
// ever written in place, so what both share stays what it is.
func LayOut(ctx context.Context, opt StandbyOptions) (*Restored, error) {
	s := &standby{opt: opt, restorer: &restorer{ctx: ctx, fresh: true, links: map[string]*linkSet{},
		moved: map[string]string{},
		opt:   RestoreOptions{Source: opt.Source, Root: opt.Root, Progress: &Progress{}}}}
	if opt.Was == nil {
		if err := removeAll(opt.Dir, opt.Idle); err != nil {
			return nil, err
		}
		made, err := s.newDir(opt.Dir, opt.Idle)
		if err != nil {
			return nil, &os.PathError{Op: "create", Path: opt.Idle, Err: err}
		}
		unix.Close(made)
		s.private = true
	}
	idle, err := openDirAt(opt.Dir, opt.Idle)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: opt.Idle, Err: err}
	}
	defer unix.Close(idle)
	active := -1
	if opt.Beside != nil {
		if active, err = openDirAt(opt.Dir, opt.Active); err != nil {
			return nil, &os.PathError{Op: "open", Path: opt.Active, Err: err}
		}
		defer unix.Close(active)
	}
	top := func(r *object.Root) *object.Entry {
		if r == nil {
			return nil
		}
		return &r.Top
	}
	if err := s.dir(idle, active, "", top(opt.Was), &opt.Root.Top, top(opt.Beside)); err != nil {
		return &s.res, err
	}
	if err := s.relink(idle); err != nil {
		return &s.res, err
	}
	if err := s.applyMeta(idle, "", &opt.Root.Top); err != nil {
		return &s.res, err
	}
	if _, _, errno := unix.Syscall(unix.SYS_SYNCFS, uintptr(idle), 0, 0); errno != 0 {
		return &s.res, errno
	}
	return &s.res, nil
}

func (s *standby) entries(e *object.Entry) (map[string]object.Entry, error) {
	out := map[string]object.Entry{}
	if e == nil || e.Kind != object.Dir {
		return out, nil
	}
	err := object.WalkDir(s.opt.Source.Get, e.Content, nil, func(x object.Entry) error {
		out[string(x.Name)] = x
		return nil
	})
	return out, err
}

// dir brings one directory up to date. active is -1 where the active tree has none.
func (s *standby) dir(idle, active int, rel string, was, will, beside *object.Entry) error {
	if err := s.ctx.Err(); err != nil {
		return err
	}
	if was != nil && was.Kind == object.Dir && was.Content == will.Content && (!s.opt.Additive || beside == nil ||
		beside.Content == will.Content) {
		return nil
	}
	p := &place{r: s.restorer, fd: idle, private: s.private}
	defer p.end()
	before, err := s.entries(was)
	if err != nil {
		return err
	}
	next, err := s.entries(beside)
	if err != nil {
		return err
	}
	has := map[string]bool{}
	err = object.WalkDir(s.opt.Source.Get, will.Content, nil, func(e object.Entry) error {
		name := string(e.Name)
		old, had := before[name]
		other, there := next[name]
		delete(before, name)
		has[name] = true
		var o, n *object.Entry
		if had {
			o = &old
		}
		if there && active >= 0 {
			n = &other
		}
		return s.one(p, active, path.Join(rel, name), o, &e, n)
	})
	if err != nil {
		return err
	}
	if s.opt.Additive {
		return s.keepRest(idle, active, rel, func(name string) bool { return has[name] })
	}
	for name := range before {
		s.act(path.Join(rel, name), "remove")
		if err := removeAll(idle, name); err != nil {
			s.remark(path.Join(rel, name), "could not be removed: %s", plainError(err))
		}
	}
	return nil
}

func (s *standby) one(p *place, active int, rel string, was, will, beside *object.Entry) error {
	name, idle := string(will.Name), p.fd
	if will.Kind == object.Dir {
		return s.subdir(p, active, rel, was, will, beside)
	}
	if was != nil && sameEntry(was, will) {
		return nil
	}
	if err := removeAll(idle, name); err != nil {
		s.remark(rel, "could not be replaced: %s", plainError(err))
		return nil
	}
	what := "create"
	if was != nil {
		what = "replace"
	}
	s.act(rel, what)
	if beside != nil && will.Kind == object.File && sameEntry(beside, will) && unix.Linkat(active, name, idle, name,
		0) == nil {
		return nil
	}
	s.mu.Lock()
	s.res.Bytes += will.Size
	s.mu.Unlock()
	if err := s.makeAt(p, rel, name, will); err != nil {
		return s.explain(rel, err)
	}
	return nil
}

// makeAt makes an entry where none of its name is.
func (s *standby) makeAt(p *place, rel, name string, e *object.Entry) error {
	at, err := p.staging()
	if err != nil {
		return err
	}
	temp := name
	if at != p.fd {
		temp = tempName()
	}
	if err = s.make(at, rel, temp, e); err == nil && temp != name {
		err = putInPlace(at, temp, p.fd, name)
	}
	if err != nil {
		unix.Unlinkat(at, temp, 0)
	}
	return err
}

// makeDir makes a directory where none of its name is, and opens it.
func (s *standby) makeDir(p *place, name string) (int, error) {
	at, err := p.staging()
	if err != nil {
		return -1, err
	}
	if at == p.fd {
		return s.newDir(at, name)
	}
	temp := tempName()
	fd, err := s.newDir(at, temp)
	if err != nil {
		return -1, err
	}
	if err := unix.Renameat2(at, temp, p.fd, name, unix.RENAME_NOREPLACE); err != nil {
		unix.Close(fd)
		return -1, err
	}
	return fd, nil
}

func (s *standby) subdir(p *place, active int, rel string, was, will, beside *object.Entry) error {
	name, idle := string(will.Name), p.fd
	if was != nil && was.Kind != object.Dir {
		was = nil
	}
	sub := -1
	if was == nil {
		var err error
		sub, err = s.makeDir(p, name)
		if errors.Is(err, unix.EEXIST) {
			var st unix.Stat_t
			if unix.Fstatat(idle, name, &st, unix.AT_SYMLINK_NOFOLLOW) == nil && kindOf(st.Mode) == object.Dir &&
				s.opt.Additive {
				err = nil // it stayed from before
			} else if err = removeAll(idle, name); err == nil {
				sub, err = s.makeDir(p, name)
			}
		}
		if err != nil {
			return s.explain(rel, err)
		}
		s.act(rel, "create")
	}
	if sub < 0 {
		var err error
		if sub, err = openDirAt(idle, name); err != nil {
			return s.explain(rel, err)
		}
	}
	defer unix.Close(sub)
	next := -1
	if active >= 0 && beside != nil && beside.Kind == object.Dir {
		var err error
		if next, err = openDirAt(active, name); err == nil {
			defer unix.Close(next)
		} else {
			next, beside = -1, nil
		}
	} else {
		beside = nil
	}
	if was != nil && sameEntry(was, will) && (!s.opt.Additive || beside == nil || beside.Content == will.Content) {
		return nil
	}
	if err := s.dir(sub, next, rel, was, will, beside); err != nil {
		return err
	}
	return s.applyMeta(sub, rel, will)
}

// keepRest gives a directory of the idle tree what only the active one has, as it is there:
// additive trees lose nothing.
func (s *standby) keepRest(idle, active int, rel string, has func(name string) bool) error {
	if active < 0 {
		return nil
	}
	names, err := readNames(active)
	if err != nil {
		return err
	}
	for _, name := range names {
		if has(name) {
			continue
		}
		if err := s.ctx.Err(); err != nil {
			return err
		}
		if err := s.keep(idle, active, path.Join(rel, name), name); err != nil {
			s.remark(path.Join(rel, name), "could not be kept: %s", plainError(err))
		}
	}
	return nil
}

func (s *standby) keep(idle, active int, rel, name string) error {
	var is, was unix.Stat_t
	if err := unix.Fstatat(active, name, &is, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return err
	}
	there := unix.Fstatat(idle, name, &was, unix.AT_SYMLINK_NOFOLLOW) == nil
	if there && was.Ino == is.Ino {
		return nil
	}
	both := there && kindOf(was.Mode) == object.Dir && kindOf(is.Mode) == object.Dir
	if there && !both {
		if err := removeAll(idle, name); err != nil {
			return err
		}
	}
	if kindOf(is.Mode) != object.Dir {
		return unix.Linkat(active, name, idle, name, 0)
	}
	if !both {
		if err := unix.Mkdirat(idle, name, 0o700); err != nil {
			return err
		}
	}
	from, err := openDirAt(active, name)
	if err != nil {
		return err
	}
	defer unix.Close(from)
	to, err := openDirAt(idle, name)
	if err != nil {
		return err
	}
	defer unix.Close(to)
	if err := s.keepRest(to, from, rel, func(string) bool { return false }); err != nil {
		return err
	}
	return errors.Join(unix.Fchown(to, int(is.Uid), int(is.Gid)), unix.Fchmod(to, is.Mode&0o7777),
		unix.UtimesNanoAt(unix.AT_FDCWD, procPath(to, ""), []unix.Timespec{is.Atim, is.Mtim}, 0))
}

func sameEntry(a, b *object.Entry) bool {
	return a.Kind == b.Kind && a.Mode == b.Mode && a.UID == b.UID && a.GID == b.GID && a.MTime == b.MTime &&
		a.Size == b.Size && a.HasContent == b.HasContent && a.Content == b.Content &&
		a.Major == b.Major && a.Minor == b.Minor && bytes.Equal(a.Target, b.Target) && sameXattrs(a.Xattrs, b.Xattrs)
}

// relink makes the names of one file names of one file again. Names that were of one file
// and are no more get a file each.
func (s *standby) relink(idle int) error {
	if was := s.opt.Was; was != nil && was.HasLinks && (!s.opt.Root.HasLinks || was.Links != s.opt.Root.Links) {
		err := object.WalkLinks(s.opt.Source.Get, was.Links, func(paths [][]byte) error {
			for _, p := range paths {
				if err := s.anew(idle, string(p)); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	if !s.opt.Root.HasLinks {
		return nil
	}
	return object.WalkLinks(s.opt.Source.Get, s.opt.Root.Links, func(paths [][]byte) error {
		// A list of names comes with the snapshot: no name of it may lead through a link.
		from, err := openPath(idle, path.Dir(string(paths[0])))
		if err != nil {
			s.remark(string(paths[0]), "is no name of a file: %s", plainError(err))
			return nil
		}
		defer unix.Close(from)
		base := path.Base(string(paths[0]))
		var first unix.Stat_t
		if err := unix.Fstatat(from, base, &first, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return nil // it could not be made, and that was told
		}
		for _, p := range paths[1:] {
			rel := string(p)
			err := s.within(idle, rel, func(dir int, name string) error {
				var st unix.Stat_t
				if unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW) == nil && st.Ino == first.Ino && st.Dev == first.Dev {
					return nil
				}
				if err := unix.Unlinkat(dir, name, 0); err != nil && !errors.Is(err, unix.ENOENT) {
					return err
				}
				return unix.Linkat(from, base, dir, name, 0)
			})
			if err != nil {
				s.remark(rel, "could not become another name of %s: %s", paths[0], plainError(err))
			}
		}
		return nil
	})
}

// anew writes the file at a path as one of its own, if the snapshot has one there.
func (s *standby) anew(idle int, rel string) error {
	e, err := Lookup(s.opt.Source.Get, s.opt.Root, rel)
	if errors.Is(err, ErrNoPath) || err == nil && e.Kind != object.File {
		return nil
	} else if err != nil {
		return err
	}
	return s.within(idle, rel, func(dir int, name string) error {
		if err := unix.Unlinkat(dir, name, 0); err != nil && !errors.Is(err, unix.ENOENT) {
			return err
		}
		p := &place{r: s.restorer, fd: dir, private: s.private}
		defer p.end()
		if err := s.makeAt(p, rel, name, &e); err != nil {
			return s.explain(rel, err)
		}
		return nil
	})
}

// within opens the directory of a path in the idle tree and puts its times back afterwards.
func (s *standby) within(idle int, rel string, do func(dir int, name string) error) error {
	dir := path.Dir(rel)
	fd, err := openPath(idle, dir)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if err := do(fd, path.Base(rel)); err != nil || dir == "." {
		return err
	}
	e, err := Lookup(s.opt.Source.Get, s.opt.Root, dir)
	if err != nil {
		return err
	}
	return unix.UtimesNanoAt(unix.AT_FDCWD, procPath(fd, ""), timespecs(e.MTime), 0)
}
