package tree

import (
	"bytes"
	"errors"
	"slices"
	"strconv"
	"strings"

	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// keptXattrs are the attribute namespaces that are recorded: users' own, ACLs, file
// capabilities and what only root sets.
var keptXattrs = []string{"user.", "system.posix_acl_", "security.capability", "trusted."}

func kindOf(mode uint32) object.EntryKind {
	switch mode & unix.S_IFMT {
	case unix.S_IFREG:
		return object.File
	case unix.S_IFDIR:
		return object.Dir
	case unix.S_IFLNK:
		return object.Symlink
	case unix.S_IFIFO:
		return object.FIFO
	case unix.S_IFSOCK:
		return object.Socket
	case unix.S_IFCHR:
		return object.CharDevice
	case unix.S_IFBLK:
		return object.BlockDevice
	}
	return 0
}

// TypeBits returns the bits of a mode, as stat tells it, that say what kind an entry is.
func TypeBits(k object.EntryKind) uint32 {
	switch k {
	case object.Dir:
		return unix.S_IFDIR
	case object.Symlink:
		return unix.S_IFLNK
	}
	return typeBits(k)
}

func typeBits(k object.EntryKind) uint32 {
	switch k {
	case object.FIFO:
		return unix.S_IFIFO
	case object.Socket:
		return unix.S_IFSOCK
	case object.CharDevice:
		return unix.S_IFCHR
	case object.BlockDevice:
		return unix.S_IFBLK
	}
	return unix.S_IFREG
}

// entryOf records what a stat tells; name is copied.
func entryOf(name string, st *unix.Stat_t) object.Entry {
	e := object.Entry{Kind: kindOf(st.Mode), Mode: st.Mode & 0o7777, UID: st.Uid, GID: st.Gid,
		MTime: unix.TimespecToNsec(st.Mtim)}
	if name != "" {
		e.Name = []byte(name)
	}
	switch e.Kind {
	case object.File:
		e.Size = st.Size
		e.Sparse = st.Blocks*512 < st.Size
	case object.CharDevice, object.BlockDevice:
		e.Major, e.Minor = unix.Major(st.Rdev), unix.Minor(st.Rdev)
	}
	return e
}

// procPath names an entry of an open directory for calls that take only paths. The
// last component is not followed by the l… calls.
func procPath(dirfd int, name string) string {
	p := "/proc/self/fd/" + strconv.Itoa(dirfd)
	if name == "" {
		return p
	}
	return p + "/" + name
}

type xattrCalls struct {
	list func([]byte) (int, error)
	get  func(string, []byte) (int, error)
}

func fdXattrs(fd int) xattrCalls {
	return xattrCalls{
		func(b []byte) (int, error) { return unix.Flistxattr(fd, b) },
		func(n string, b []byte) (int, error) { return unix.Fgetxattr(fd, n, b) },
	}
}

func pathXattrs(dirfd int, name string) xattrCalls {
	p := procPath(dirfd, name)
	return xattrCalls{
		func(b []byte) (int, error) { return unix.Llistxattr(p, b) },
		func(n string, b []byte) (int, error) { return unix.Lgetxattr(p, n, b) },
	}
}

// readXattrs returns the kept attributes sorted by name.
func readXattrs(c xattrCalls) ([]object.Xattr, error) {
	var small [512]byte
	names := small[:]
	n, err := c.list(names)
	if errors.Is(err, unix.ERANGE) {
		names = make([]byte, 64<<10)
		n, err = c.list(names)
	}
	if errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EPERM) {
		return nil, nil
	}
	if err != nil || n == 0 {
		return nil, err
	}
	var out []object.Xattr
	for _, raw := range bytes.Split(names[:n-1], []byte{0}) {
		name := string(raw)
		if !slices.ContainsFunc(keptXattrs, func(p string) bool { return strings.HasPrefix(name, p) }) {
			continue
		}
		val := make([]byte, 256)
		m, err := c.get(name, val)
		if errors.Is(err, unix.ERANGE) {
			val = make([]byte, 64<<10)
			m, err = c.get(name, val)
		}
		if errors.Is(err, unix.ENODATA) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, object.Xattr{Name: []byte(name), Value: val[:m:m]})
	}
	slices.SortFunc(out, func(a, b object.Xattr) int { return bytes.Compare(a.Name, b.Name) })
	return out, nil
}

func sameXattrs(a, b []object.Xattr) bool {
	return slices.EqualFunc(a, b, func(x, y object.Xattr) bool {
		return bytes.Equal(x.Name, y.Name) && bytes.Equal(x.Value, y.Value)
	})
}

// readLink reads a symbolic link's target.
func readLink(dirfd int, name string) ([]byte, error) {
	buf := make([]byte, 4096)
	n, err := unix.Readlinkat(dirfd, name, buf)
	return buf[:max(n, 0)], err
}

// openDirAt opens a directory below another without following a link.
func openDirAt(dirfd int, name string) (int, error) {
	return unix.Openat(dirfd, name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
}

// readNames returns the sorted names in an open directory.
func readNames(fd int) ([]string, error) {
	buf := make([]byte, 64<<10)
	var names []string
	if _, err := unix.Seek(fd, 0, 0); err != nil {
		return nil, err
	}
	for {
		n, err := unix.Getdents(fd, buf)
		if err != nil {
			return nil, err
		}
		if n == 0 {
			slices.Sort(names)
			return names, nil
		}
		_, _, names = unix.ParseDirent(buf[:n], -1, names)
	}
}
