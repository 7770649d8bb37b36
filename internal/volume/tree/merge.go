package tree

import (
	"bytes"
	"cmp"
	"errors"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// dir makes the picked entries of one directory appear in the open directory of a place.
// known is what the scan cache remembers of the live directory.
func (r *restorer) dir(p *place, rel string, id object.ID, known *cacheDir) error {
	defer p.end()
	fd := p.fd
	if err := r.ctx.Err(); err != nil {
		return err
	}
	var live map[string]bool
	if r.opt.Exact && !r.fresh {
		names, err := readNames(fd)
		if err != nil {
			return &os.PathError{Op: "list", Path: path.Join(r.opt.Target, rel), Err: err}
		}
		live = make(map[string]bool, len(names))
		for _, n := range names {
			live[n] = true
		}
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	var first error
	fail := func(err error) {
		mu.Lock()
		if first == nil {
			first = err
		}
		mu.Unlock()
	}
	failed := func() bool { mu.Lock(); defer mu.Unlock(); return first != nil }
	var part []object.Entry
	run := func(entries []object.Entry) {
		do := func() error {
			for i := range entries {
				if err := r.entry(p, path.Join(rel, string(entries[i].Name)), &entries[i], known); err != nil {
					return err
				}
			}
			return nil
		}
		select {
		case r.tokens <- struct{}{}:
			wg.Add(1)
			go func() {
				defer wg.Done()
				defer func() { <-r.tokens }()
				if err := r.inPerson(do); err != nil {
					fail(err)
				}
			}()
		default:
			if err := do(); err != nil {
				fail(err)
			}
		}
	}
	var hurt error // what of the directory itself cannot be read; all else is restored
	broken := func(err error) error {
		if !damaged(err) {
			return err
		}
		hurt = err
		return nil
	}
	err := object.WalkDirPast(r.opt.Source.Get, id, nil, broken, func(e object.Entry) error {
		if failed() {
			return object.ErrStop
		}
		delete(live, string(e.Name))
		if !r.picked.wants(path.Join(rel, string(e.Name))) {
			return nil
		}
		if part = append(part, e); len(part) == 32 || e.Kind == object.Dir {
			run(part)
			part = nil
		}
		return nil
	})
	if err == nil && len(part) > 0 {
		run(part)
	}
	wg.Wait()
	if err = cmp.Or(err, first, hurt); err != nil {
		return err
	}
	for name := range live {
		switch child := path.Join(rel, name); {
		case r.picked.whole(child):
			r.removeExtra(fd, child, name)
		case r.picked.above[child]:
			r.removePicked(fd, child, name)
		}
	}
	return nil
}

// entry makes one entry appear.
func (r *restorer) entry(p *place, rel string, e *object.Entry, known *cacheDir) error {
	fd := p.fd
	if err := r.ctx.Err(); err != nil {
		return err
	}
	name := string(e.Name)
	var st unix.Stat_t
	err := unix.ENOENT
	if !r.fresh {
		if serr := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW); serr == nil {
			err = 0
		} else if !errors.Is(serr, unix.ENOENT) {
			r.act(rel, "fail")
			r.remark(rel, "could not be looked at: %s", plainError(serr))
			return nil
		}
	}
	if err == unix.ENOENT {
		if r.opt.Left != nil {
			if was, err := r.left(rel); err != nil {
				return err
			} else if was != nil {
				r.act(rel, "skip")
				r.othersWork(rel, "not brought back: somebody else took it away since")
				return nil
			}
		}
		return r.create(p, rel, name, e, "create")
	}
	if e.Kind == object.Dir && kindOf(st.Mode) == object.Dir {
		return r.mergeDir(fd, rel, name, e, &st, known)
	}
	same, err2 := r.sameContent(fd, name, rel, e, &st, known)
	if err2 != nil {
		r.act(rel, "fail")
		r.remark(rel, "could not be compared: %s", plainError(err2))
		return nil
	}
	if same {
		return r.adjust(p, rel, name, e, &st)
	}
	if still, err := r.asLeft(fd, name, rel, &st, nil); err != nil {
		r.act(rel, "fail")
		r.remark(rel, "could not be compared: %s", plainError(err))
		return nil
	} else if !still {
		r.act(rel, "skip")
		r.othersWork(rel, "left as it is: somebody else changed it since")
		return nil
	}
	switch {
	case r.opt.OnConflict == Skip && !r.opt.Exact,
		r.opt.OnConflict == Older && unix.TimespecToNsec(st.Mtim) >= e.MTime:
		r.act(rel, "skip")
		return nil
	case r.opt.OnConflict == KeepBoth:
		name = withSuffix(name, r.opt.Suffix)
		if unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) == nil {
			r.act(rel, "skip")
			return nil
		}
		r.mu.Lock()
		r.moved[rel] = path.Join(path.Dir(rel), name)
		if len(r.res.Beside) < besideKept {
			r.res.Beside = append(r.res.Beside, r.moved[rel])
		}
		r.mu.Unlock()
		return r.create(p, rel, name, e, "create")
	}
	if !r.opt.Plan && r.opt.Safety != nil {
		if left, err := r.removeKnown(fd, rel, name, true); err != nil || left {
			r.act(rel, "skip")
			r.remark(rel, "left as it is: the safety snapshot does not have what stands there now")
			return nil
		}
	}
	r.part(rel, r.otherNames(rel, &st))
	return r.create(p, rel, name, e, "replace")
}

// withSuffix puts the suffix before the extension and keeps the name's length legal.
func withSuffix(name, suffix string) string {
	ext := filepath.Ext(name)
	if ext == name {
		ext = ""
	}
	base := strings.TrimSuffix(name, ext)
	if over := len(base) + len(suffix) + len(ext) - 255; over > 0 && over < len(base) {
		base = base[:len(base)-over]
	}
	return base + suffix + ext
}

func (r *restorer) mergeDir(fd int, rel, name string, e *object.Entry, st *unix.Stat_t, known *cacheDir) error {
	sub, err := openDirAt(fd, name)
	if err != nil {
		r.act(rel, "fail")
		r.remark(rel, "could not be opened: %s", plainError(err))
		return nil
	}
	defer unix.Close(sub)
	var below *cacheDir
	if known != nil {
		if i, ok := known.find(name); ok {
			below = r.opt.Cache.readDir(known.entries[i].child)
		}
	}
	if err := r.dir(&place{r: r, fd: sub}, rel, e.Content, below); err != nil {
		return r.listed(rel, err)
	}
	if !r.picked.whole(rel) {
		if r.opt.Exact {
			r.timeBack(sub, rel, e.Content, e)
		}
		return nil
	}
	xattrs, err := readXattrs(fdXattrs(sub))
	if err == nil && metaEqual(e, st) && sameXattrs(xattrs, e.Xattrs) {
		r.act(rel, "keep")
		if !r.opt.Plan { // what was put below has moved the directory's time
			return r.applyMeta(sub, rel, e)
		}
		return nil
	}
	if r.opt.OnConflict == Skip && !r.opt.Exact && st.Mode&unfinishedBits != unfinishedBits {
		return nil
	}
	if still, err := r.asLeft(fd, name, rel, st, e); err != nil || !still {
		return err // what somebody else set on it since stays
	}
	r.act(rel, "adjust")
	if r.opt.Plan {
		return nil
	}
	return r.applyMeta(sub, rel, e)
}

func metaEqual(e *object.Entry, st *unix.Stat_t) bool {
	return e.Mode == st.Mode&0o7777 && e.UID == st.Uid && e.GID == st.Gid && e.MTime == unix.TimespecToNsec(st.Mtim)
}

func (d *cacheDir) find(name string) (int, bool) {
	return slices.BinarySearchFunc(d.entries, name, func(e cacheEntry, n string) int {
		return bytes.Compare(e.name, []byte(n))
	})
}
