package tree

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path"
	"time"

	"candidharbor/core/chunker"
	"candidharbor/core/object"

	"golang.org/x/sys/unix"
)

// StraysOptions say which tree is compared with what it was laid out as.
type StraysOptions struct {
	Source  Source
	Root    *object.Root
	Chunker *chunker.Chunker
	Dir     int // open directory that the tree lies in
	Name    string
	Since   time.Time // by the filesystem's clock: what was not changed since is as it was
}

// Stray is a path that somebody else changed, added or took away.
type Stray struct {
	Path string
	What string
}

// strays finds what others changed. Nobody can set the time at which an inode was changed,
// so only what was changed of late is compared, and that by its content.
type strays struct {
	*restorer
	opt   StraysOptions
	found []Stray
}

// mostStrays is how many are looked for: more of them say nothing more.
const mostStrays = object.MaxRemarks

var errEnough = errors.New("enough")

// Strays lists what others changed in a tree that belongs to the service, up to a thousand.
func Strays(ctx context.Context, opt StraysOptions) ([]Stray, error) {
	s := &strays{opt: opt, restorer: &restorer{ctx: ctx, opt: RestoreOptions{Source: opt.Source, Root: opt.Root,
		Chunker: opt.Chunker}}}
	fd, err := openDirAt(opt.Dir, opt.Name)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: opt.Name, Err: err}
	}
	defer unix.Close(fd)
	if err = s.dir(fd, "", func() (*object.Entry, error) { return &opt.Root.Top, nil }); errors.Is(err, errEnough) {
		err = nil
	}
	return s.found, err
}

func (s *strays) add(rel, what string) { s.found = append(s.found, Stray{rel, what}) }

func (s *strays) touched(st *unix.Stat_t) bool {
	return unix.TimespecToNsec(st.Ctim) >= s.opt.Since.UnixNano()
}

// dir compares one directory. is tells its entry in the snapshot, which is read only where
// something was touched.
func (s *strays) dir(fd int, rel string, is func() (*object.Entry, error)) error {
	if err := s.ctx.Err(); err != nil {
		return err
	}
	var own unix.Stat_t
	if err := unix.Fstat(fd, &own); err != nil {
		return &os.PathError{Op: "look at", Path: rel, Err: err}
	}
	names, err := readNames(fd)
	if err != nil {
		return &os.PathError{Op: "read", Path: rel, Err: err}
	}
	var known map[string]object.Entry
	entry := func(name string) (*object.Entry, error) {
		if known == nil {
			e, err := is()
			if err != nil {
				return nil, err
			}
			known = map[string]object.Entry{}
			if e != nil && e.Kind == object.Dir {
				err = object.WalkDir(s.opt.Source.Get, e.Content, nil, func(x object.Entry) error {
					known[string(x.Name)] = x
					return nil
				})
				if err != nil {
					return nil, err
				}
			}
		}
		if e, ok := known[name]; ok {
			return &e, nil
		}
		return nil, nil
	}
	here := make(map[string]bool, len(names))
	for _, name := range names {
		if len(s.found) >= mostStrays {
			return errEnough
		}
		here[name] = true
		child := path.Join(rel, name)
		var st unix.Stat_t
		if err := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW); err == unix.ENOENT {
			delete(here, name)
			continue
		} else if err != nil {
			return &os.PathError{Op: "look at", Path: child, Err: err}
		}
		same := true
		if s.touched(&st) || s.touched(&own) { // a name that came by a rename may be of any age
			e, err := entry(name)
			if err != nil {
				return err
			}
			if same, err = s.compare(fd, name, child, e, &st); err != nil {
				return err
			}
		}
		if !same || kindOf(st.Mode) != object.Dir {
			continue
		}
		sub, err := openDirAt(fd, name)
		if err != nil {
			return &os.PathError{Op: "open", Path: child, Err: err}
		}
		err = s.dir(sub, child, func() (*object.Entry, error) { return entry(name) })
		unix.Close(sub)
		if err != nil {
			return err
		}
	}
	if !s.touched(&own) {
		return nil
	}
	if _, err := entry(""); err != nil {
		return err
	}
	for name := range known {
		if !here[name] {
			s.add(path.Join(rel, name), "was taken away")
		}
	}
	return nil
}

// compare reports whether what is there is what should be, and adds it when it is not.
func (s *strays) compare(fd int, name, rel string, e *object.Entry, st *unix.Stat_t) (bool, error) {
	if e == nil {
		s.add(rel, "was written there")
		return false, nil
	}
	same := kindOf(st.Mode) == e.Kind
	if same && e.Kind != object.Symlink {
		same = st.Mode&0o7777 == e.Mode&0o7777
	}
	if same && e.Kind != object.Dir {
		// whole seconds: some filesystems keep no more
		same = unix.TimespecToNsec(st.Mtim)/int64(time.Second) == e.MTime/int64(time.Second)
	}
	if same && e.Kind == object.Symlink {
		target, err := readLink(fd, name)
		if err != nil {
			return false, &os.PathError{Op: "read", Path: rel, Err: err}
		}
		same = bytes.Equal(target, e.Target)
	}
	if same && e.Kind == object.File {
		var err error
		if same = st.Size == e.Size; same {
			if same, err = s.sameBytes(fd, name, e); err != nil {
				return false, err
			}
		}
	}
	if !same {
		s.add(rel, "was changed there")
	}
	return same, nil
}
