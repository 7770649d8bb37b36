package tree

import (
	"errors"
	"fmt"

	"golang.org/x/sys/unix"
)

// OtherGround says that a directory is not the one that it was: another filesystem stands
// at its path, or none where one was mounted.
type OtherGround struct{ Path, Was, Is string }

func (e *OtherGround) Error() string {
	return fmt.Sprintf("%s is on another filesystem, or is another directory, than at the last snapshot", e.Path)
}

// groundOf names a directory by its filesystem and inode.
func groundOf(fd int) (string, error) {
	var st unix.Stat_t
	var fs unix.Statfs_t
	if err := errors.Join(unix.Fstat(fd, &st), unix.Fstatfs(fd, &fs)); err != nil {
		return "", err
	}
	return fmt.Sprintf("%x:%x.%x:%d", uint32(fs.Type), uint32(fs.Fsid.Val[0]), uint32(fs.Fsid.Val[1]), st.Ino), nil
}
