package tree

import (
	"bytes"
	"errors"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// left returns what the run that is taken back left at a path; nil: nothing.
func (r *restorer) left(rel string) (e *object.Entry, err error) {
	r.asService(func() { e, err = r.opt.Left(rel) })
	return e, err
}

// asLeft reports whether a live entry is as the run that is taken back left it. What it is
// not, somebody changed since. With want, which differs in metadata alone, each of mode and time
// may also be what is wanted: an undo that was cut short leaves that.
func (r *restorer) asLeft(fd int, name, rel string, st *unix.Stat_t, want *object.Entry) (bool, error) {
	if r.opt.Left == nil {
		return true, nil
	}
	if want != nil && want.Kind == object.Dir && st.Mode&unfinishedBits == unfinishedBits {
		return true, nil // made by an undo that was cut short
	}
	e, err := r.left(rel)
	if err != nil || e == nil || kindOf(st.Mode) != e.Kind {
		return false, err
	}
	if e.Kind != object.Symlink && st.Mode&0o777 != e.Mode&0o777 &&
		(want == nil || st.Mode&0o777 != want.Mode&0o777) {
		return false, nil
	}
	switch e.Kind {
	case object.Symlink:
		target, err := readLink(fd, name)
		return bytes.Equal(target, e.Target), err
	case object.CharDevice, object.BlockDevice:
		return unix.Major(st.Rdev) == e.Major && unix.Minor(st.Rdev) == e.Minor, nil
	case object.File:
	default:
		return true, nil
	}
	if time := unix.TimespecToNsec(st.Mtim); st.Size != e.Size ||
		time != e.MTime && (want == nil || time != want.MTime) {
		return false, nil
	}
	return r.sameBytes(fd, name, e)
}

// othersWork tells that something stays as somebody else made it since.
func (r *restorer) othersWork(rel, what string) {
	r.mu.Lock()
	r.res.Others++
	r.mu.Unlock()
	r.remark(rel, "%s", what)
}

// removeLeft removes what the run that is taken back left, as far as it is still so, and
// reports whether anything stays.
func (r *restorer) removeLeft(fd int, rel, name string) (stays bool, err error) {
	var st unix.Stat_t
	if err := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW); errors.Is(err, unix.ENOENT) {
		return false, nil
	} else if err != nil {
		return true, err
	}
	if r.leftOut(fd, rel, name) {
		return true, nil
	}
	if kindOf(st.Mode) != object.Dir {
		if same, err := r.asLeft(fd, name, rel, &st, nil); err != nil || !same {
			return true, err
		}
		return r.removeKnown(fd, rel, name, false)
	}
	if e, err := r.left(rel); err != nil || e == nil || e.Kind != object.Dir {
		return true, err
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
		s, err := r.removeLeft(sub, rel+"/"+n, n)
		if err != nil {
			return true, err
		}
		stays = stays || s
	}
	if stays {
		return true, nil
	}
	return false, unix.Unlinkat(fd, name, unix.AT_REMOVEDIR)
}
