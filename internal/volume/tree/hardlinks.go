package tree

import (
	"path"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// loadLinks finds which of the picked paths are names of one file.
func (r *restorer) loadLinks() error {
	if !r.opt.Root.HasLinks {
		return nil
	}
	err := object.WalkLinks(r.opt.Source.Get, r.opt.Root.Links, func(paths [][]byte) error {
		var set *linkSet
		for _, p := range paths {
			rel := string(p)
			if !r.picked.wants(rel) {
				continue
			}
			if set == nil {
				set = &linkSet{first: rel}
			}
			set.paths = append(set.paths, rel)
			r.links[rel] = set
		}
		if set != nil && len(paths) > 0 {
			alone := 0
			for _, p := range paths {
				if r.links[string(p)] == set {
					alone++
				}
			}
			if alone == 1 {
				delete(r.links, set.first)
			}
		}
		return nil
	})
	if damaged(err) {
		r.remark("", "which names are those of one file is damaged in the store; such names come back as files of "+
			"their own: %s", err)
		return nil
	}
	return err
}

// finishLinks gives files their further names, then sets the times of the
// directories that this touched.
func (r *restorer) finishLinks(top int) error {
	touched := map[string]bool{}
	for _, l := range r.later {
		set, at := r.links[l.path], r.dest(l.path)
		var err error
		switch {
		case set.at != "":
			err = r.link(top, set.at, at)
		case l.what != "":
			err = r.writeAlone(top, l.path, at, &l.entry)
		}
		if err != nil {
			if l.what != "" {
				r.failed(l.path, l.what, &object.Entry{}) // its bytes were not counted
			}
			r.remark(l.path, "could not become another name of %s: %s", r.dest(set.first), plainError(err))
			continue
		}
		if set.at == "" {
			set.at = at
		}
		touched[path.Dir(l.path)] = true
	}
	for dir := range touched {
		if dir == "." || !r.picked.whole(dir) {
			continue
		}
		e, err := Lookup(r.opt.Source.Get, r.opt.Root, dir)
		if err != nil {
			return err
		}
		fd, err := openPath(top, r.dest(dir))
		if err != nil {
			return err
		}
		err = r.applyMeta(fd, dir, &e)
		unix.Close(fd)
		if err != nil {
			return err
		}
	}
	return nil
}

// otherNames is how many names a live file has that are not restored with a path: they must
// neither change with it nor stay one file with it.
func (r *restorer) otherNames(rel string, st *unix.Stat_t) int {
	if kindOf(st.Mode) == object.Dir || st.Nlink < 2 {
		return 0
	}
	set, linked := r.links[rel]
	if !linked {
		return int(st.Nlink) - 1
	}
	others := int(st.Nlink)
	for _, p := range set.paths {
		at := r.dest(p)
		dir, err := openPath(r.top, path.Dir(at))
		if err != nil {
			continue
		}
		var b unix.Stat_t
		if unix.Fstatat(dir, path.Base(at), &b, unix.AT_SYMLINK_NOFOLLOW) == nil && b.Ino == st.Ino && b.Dev == st.Dev {
			others--
		}
		unix.Close(dir)
	}
	return others
}

// part tells that a file will no longer be one with names that are not restored.
func (r *restorer) part(rel string, others int) {
	if others > 0 && !r.opt.Plan {
		r.remark(rel, "it had %d more names elsewhere: they stay as they were, and are another file now", others)
	}
}

// standsAt notes that a path's content is in the target, for its further names.
func (r *restorer) standsAt(rel string) {
	if set, linked := r.links[rel]; linked && set.first == rel {
		r.mu.Lock()
		set.at = r.dest(rel)
		r.mu.Unlock()
	}
}

// writeAlone writes a further name of a file whose first name was left as it was.
func (r *restorer) writeAlone(top int, rel, at string, e *object.Entry) error {
	fd, err := openPath(top, path.Dir(at))
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	p := &place{r: r, fd: fd}
	defer p.end()
	stage, err := p.staging()
	if err != nil {
		return err
	}
	temp := tempName()
	if err = r.make(stage, rel, temp, e); err == nil {
		err = putInPlace(stage, temp, fd, path.Base(at))
	}
	return err
}

func openPath(top int, rel string) (int, error) {
	return unix.Openat2(top, rel, &unix.OpenHow{Flags: unix.O_RDONLY | unix.O_DIRECTORY | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS})
}

func (r *restorer) link(top int, first, second string) error {
	from, err := openPath(top, path.Dir(first))
	if err != nil {
		return err
	}
	defer unix.Close(from)
	to, err := openPath(top, path.Dir(second))
	if err != nil {
		return err
	}
	defer unix.Close(to)
	var a, b unix.Stat_t
	if err := unix.Fstatat(from, path.Base(first), &a, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return err
	}
	if unix.Fstatat(to, path.Base(second), &b, unix.AT_SYMLINK_NOFOLLOW) == nil && a.Ino == b.Ino && a.Dev == b.Dev {
		return nil
	}
	p := &place{r: r, fd: to}
	defer p.end()
	stage, err := p.staging()
	if err != nil {
		return err
	}
	temp := tempName()
	if err := unix.Linkat(from, path.Base(first), stage, temp, 0); err != nil {
		return err
	}
	return putInPlace(stage, temp, to, path.Base(second))
}
