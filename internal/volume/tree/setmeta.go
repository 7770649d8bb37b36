package tree

import (
	"cmp"
	"errors"
	"unsafe"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// applyMeta sets owner, attributes, times and mode of an open entry, in the order in
// which none undoes another, and tells what did not come about. The mode is last: a directory is
// unfinished until then. What a new entry inherits from the directory that it is made in, its
// group and a default ACL, is taken off it again.
func (r *restorer) applyMeta(fd int, rel string, e *object.Entry) error {
	var why refused
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	if st.Uid != e.UID || st.Gid != e.GID {
		why.owner = unix.Fchown(fd, int(e.UID), int(e.GID))
	}
	if have, err := readXattrs(fdXattrs(fd)); err == nil {
		r.removeOthers(rel, have, e, func(name string) error { return unix.Fremovexattr(fd, name) })
	}
	why.xattrs = setXattrs(e, func(name string, value []byte) error { return unix.Fsetxattr(fd, name, value, 0) })
	ts := timespecs(e.MTime)
	if _, _, errno := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(fd), 0, uintptr(unsafe.Pointer(&ts[0])), 0, 0,
		0); errno != 0 {
		why.time = errno
	}
	why.mode = setMode(e, why.owner, func(mode uint32) error { return unix.Fchmod(fd, mode) })
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	r.proveMeta(rel, e, &st, why)
	r.proveXattrs(rel, e, fdXattrs(fd), why)
	return nil
}

// removeOthers removes the attributes that an entry has and should not have.
func (r *restorer) removeOthers(rel string, have []object.Xattr, e *object.Entry, remove func(name string) error) {
	for _, x := range have {
		if hasXattr(e.Xattrs, x.Name) {
			continue
		}
		if err := remove(string(x.Name)); err != nil {
			r.remark(rel, "attribute %s could not be removed: %s", x.Name, plainError(err))
		}
	}
}

// setXattrs sets an entry's attributes and returns why some could not be set.
func setXattrs(e *object.Entry, set func(name string, value []byte) error) (why map[string]error) {
	for _, x := range e.Xattrs {
		if err := set(string(x.Name), x.Value); err != nil {
			if why == nil {
				why = map[string]error{}
			}
			why[string(x.Name)] = err
		}
	}
	return why
}

func hasXattr(xs []object.Xattr, name []byte) bool {
	for _, x := range xs {
		if string(x.Name) == string(name) {
			return true
		}
	}
	return false
}

func timespecs(ns int64) []unix.Timespec {
	t := unix.NsecToTimespec(ns)
	return []unix.Timespec{t, t}
}

// setMode sets a mode. A program that would run as somebody else than it did does not get the
// bits for that.
func setMode(e *object.Entry, owner error, set func(mode uint32) error) error {
	if owner == nil || e.Kind == object.Dir || e.Mode&0o6000 == 0 {
		return set(e.Mode)
	}
	if err := set(e.Mode &^ 0o6000); err != nil {
		return err
	}
	return errNotItsOwner
}

var errNotItsOwner = errors.New("it would run as another than it did")

var errSwapped = errors.New("somebody else put something in its place meanwhile")

// applyMetaAt is applyMeta for what cannot be opened for reading: links, FIFOs, devices,
// sockets. The name is looked up once; is says what must stand there, nil for what was made
// where nobody else may.
func (r *restorer) applyMetaAt(dirfd int, rel, name string, e *object.Entry, is *unix.Stat_t) error {
	fd, err := unix.Openat(dirfd, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	if kindOf(st.Mode) != e.Kind || is != nil && (st.Ino != is.Ino || st.Dev != is.Dev) {
		return errSwapped
	}
	var why refused
	self := procPath(fd, "") // which the kernel follows to what is open, and no further
	if st.Uid != e.UID || st.Gid != e.GID {
		why.owner = unix.Fchownat(fd, "", int(e.UID), int(e.GID), unix.AT_EMPTY_PATH)
	}
	xattrs := xattrCalls{
		func(b []byte) (int, error) { return unix.Listxattr(self, b) },
		func(n string, b []byte) (int, error) { return unix.Getxattr(self, n, b) },
	}
	if e.Kind != object.Symlink { // which have no ACL
		if have, err := readXattrs(xattrs); err == nil {
			r.removeOthers(rel, have, e, func(key string) error { return unix.Removexattr(self, key) })
		}
	}
	why.xattrs = setXattrs(e, func(key string, value []byte) error { return unix.Setxattr(self, key, value, 0) })
	if e.Kind != object.Symlink {
		why.mode = setMode(e, why.owner, func(mode uint32) error { return unix.Chmod(self, mode) })
	}
	why.time = unix.UtimesNanoAt(unix.AT_FDCWD, self, timespecs(e.MTime), 0)
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	r.proveMeta(rel, e, &st, why)
	r.proveXattrs(rel, e, xattrs, why)
	return nil
}

// adjust sets metadata where only it differs.
func (r *restorer) adjust(p *place, rel, name string, e *object.Entry, st *unix.Stat_t) error {
	fd := p.fd
	leave := r.opt.OnConflict == Skip && !r.opt.Exact || r.opt.OnConflict == KeepBoth
	if set, linked := r.links[rel]; linked && set.first != rel {
		r.act(rel, "keep")
		if !r.opt.Plan && !leave {
			r.mu.Lock()
			r.later = append(r.later, pendingLink{path: rel, entry: *e})
			r.mu.Unlock()
		}
		return nil
	}
	r.standsAt(rel)
	var xattrs []object.Xattr
	var err error
	// by way of /proc, where only the service may look
	r.asService(func() { xattrs, err = readXattrs(pathXattrs(fd, name)) })
	mode := e.Mode == st.Mode&0o7777 || e.Kind == object.Symlink
	if err == nil && mode && e.UID == st.Uid && e.GID == st.Gid && e.MTime == unix.TimespecToNsec(st.Mtim) &&
		sameXattrs(xattrs, e.Xattrs) {
		r.act(rel, "keep")
		return nil
	}
	if leave {
		r.act(rel, "skip")
		return nil
	}
	if still, err := r.asLeft(fd, name, rel, st, e); err != nil {
		r.remark(rel, "could not be compared: %s", plainError(err))
		return nil
	} else if !still { // what somebody else set on it since stays
		r.act(rel, "keep")
		return nil
	}
	if others := r.otherNames(rel, st); others > 0 {
		r.part(rel, others)
		return r.create(p, rel, name, e, "replace")
	}
	r.act(rel, "adjust")
	if r.opt.Plan {
		return nil
	}
	if e.Kind != object.File {
		if err := r.applyMetaAt(fd, rel, name, e, st); err != nil {
			r.remark(rel, "metadata could not be set: %s", plainError(err))
		}
		return nil
	}
	f, err := unix.Openat(fd, name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		r.remark(rel, "metadata could not be set: %s", plainError(err))
		return nil
	}
	defer unix.Close(f)
	var now unix.Stat_t
	if err := unix.Fstat(f, &now); err != nil || now.Ino != st.Ino || now.Dev != st.Dev {
		r.remark(rel, "metadata could not be set: %s", plainError(cmp.Or(err, errSwapped)))
		return nil
	}
	return r.applyMeta(f, rel, e)
}
