package views

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"candidharbor/internal/beneath"

	"golang.org/x/sys/unix"
)

// Spot is a directory on which something is mounted, found once: others may rename what leads
// to it and change nothing by it.
type Spot struct {
	Path   string
	root   string
	id     string // of what is mounted there
	parent int    // the directory that it is a name in
	name   string // in there
	dir    int
}

// OpenSpot opens a directory below root, or root itself.
func OpenSpot(root, path string) (*Spot, error) {
	s := &Spot{Path: path, root: root, name: filepath.Base(path), parent: -1, dir: -1}
	above := filepath.Dir(path)
	var err error
	if path == root {
		s.parent, err = beneath.Open(above, above)
	} else {
		s.parent, err = beneath.Open(root, above)
	}
	if err == nil {
		s.dir, err = beneath.At(s.parent, s.name, unix.O_PATH|unix.O_DIRECTORY, 0)
	}
	if err != nil {
		s.Close()
		return nil, &os.PathError{Op: "open", Path: path, Err: err}
	}
	return s, nil
}

// Close lets it go. What is mounted there cannot be taken away by it any more.
func (s *Spot) Close() {
	for _, fd := range []*int{&s.parent, &s.dir} {
		if *fd >= 0 {
			unix.Close(*fd)
		}
		*fd = -1
	}
}

// Empty reports whether nothing would be hidden by what is mounted there.
func (s *Spot) Empty() (bool, error) {
	d, err := os.Open(beneath.Name(s.dir))
	if err != nil {
		return false, err
	}
	defer d.Close()
	if _, err = d.Readdirnames(1); errors.Is(err, io.EOF) {
		return true, nil
	}
	return false, err
}

// mount puts there what mount mounts at a path. That happens at a directory where only the
// service comes; what is there is then moved by what is open, and undone when it did not get
// the name that was meant, because somebody renamed it meanwhile.
func (s *Spot) mount(staging string, mount func(target string) error) error {
	if err := os.Mkdir(staging, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	for unix.Unmount(staging, unix.MNT_DETACH|unix.UMOUNT_NOFOLLOW) == nil { // of one that was killed here
	}
	if err := mount(staging); err != nil {
		return err
	}
	fd, err := unix.OpenTree(unix.AT_FDCWD, staging, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC)
	if err = errors.Join(err, unix.Unmount(staging, unix.MNT_DETACH|unix.UMOUNT_NOFOLLOW)); err != nil {
		return os.NewSyscallError("open_tree", err)
	}
	defer unix.Close(fd)
	if err := unix.MoveMount(fd, "", s.dir, "", unix.MOVE_MOUNT_F_EMPTY_PATH|unix.MOVE_MOUNT_T_EMPTY_PATH); err != nil {
		return os.NewSyscallError("move_mount", err)
	}
	want, err := mountID(fd)
	if err == nil {
		var is string
		if is, err = s.mountID(); err == nil && is == want {
			s.id = want
			return nil
		}
	}
	return errors.Join(err, fmt.Errorf("%s was renamed meanwhile", s.Path), unix.Unmount(beneath.Name(fd),
		unix.MNT_DETACH))
}

// mountID identifies the mount that is seen at the name now.
func (s *Spot) mountID() (string, error) {
	fd, err := unix.Openat(s.parent, s.name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return "", err
	}
	defer unix.Close(fd)
	return mountID(fd)
}

func mountID(fd int) (string, error) {
	info, err := os.ReadFile(fmt.Sprintf("/proc/self/fdinfo/%d", fd)) // proc_pid_fdinfo(5)
	_, id, _ := strings.Cut(string(info), "mnt_id:")
	return strings.Fields(id + " -")[0], err
}

// unmount takes away what is mounted there. A rename that had begun before the directory was
// mounted on may have ended after that: then it is under another name, and stays under it.
func (s *Spot) unmount(flags int) error {
	if id, err := s.mountID(); s.id != "" && (err != nil || id != s.id) {
		if err := s.follow(); err != nil {
			return err
		}
	}
	return unix.Unmount(beneath.Name(s.parent)+"/"+s.name, flags|unix.UMOUNT_NOFOLLOW)
}

// unmountSoon is unmount for what was in use a moment ago, which the kernel lets go of later.
func (s *Spot) unmountSoon() (err error) {
	for wait := 5 * time.Millisecond; wait < 200*time.Millisecond; wait *= 2 {
		if err = s.unmount(0); !errors.Is(err, unix.EBUSY) {
			return err
		}
		time.Sleep(wait)
	}
	return err
}

// follow finds what is mounted there under its present name, which is below the root too.
func (s *Spot) follow() error {
	fields, _, err := mountInfo(s.id)
	if err != nil || len(fields) < 5 {
		return errors.Join(err, unix.EINVAL) // it is mounted no more
	}
	now, err := OpenSpot(s.root, octal.Replace(fields[4]))
	if err != nil {
		return err
	}
	if id, err := now.mountID(); err != nil || id != s.id {
		now.Close()
		return errors.Join(err, fmt.Errorf("%s was renamed", s.Path))
	}
	s.Close()
	unix.Close(now.dir) // it is the top of what is mounted, which would be in use
	s.parent, s.name = now.parent, now.name
	return nil
}

// mountInfo is what the kernel says of a mount: its fields before and after the dash, none when
// there is no such mount.
func mountInfo(id string) (at, what []string, err error) {
	raw, err := os.ReadFile("/proc/self/mountinfo") // proc_pid_mountinfo(5)
	for line := range strings.Lines(string(raw)) {
		before, after, _ := strings.Cut(line, " - ")
		if at = strings.Fields(before); len(at) > 0 && at[0] == id {
			return at, strings.Fields(after), nil
		}
	}
	return nil, nil, err
}

// octal undoes how mountinfo writes what would end a field.
var octal = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)

// mounted describes the filesystem that is seen at the name now, as mountinfo does.
func (s *Spot) mounted() (kind, source string, err error) {
	id, err := s.mountID()
	if err != nil {
		return "", "", err
	}
	_, what, err := mountInfo(id)
	if len(what) < 2 {
		return "", "", err
	}
	return what[0], what[1], nil
}

// Clear takes away what services that were killed left mounted there.
func (s *Spot) Clear() error {
	for {
		kind, source, err := s.mounted()
		if err != nil {
			return err
		}
		if kind != fuseKind && (kind != "overlay" || source != cloneSource) {
			break
		}
		if err := s.unmount(unix.MNT_DETACH); err != nil {
			return err
		}
	}
	// What was opened may have been the top of what is gone.
	dir, err := beneath.At(s.parent, s.name, unix.O_PATH|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	unix.Close(s.dir)
	s.dir = dir
	return nil
}
