package journal

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// watchable are the filesystems on which this was proven. Others may tell less, such as
// those that change elsewhere too.
var watchable = map[int64]string{unix.EXT4_SUPER_MAGIC: "ext4", unix.TMPFS_MAGIC: "tmpfs", unix.XFS_SUPER_MAGIC: "xfs"}

func checkKind(dirfd int) error {
	var st unix.Statfs_t
	if err := unix.Fstatfs(dirfd, &st); err != nil {
		return err
	}
	if _, ok := watchable[int64(st.Type)]; ok {
		return nil
	}
	names := map[int64]string{unix.NFS_SUPER_MAGIC: "NFS", 0xFF534D42: "SMB", 0xFE534D42: "SMB",
		unix.FUSE_SUPER_MAGIC:  "FUSE",
		unix.BTRFS_SUPER_MAGIC: "btrfs", unix.OVERLAYFS_SUPER_MAGIC: "an overlay"}
	name := names[int64(st.Type)]
	if name == "" {
		name = fmt.Sprintf("a filesystem of type %#x", st.Type)
	}
	return fmt.Errorf("it is on %s, which does not tell of every change", name)
}

// mountsAround returns the mounts at, over and below a directory as one text, to tell
// whether they changed. It fails when an overlay writes below the directory.
func mountsAround(dir string) (string, error) {
	raw, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return "", err
	}
	var out strings.Builder
	for line := range bytes.Lines(raw) {
		f := strings.Fields(string(line))
		if len(f) < 10 {
			continue
		}
		point := unescape(f[4])
		for _, opt := range strings.Split(f[len(f)-1], ",") {
			if upper, ok := strings.CutPrefix(opt, "upperdir="); ok && within(unescape(upper), dir) {
				return "", fmt.Errorf("an overlay mounted at %s writes to it, which is told to nobody", point)
			}
		}
		if within(point, dir) || within(dir, point) {
			fmt.Fprintf(&out, "%s %s %s %s\n", f[0], f[2], f[3], point)
		}
	}
	return out.String(), nil
}

// within reports whether a path is a directory or below it.
func within(path, dir string) bool {
	return path == dir || dir == "/" || strings.HasPrefix(path, dir+"/")
}

var escapes = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)

func unescape(s string) string { return escapes.Replace(s) }

// marked reports whether the mark on a filesystem stands still: it goes with the
// filesystem's last mount, silently.
func marked(fd int, dev uint64) (bool, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/self/fdinfo/%d", fd))
	if err != nil {
		return false, err
	}
	// The kernel writes its own form of the device number: minor in the low 20 bits.
	want := fmt.Sprintf("sdev:%x ", uint64(unix.Major(dev))<<20|uint64(unix.Minor(dev)))
	return bytes.Contains(raw, []byte(want)), nil
}

// seesAllProcesses reports whether the process stands in the host's own namespace.
func seesAllProcesses() bool {
	ns, err := os.Readlink("/proc/self/ns/pid")
	return err == nil && ns == "pid:[4026531836]" // PROC_PID_INIT_INO
}

// loopFiles returns the files that loop devices write to, past everything that tells.
func loopFiles() []string {
	names, _ := filepath.Glob("/sys/block/loop*/loop/backing_file")
	var out []string
	for _, n := range names {
		if raw, err := os.ReadFile(n); err == nil {
			out = append(out, strings.TrimSuffix(string(raw), "\n"))
		}
	}
	return out
}
