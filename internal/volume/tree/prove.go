package tree

import (
	"bytes"
	"errors"
	"strings"
	"sync"
	"time"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// What a restore writes is read back from the filesystem and compared: the content with what
// its identity vouches for, the metadata with what was recorded. So what a filesystem changes
// or leaves out without an error is reported as well.

var errNotAsWritten = errors.New("what was read back is not what was written: the target's filesystem or disk " +
	"is at fault")

const backSize = 128 << 10

var backBufs = sync.Pool{New: func() any { return new([backSize]byte) }}

// readBack compares what lies in a file with what was just written there.
func readBack(fd int, data []byte, off int64) error {
	buf := backBufs.Get().(*[backSize]byte)
	defer backBufs.Put(buf)
	for len(data) > 0 {
		n, err := unix.Pread(fd, buf[:min(backSize, len(data))], off)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return err
		}
		if n == 0 || !bytes.Equal(buf[:n], data[:n]) {
			return errNotAsWritten
		}
		data, off = data[n:], off+int64(n)
	}
	return nil
}

// refused is why parts of an entry's metadata could not be set.
type refused struct {
	owner, mode, time error
	xattrs            map[string]error
}

// because names the cause of something that is not as it was recorded.
func because(err error) string {
	if err == nil {
		return "although setting it was not refused"
	}
	return plainError(err)
}

// proveMeta tells what is not as it was recorded, and why.
func (r *restorer) proveMeta(rel string, e *object.Entry, st *unix.Stat_t, why refused) {
	if st.Uid != e.UID || st.Gid != e.GID {
		r.remark(rel, "owner %d:%d could not be set, it is %d:%d: %s", e.UID, e.GID, st.Uid, st.Gid, because(why.owner))
	}
	if mode := st.Mode & 0o7777; e.Kind != object.Symlink && mode != e.Mode {
		r.remark(rel, "mode %04o could not be set, it is %04o: %s", e.Mode, mode, because(why.mode))
	}
	if at := unix.TimespecToNsec(st.Mtim); at != e.MTime {
		r.remark(rel, "time %s could not be set, it is %s: %s", exactTime(e.MTime), exactTime(at), because(why.time))
	}
}

// proveXattrs tells which attributes are not as they were recorded, and why.
func (r *restorer) proveXattrs(rel string, e *object.Entry, c xattrCalls, why refused) {
	if len(e.Xattrs) == 0 {
		return
	}
	have, err := readXattrs(c)
	if err != nil {
		r.remark(rel, "attributes could not be read back: %s", plainError(err))
		return
	}
	for _, x := range e.Xattrs {
		name, stands := string(x.Name), false
		for _, h := range have {
			stands = stands || string(h.Name) == name && bytes.Equal(h.Value, x.Value)
		}
		if !stands && (why.xattrs[name] != nil || !sameAsMode(name, x.Value)) {
			r.remark(rel, "attribute %s could not be set: %s", name, because(why.xattrs[name]))
		}
	}
}

// sameAsMode reports whether an access list says no more than the mode does: filesystems
// then keep only the mode. It has a head of 4 bytes and three entries of 8.
func sameAsMode(name string, value []byte) bool {
	return strings.HasPrefix(name, "system.posix_acl_access") && len(value) <= 4+3*8
}

func exactTime(ns int64) string {
	return time.Unix(0, ns).UTC().Format("2006-01-02 15:04:05.000000000")
}
