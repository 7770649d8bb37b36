// Package hostdirs looks at directories of the host: what lies in them and how much that is. It opens no file, follows
// no link, enters no other filesystem, and looks at so much of each directory only.
package hostdirs

import (
	"cmp"
	"context"
	"io"
	"os"
	"slices"
	"time"

	"candidharbor/internal/beneath"

	"golang.org/x/sys/unix"
)

// Entry is a name in a directory.
type Entry struct {
	Name    string
	Dir     bool
	Mount   bool  // another filesystem is mounted there
	Closed  bool  // it cannot be read
	Files   int64 // below it that are no directories; of a file 1
	Bytes   int64 // their sizes
	AtLeast bool  // not all was looked at
}

const (
	mostEntries = 20_000 // that are counted below one name
	mostNames   = 10_000 // that are read of one directory
)

// List tells what lies in a directory below root, the largest first, and whether there is more than is told. It takes
// about the given time at most; what was not looked at by then is told as being at least so much.
func List(ctx context.Context, root, dir string, within time.Duration) (all []Entry, more bool, err error) {
	fd, err := beneath.Open(root, dir)
	if err != nil {
		return nil, false, err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return nil, false, err
	}
	names, err := namesOf(fd)
	if err != nil {
		return nil, false, err
	}
	if len(names) > mostNames {
		names, more = names[:mostNames], true
	}
	ends := time.Now().Add(within)
	for i, name := range names {
		if err := ctx.Err(); err != nil {
			return nil, false, err
		}
		e := Entry{Name: name}
		c := counter{dev: st.Dev, left: mostEntries, ends: time.Now().Add(time.Until(ends) / time.Duration(len(names)-i))}
		c.entry(fd, &e)
		all = append(all, e)
	}
	slices.SortStableFunc(all, func(a, b Entry) int { return cmp.Compare(b.Bytes, a.Bytes) })
	return all, more, nil
}

// counter counts what is below one name.
type counter struct {
	dev  uint64
	left int
	ends time.Time
}

func (c *counter) entry(at int, e *Entry) {
	var st unix.Stat_t
	if unix.Fstatat(at, e.Name, &st, unix.AT_SYMLINK_NOFOLLOW) != nil {
		e.Closed = true
		return
	}
	if st.Mode&unix.S_IFMT != unix.S_IFDIR {
		e.Files, e.Bytes = 1, sizeOf(&st)
		return
	}
	e.Dir = true
	if e.Mount = st.Dev != c.dev; e.Mount {
		return
	}
	fd, err := beneath.At(at, e.Name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOATIME, 0)
	if err == unix.EPERM {
		fd, err = beneath.At(at, e.Name, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	}
	if err != nil {
		e.Closed = true
		return
	}
	e.AtLeast = !c.below(fd, e)
}

// below counts what is in an open directory, which it closes. It reports false when it did not see all of it.
func (c *counter) below(fd int, e *Entry) (whole bool) {
	defer unix.Close(fd)
	names, err := namesOf(fd)
	if err != nil {
		return false
	}
	whole = true
	for _, name := range names {
		if c.left--; c.left < 0 || c.left%64 == 0 && time.Now().After(c.ends) {
			c.left = 0
			return false
		}
		var st unix.Stat_t
		if unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) != nil || st.Dev != c.dev {
			continue
		}
		if st.Mode&unix.S_IFMT != unix.S_IFDIR {
			e.Files, e.Bytes = e.Files+1, e.Bytes+sizeOf(&st)
			continue
		}
		sub, err := beneath.At(fd, name, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			whole = false
			continue
		}
		whole = c.below(sub, e) && whole
	}
	return whole
}

func sizeOf(st *unix.Stat_t) int64 {
	if st.Mode&unix.S_IFMT == unix.S_IFREG {
		return st.Size
	}
	return 0
}

func namesOf(fd int) ([]string, error) {
	own, err := unix.Dup(fd)
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(own), "directory")
	defer f.Close()
	names, err := f.Readdirnames(mostEntries + 1)
	if err == io.EOF {
		err = nil
	}
	slices.Sort(names)
	return names, err
}
