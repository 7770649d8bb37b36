package journal

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
)

// held is a file that some process can change without a word: it holds it open for
// writing, or maps it writable and shared.
type held struct {
	inode  uint64
	ctime  int64
	path   string // as the process that holds it sees it, which may have another root
	mapped bool
}

// place is where a held file stands, seen from a volume.
type place uint8

const (
	elsewhere place = iota
	inside
	somewhere // not known, or under several names
)

// locate tells where a file stands and, inside, its directory from the volume's top.
func (h *held) locate(volume string) (at place, dir string) {
	var st unix.Stat_t
	sure := unix.Lstat(h.path, &st) == nil && st.Ino == h.inode
	if rel, below := strings.CutPrefix(h.path, volume+"/"); sure && below {
		return inside, parent(rel)
	}
	if sure && st.Nlink == 1 {
		return elsewhere, ""
	}
	return somewhere, ""
}

// heldOn returns the files of a filesystem that are held.
func heldOn(dev uint64) ([]held, error) {
	proc, err := os.Open("/proc")
	if err != nil {
		return nil, err
	}
	defer proc.Close()
	names, err := proc.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	names = slices.DeleteFunc(names, func(n string) bool { return n[0] < '0' || n[0] > '9' })
	// Asked at the beginning and the end of every reading: by as many as can at once.
	parts := make([][]held, runtime.NumCPU())
	var g errgroup.Group
	for k := range parts {
		g.Go(func() (err error) {
			for i := k; i < len(names) && err == nil; i += len(parts) {
				parts[k], err = heldBy(parts[k], int(proc.Fd()), names[i], dev)
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	out := slices.Concat(parts...)
	for _, p := range loopFiles() {
		var st unix.Stat_t
		if unix.Stat(p, &st) == nil && st.Dev == dev {
			out = append(out, held{inode: st.Ino, ctime: unix.TimespecToNsec(st.Ctim), path: p, mapped: true})
		}
	}
	return out, nil
}

func gone(err error) bool {
	return errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ESRCH)
}

func heldBy(out []held, proc int, pid string, dev uint64) ([]held, error) {
	blind := func(err error) error {
		return fmt.Errorf("the files that process %s holds cannot be seen: %w", pid, err)
	}
	maps, err := os.Open("/proc/" + pid + "/maps")
	if gone(err) {
		return out, nil
	}
	if errors.Is(err, unix.EACCES) && pid == "1" {
		return out, nil // the host's init may be closed even to root; it holds no volume's files
	}
	if err != nil {
		return out, blind(err)
	}
	defer maps.Close()
	if out, err = mapped(out, maps, pid, dev); err != nil {
		return out, blind(err)
	}
	fds, err := unix.Openat(proc, pid+"/fd", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if gone(err) {
		return out, nil
	}
	if err != nil {
		return out, blind(err)
	}
	defer unix.Close(fds)
	var buf [4096]byte
	for {
		n, err := unix.Getdents(fds, buf[:])
		if gone(err) || (err == nil && n == 0) {
			break
		}
		if err != nil {
			return out, blind(err)
		}
		_, _, names := unix.ParseDirent(buf[:n], -1, nil)
		for _, name := range names {
			var st unix.Stat_t
			// The link's own mode tells how the file was opened.
			if unix.Fstatat(fds, name, &st, unix.AT_SYMLINK_NOFOLLOW) != nil || st.Mode&0o200 == 0 {
				continue
			}
			if unix.Fstatat(fds, name, &st, 0) != nil || st.Mode&unix.S_IFMT != unix.S_IFREG || st.Dev != dev || st.Nlink == 0 {
				continue
			}
			path := make([]byte, 4096)
			n, err := unix.Readlinkat(fds, name, path)
			if err != nil {
				n = 0
			}
			out = append(out, held{inode: st.Ino, ctime: unix.TimespecToNsec(st.Ctim), path: string(path[:n])})
		}
	}
	return out, nil
}

// procmapQuery is struct procmap_query of linux/fs.h, since Linux 6.11.
type procmapQuery struct {
	size, flags, addr                             uint64
	start, end, vmaFlags, pageSize, offset, inode uint64
	major, minor                                  uint32
	nameSize, buildSize                           uint32
	nameAddr, buildAddr                           uint64
}

const (
	procmapIoctl = 0xc0686611 // _IOWR('f', 17, struct procmap_query)
	// writable, shared, this or the next one, of a file
	procmapFlags = 0x02 | 0x08 | 0x10 | 0x20
)

// mapped adds the files that a process maps writable and shared, asking the kernel for
// just these where it can be asked.
func mapped(out []held, maps *os.File, pid string, dev uint64) ([]held, error) {
	var name [4096]byte
	before := len(out)
	for addr := uint64(0); ; {
		q := procmapQuery{flags: procmapFlags, addr: addr, nameSize: uint32(len(name)),
			nameAddr: uint64(uintptr(unsafe.Pointer(&name[0])))}
		q.size = uint64(unsafe.Sizeof(q))
		_, _, errno := unix.Syscall(unix.SYS_IOCTL, maps.Fd(), procmapIoctl, uintptr(unsafe.Pointer(&q)))
		switch {
		case errno == unix.ENOENT, errno == unix.ESRCH:
			return out, nil
		case errno != 0:
			return mappedText(out[:before], maps, pid, dev)
		}
		addr = q.end
		if q.inode != 0 && q.major == unix.Major(dev) && q.minor == unix.Minor(dev) {
			out = addMapped(out, pid, fmt.Sprintf("%x-%x", q.start, q.end), q.inode, string(name[:max(q.nameSize, 1)-1]))
		}
	}
}

// addMapped leaves out files that have no name any more.
func addMapped(out []held, pid, span string, inode uint64, path string) []held {
	if strings.HasSuffix(path, " (deleted)") {
		var st unix.Stat_t // a name may end so
		if unix.Stat("/proc/"+pid+"/map_files/"+span, &st) == nil && st.Nlink == 0 {
			return out
		}
	}
	return append(out, held{inode: inode, path: path, mapped: true})
}

// mappedText reads the form of /proc/PID/maps: address perms offset dev inode path.
func mappedText(out []held, maps *os.File, pid string, dev uint64) ([]held, error) {
	want := fmt.Sprintf("%02x:%02x", unix.Major(dev), unix.Minor(dev))
	lines := bufio.NewScanner(maps)
	lines.Buffer(make([]byte, 16<<10), 64<<10)
	for lines.Scan() {
		b := lines.Bytes()
		at := bytes.IndexByte(b, ' ')
		if at < 0 || len(b) < at+5 || b[at+2] != 'w' || b[at+4] != 's' {
			continue
		}
		f := strings.SplitN(string(b), " ", 6)
		if len(f) < 6 || f[3] != want {
			continue
		}
		inode, err := strconv.ParseUint(f[4], 10, 64)
		if err != nil || inode == 0 {
			continue
		}
		out = addMapped(out, pid, f[0], inode, strings.TrimLeft(f[5], " "))
	}
	if err := lines.Err(); err != nil && !gone(err) {
		return out, err
	}
	return out, nil
}
