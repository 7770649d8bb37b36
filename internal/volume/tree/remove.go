package tree

import (
	"context"
	"errors"
	"os"
	"path"
	"path/filepath"
	"strings"

	"candidharbor/core/object"
	"candidharbor/internal/beneath"

	"golang.org/x/sys/unix"
)

// removeExtra takes away a live name that the wanted snapshot does not have. What
// snapshots leave out, and other filesystems mounted below, are not the volume's and
// stay.
func (r *restorer) removeExtra(fd int, rel, name string) {
	if r.leftOut(fd, rel, name) {
		return
	}
	if r.opt.Plan {
		r.act(rel, "remove")
		return
	}
	left, err := false, error(nil)
	if r.opt.OwnCopy {
		err = removeAll(fd, name)
	} else if r.opt.Left != nil {
		if left, err = r.removeLeft(fd, rel, name); err == nil && left {
			r.othersWork(rel, "stays, because it is or holds what somebody else made or changed since")
			return
		}
	} else {
		left, err = r.removeKnown(fd, rel, name, false)
	}
	switch {
	case err != nil:
		r.remark(rel, "could not be removed: %s", plainError(err))
	case left:
		r.remark(rel, "stays, because it is or holds what the safety snapshot does not have")
	default:
		r.act(rel, "remove")
	}
}

// removePicked takes away the picked paths below a live directory that the wanted snapshot
// does not have, and the directory when nothing else is in it.
func (r *restorer) removePicked(fd int, rel, name string) {
	sub, err := openDirAt(fd, name)
	if err != nil {
		return
	}
	defer unix.Close(sub)
	names, err := readNames(sub)
	if err != nil {
		r.remark(rel, "could not be listed: %s", plainError(err))
		return
	}
	for _, n := range names {
		switch child := rel + "/" + n; {
		case r.picked.whole(child):
			r.removeExtra(sub, child, n)
		case r.picked.above[child]:
			r.removePicked(sub, child, n)
		}
	}
	if r.opt.Plan {
		return
	}
	if err := unix.Unlinkat(fd, name, unix.AT_REMOVEDIR); err == nil {
		r.act(rel, "remove")
	}
}

// timeBack gives a directory above picked paths the time that it had, when it holds the
// same names again.
func (r *restorer) timeBack(fd int, rel string, id object.ID, e *object.Entry) {
	if r.opt.Plan {
		return
	}
	names, err := readNames(fd)
	if err != nil {
		return
	}
	had := map[string]bool{}
	if object.WalkDir(r.opt.Source.Get, id, nil, func(e object.Entry) error {
		had[string(e.Name)] = true
		return nil
	}) != nil {
		return
	}
	covered := 0
	for _, n := range names {
		if had[n] {
			covered++
		} else if !r.leftOut(fd, path.Join(rel, n), n) {
			return
		}
	}
	if covered != len(had) {
		return
	}
	_ = unix.UtimesNanoAt(unix.AT_FDCWD, procPath(fd, "."), []unix.Timespec{{Nsec: unix.UTIME_OMIT},
		unix.NsecToTimespec(e.MTime)}, 0)
}

// leftOut reports whether snapshots do not cover a live name.
func (r *restorer) leftOut(fd int, rel, name string) bool {
	var st, above unix.Stat_t
	if unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) != nil || unix.Fstat(fd, &above) != nil {
		return true
	}
	s := &scanner{opt: ScanOptions{Excludes: r.opt.Excludes}}
	return st.Dev != above.Dev || s.excluded(rel)
}

// removeKnown removes a live entry as far as the safety snapshot has it, as it is now,
// and reports whether anything had to stay. With look it only tells.
func (r *restorer) removeKnown(fd int, rel, name string, look bool) (left bool, err error) {
	if r.opt.Safety == nil {
		return true, nil
	}
	e, err := Lookup(r.opt.Source.Get, r.opt.Safety, rel)
	if errors.Is(err, ErrNoPath) {
		return true, nil
	}
	if err != nil {
		return true, err
	}
	var st unix.Stat_t
	if err := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		if errors.Is(err, unix.ENOENT) {
			return false, nil
		}
		return true, err
	}
	switch {
	case kindOf(st.Mode) != e.Kind, r.leftOut(fd, rel, name):
		return true, nil
	case e.Kind == object.File && (st.Size != e.Size || unix.TimespecToNsec(st.Mtim) != e.MTime):
		return true, nil // changed since the safety snapshot
	case e.Kind != object.Dir:
		if look {
			return false, nil
		}
		return false, unix.Unlinkat(fd, name, 0)
	}
	sub, err := openDirAt(fd, name)
	if err != nil {
		return true, err
	}
	defer unix.Close(sub)
	names, err := readNames(sub)
	if err != nil {
		return true, err
	}
	for _, n := range names {
		l, err := r.removeKnown(sub, rel+"/"+n, n, look)
		if err != nil {
			return true, err
		}
		left = left || l
	}
	if left || look {
		return left, nil
	}
	return false, unix.Unlinkat(fd, name, unix.AT_REMOVEDIR)
}

// removeAll removes an entry and all below it, following nothing and never entering
// another filesystem.
func removeAll(dirfd int, name string) error {
	err := unix.Unlinkat(dirfd, name, 0)
	if err == nil || errors.Is(err, unix.ENOENT) {
		return nil
	}
	sub, derr := openDirAt(dirfd, name)
	if derr != nil {
		return err
	}
	defer unix.Close(sub)
	var here, above unix.Stat_t
	if err := errors.Join(unix.Fstat(sub, &here), unix.Fstat(dirfd, &above)); err != nil {
		return err
	}
	if here.Dev != above.Dev {
		return unix.EXDEV
	}
	names, lerr := readNames(sub)
	for _, n := range names {
		lerr = errors.Join(lerr, removeAll(sub, n))
	}
	if lerr != nil {
		return lerr
	}
	return unix.Unlinkat(dirfd, name, unix.AT_REMOVEDIR)
}

// RemoveParts takes away what a restore that was killed left unfinished in and beside its
// target, which must lie below root. It returns how many names it removed.
func RemoveParts(ctx context.Context, root, target string) (int, error) {
	n := 0
	if parent, err := beneath.Open(root, filepath.Dir(target)); err == nil {
		n = removePartsIn(ctx, parent, false)
		unix.Close(parent)
	}
	fd, err := beneath.Open(root, target)
	if errors.Is(err, os.ErrNotExist) {
		return n, nil
	}
	if err != nil {
		return n, err
	}
	defer unix.Close(fd)
	return n + removePartsIn(ctx, fd, true), ctx.Err()
}

func removePartsIn(ctx context.Context, fd int, deep bool) (n int) {
	var here unix.Stat_t
	names, err := readNames(fd)
	if err != nil || unix.Fstat(fd, &here) != nil {
		return 0
	}
	for _, name := range names {
		var st unix.Stat_t
		switch {
		case ctx.Err() != nil:
			return n
		case strings.HasPrefix(name, tempPrefix) && len(name) == len(tempPrefix)+16:
			if removeAll(fd, name) == nil {
				n++
			}
		case deep && unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) == nil && kindOf(st.Mode) == object.Dir &&
			st.Dev == here.Dev:
			if sub, err := openDirAt(fd, name); err == nil {
				n += removePartsIn(ctx, sub, true)
				unix.Close(sub)
			}
		}
	}
	return n
}
