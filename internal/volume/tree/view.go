package tree

import (
	"io/fs"
	"syscall"

	"candidharbor/core/object"
)

// FileMode is the mode of an entry as Go tells modes.
func FileMode(e *object.Entry) fs.FileMode {
	m := fs.FileMode(e.Mode & 0o777)
	for bit, to := range map[uint32]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if e.Mode&bit != 0 {
			m |= to
		}
	}
	switch e.Kind {
	case object.Dir:
		m |= fs.ModeDir
	case object.Symlink:
		m |= fs.ModeSymlink
	case object.FIFO:
		m |= fs.ModeNamedPipe
	case object.Socket:
		m |= fs.ModeSocket
	case object.CharDevice:
		m |= fs.ModeDevice | fs.ModeCharDevice
	case object.BlockDevice:
		m |= fs.ModeDevice
	}
	return m
}

// KindOf tells the kind of what the host's filesystem shows.
func KindOf(info fs.FileInfo) object.EntryKind {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return kindOf(st.Mode)
	}
	return object.File
}
