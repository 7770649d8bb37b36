package beneath

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// mostLinks is how many links lead to a path at most, as path_resolution(7) has it.
const mostLinks = 40

// ForeignLink is a link on a path that somebody else made.
type ForeignLink struct {
	Path string
	User uint32
}

func (l *ForeignLink) Error() string {
	return fmt.Sprintf("the link %s belongs to the user %d and is not followed: give the path that is meant", l.Path,
		l.User)
}

// Resolve follows the links on a path that a person gave, and returns where it leads and what
// is not there below that. Only links that root or this user made are followed: who owns a
// directory on the way has no say in where the service reads and writes.
func Resolve(path string) (resolved, rest string, err error) {
	fail := func(err error) (string, string, error) {
		return "", "", &os.PathError{Op: "resolve", Path: path, Err: err}
	}
	dir, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return fail(err)
	}
	ways := []int{dir} // open directories from the top down
	defer func() {
		for _, fd := range ways {
			unix.Close(fd)
		}
	}()
	var names []string
	todo := strings.Split(path, "/")
	for links := 0; len(todo) > 0; {
		name := todo[0]
		todo = todo[1:]
		switch name {
		case "", ".":
			continue
		case "..":
			if len(names) > 0 {
				unix.Close(ways[len(ways)-1])
				names, ways = names[:len(names)-1], ways[:len(ways)-1]
			}
			continue
		}
		fd, err := unix.Openat(ways[len(ways)-1], name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if errors.Is(err, unix.ENOENT) {
			return "/" + filepath.Join(names...), filepath.Join(append([]string{name}, todo...)...), nil
		} else if err != nil {
			return fail(err)
		}
		var st unix.Stat_t
		if err := unix.Fstat(fd, &st); err != nil {
			unix.Close(fd)
			return fail(err)
		}
		if st.Mode&unix.S_IFMT != unix.S_IFLNK {
			names, ways = append(names, name), append(ways, fd)
			continue
		}
		to, err := readLink(fd)
		unix.Close(fd)
		switch links++; {
		case err != nil:
			return fail(err)
		case links > mostLinks:
			return fail(unix.ELOOP)
		case st.Uid != 0 && int(st.Uid) != os.Geteuid():
			return fail(&ForeignLink{"/" + filepath.Join(append(names, name)...), st.Uid})
		}
		if filepath.IsAbs(to) {
			for _, fd := range ways[1:] {
				unix.Close(fd)
			}
			names, ways = nil, ways[:1]
		}
		todo = append(strings.Split(to, "/"), todo...)
	}
	return "/" + filepath.Join(names...), "", nil
}

func readLink(fd int) (string, error) {
	buf := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(fd, "", buf)
	if err == nil && n == 0 {
		err = unix.ENOENT
	}
	return string(buf[:max(n, 0)]), err
}
