package journal

import (
	"encoding/binary"
	"errors"
	"fmt"

	"golang.org/x/sys/unix"
)

const (
	initFlags = unix.FAN_CLASS_NOTIF | unix.FAN_CLOEXEC | unix.FAN_NONBLOCK |
		unix.FAN_REPORT_FID | unix.FAN_REPORT_DFID_NAME | unix.FAN_REPORT_TARGET_FID
	markMask = unix.FAN_CREATE | unix.FAN_DELETE | unix.FAN_MOVED_FROM | unix.FAN_MOVED_TO |
		unix.FAN_MODIFY | unix.FAN_CLOSE_WRITE | unix.FAN_ATTRIB | unix.FAN_ONDIR

	metadataLen = 24 // struct fanotify_event_metadata
	infoHead    = 4  // struct fanotify_event_info_header
	fsidLen     = 8
)

// event is one of the kernel's, reduced to what is used here. Its handles are good until the buffer is read into again.
type event struct {
	overflow bool
	onDir    bool
	arrived  bool // a directory entry came to be: created or moved in
	moved    bool // by a rename, in or out
	dir      []byte
	file     []byte // of the entry itself
}

// handle is a file handle: its type, then its bytes. It is one key on one filesystem.
type handle string

func (h handle) unix() unix.FileHandle {
	return unix.NewFileHandle(int32(binary.NativeEndian.Uint32([]byte(h[:4]))), []byte(h[4:]))
}

// parse calls each with the events in a buffer read from a fanotify descriptor; see
// fanotify(7) for the layout.
func parse(b []byte, each func(event)) error {
	for len(b) >= metadataLen {
		n := int(binary.NativeEndian.Uint32(b))
		head := int(binary.NativeEndian.Uint16(b[6:]))
		if n < metadataLen || n > len(b) || head < metadataLen || head > n || b[4] != unix.FANOTIFY_METADATA_VERSION {
			return errors.New("an event of unknown form")
		}
		mask := binary.NativeEndian.Uint64(b[8:])
		e := event{overflow: mask&unix.FAN_Q_OVERFLOW != 0, onDir: mask&unix.FAN_ONDIR != 0,
			arrived: mask&(unix.FAN_CREATE|unix.FAN_MOVED_TO) != 0, moved: mask&(unix.FAN_MOVED_FROM|unix.FAN_MOVED_TO) != 0}
		for info := b[head:n]; len(info) >= infoHead; {
			size := int(binary.NativeEndian.Uint16(info[2:]))
			if size < infoHead || size > len(info) {
				return errors.New("an event with a record of unknown form")
			}
			kind, body := info[0], info[infoHead:size]
			info = info[size:]
			if kind != unix.FAN_EVENT_INFO_TYPE_DFID_NAME && kind != unix.FAN_EVENT_INFO_TYPE_DFID &&
				kind != unix.FAN_EVENT_INFO_TYPE_FID {
				continue
			}
			if len(body) < fsidLen+8 {
				return errors.New("an event with a handle of unknown form")
			}
			body = body[fsidLen:]
			length := int(binary.NativeEndian.Uint32(body))
			if 8+length > len(body) {
				return errors.New("an event with a handle cut short")
			}
			h := body[4 : 8+length]
			if kind == unix.FAN_EVENT_INFO_TYPE_FID {
				e.file = h
			} else {
				e.dir = h
			}
		}
		each(e)
		b = b[n:]
	}
	return nil
}

// listen opens a fanotify group with a mark on the filesystem of an open directory.
func listen(dirfd int) (int, error) {
	fd, err := unix.FanotifyInit(initFlags, unix.O_RDONLY|unix.O_LARGEFILE)
	switch {
	case errors.Is(err, unix.EPERM):
		return -1, errors.New("watching needs the right CAP_SYS_ADMIN, which the service does not have")
	case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOSYS):
		return -1, errors.New("watching needs Linux 5.17 or later")
	case errors.Is(err, unix.EMFILE):
		return -1, errors.New("too many watchers run on this host; raise fs.fanotify.max_user_groups")
	case err != nil:
		return -1, fmt.Errorf("watching could not begin: %w", err)
	}
	if err := mark(fd, dirfd); err != nil {
		unix.Close(fd)
		return -1, err
	}
	return fd, nil
}

func mark(fd, dirfd int) error {
	if err := unix.FanotifyMark(fd, unix.FAN_MARK_ADD|unix.FAN_MARK_FILESYSTEM, markMask, dirfd, ""); err != nil {
		return fmt.Errorf("its filesystem cannot be watched: %w", err)
	}
	return nil
}
