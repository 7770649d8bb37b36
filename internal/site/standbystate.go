package site

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"
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

func inodeOf(path string) (string, error) {
	st, err := os.Lstat(path)
	if err != nil {
		return "", err
	}
	return strconv.FormatUint(st.Sys().(*syscall.Stat_t).Ino, 10), nil
}

func standbyNames(dir string) (parent, active, idle, state string) {
	parent, active = filepath.Dir(dir), filepath.Base(dir)
	return parent, active, ".candid-idle-" + active, filepath.Join(parent, ".candid-standby-"+active+".json")
}

func readStandby(path string) (standbyState, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	st := standbyState{}
	if err == nil && json.Unmarshal(raw, &st) != nil {
		st = standbyState{} // both trees are made anew
	}
	return st, err
}

func writeStandby(path string, st standbyState) error {
	raw, err := json.Marshal(st)
	if err != nil {
		return err
	}
	return store.ReplaceFile(path, raw)
}

// lies returns the snapshot that lies where a copy is laid out; empty: none, or not known.
func (s *Site) lies(v *catalog.Volume) string {
	dir := v.StandbyDir
	_, _, _, statePath := standbyNames(dir)
	state, err := readStandby(statePath)
	if err != nil || dir == "" {
		return ""
	}
	ino, err := inodeOf(dir)
	if err != nil {
		return ""
	}
	return state[ino].id()
}

// tellStrays logs what others changed in a tree, and says it in the outcome.
func tellStrays(j *job, found []tree.Stray, where string) string {
	if len(found) == 0 {
		return ""
	}
	j.remark()
	lines := make([]string, len(found))
	for i, f := range found {
		lines[i] = fmt.Sprintf("%s %s, not by this site", printable([]byte(f.Path)), f.What)
	}
	j.logAll(lines)
	return fmt.Sprintf("; %s that others changed there%s", many(len(found), "path"), where)
}
