package route

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/beneath"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sys/unix"
)

// standbyState says what each of two trees side by side was laid out as, by the inode of
// its top: that stays true whatever their names are at present.
type standbyState map[string]laid

// laid is the snapshot that a tree was laid out as and since when, by the filesystem's
// clock, it is as this site left it: "identity@nanoseconds".
type laid string

func laidAs(id string, since time.Time) laid { return laid(fmt.Sprintf("%s@%d", id, since.UnixNano())) }

func (l laid) id() string {
	id, _, _ := strings.Cut(string(l), "@")
	return id
}

func (l laid) is(id object.ID) bool { return l.id() == id.String() }

// since is the beginning of time where it was not noted: then everything is compared.
func (l laid) since() time.Time {
	_, at, _ := strings.Cut(string(l), "@")
	n, err := strconv.ParseInt(at, 10, 64)
	if err != nil {
		return time.Unix(0, 0)
	}
	return time.Unix(0, n)
}

// filesystemNow is the time that a change in a directory's filesystem would get now.
func filesystemNow(dir int) (time.Time, error) {
	fd, err := unix.Openat(dir, ".", unix.O_TMPFILE|unix.O_WRONLY|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return time.Time{}, &os.PathError{Op: "make a file in", Path: "the standby's directory", Err: err}
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return time.Time{}, err
	}
	return time.Unix(0, unix.TimespecToNsec(st.Ctim)), nil
}

func inodeOf(at int, name string) (string, error) {
	var st unix.Stat_t
	if err := unix.Fstatat(at, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return "", &os.PathError{Op: "look at", Path: name, Err: err}
	}
	return strconv.FormatUint(st.Ino, 10), nil
}

func standbyNames(dir string) (parent, active, idle, state string) {
	parent, active = filepath.Dir(dir), filepath.Base(dir)
	return parent, active, ".candid-idle-" + active, ".candid-standby-" + active + ".json"
}

// readStandby reads what lies under a name in an open directory and beside it.
func readStandby(at int, active string) (standbyState, error) {
	_, _, _, name := standbyNames(active)
	f, err := beneath.FileAt(at, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, 64<<10))
	st := standbyState{}
	if err == nil && json.Unmarshal(raw, &st) != nil {
		st = standbyState{} // both trees are made anew
	}
	return st, err
}

func writeStandby(at int, active string, st standbyState) error {
	raw, err := json.Marshal(st)
	if err != nil {
		return err
	}
	_, _, _, name := standbyNames(active)
	fresh := name + ".new"
	_ = unix.Unlinkat(at, fresh, 0) // of a write that was cut short
	fd, err := beneath.At(at, fresh, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL, 0o600)
	if err != nil {
		return &os.PathError{Op: "create", Path: fresh, Err: err}
	}
	f := os.NewFile(uintptr(fd), fresh)
	_, err = f.Write(raw)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = unix.Renameat(at, fresh, at, name)
	}
	if err != nil {
		_ = unix.Unlinkat(at, fresh, 0)
		return err
	}
	return unix.Fsync(at)
}

// removeIdle takes away what a standby needs to be brought up to date.
func (s *Service) removeIdle(dir string) error {
	dir, root, err := s.Fixed(dir)
	if err != nil {
		return err
	}
	parent, _, idle, state := standbyNames(dir)
	in, err := beneath.Root(root, parent)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	defer in.Close()
	if err := in.RemoveAll(idle); errors.Is(err, unix.ENOTEMPTY) {
		return refusal.Conflictf("%s cannot be taken away while something is put into it: try again when nobody writes to %s",
			filepath.Join(filepath.Dir(dir), idle), filepath.Dir(dir))
	} else if err != nil {
		return err
	}
	if err := in.Remove(state); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// lies returns the snapshot that lies where a copy is laid out; empty: none, or not known.
func (s *Service) lies(v *catalog.Volume) string {
	if v.StandbyDir == "" {
		return ""
	}
	dir, root, err := s.Fixed(v.StandbyDir)
	if err != nil {
		return ""
	}
	at, err := beneath.Open(root, filepath.Dir(dir))
	if err != nil {
		return ""
	}
	defer unix.Close(at)
	active := filepath.Base(dir)
	state, err := readStandby(at, active)
	if err != nil {
		return ""
	}
	ino, err := inodeOf(at, active)
	if err != nil {
		return ""
	}
	return state[ino].id()
}

// tellStrays logs what others changed in a tree, and says it in the outcome.
func tellStrays(j *run.Job, found []tree.Stray, where string) string {
	if len(found) == 0 {
		return ""
	}
	j.Remark()
	lines := make([]string, len(found))
	for i, f := range found {
		lines[i] = fmt.Sprintf("%s %s, not by this site", phrase.Printable([]byte(f.Path)), f.What)
	}
	j.LogAll(lines)
	return fmt.Sprintf("; %s that others changed there%s", phrase.Many(len(found), "path"), where)
}
