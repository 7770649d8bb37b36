package hostdirs

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"candidharbor/internal/beneath"

	"golang.org/x/sys/unix"
)

// Mount is a filesystem with data of its own that is mounted on the host.
type Mount struct {
	Path string
	Kind string
	Used int64

	device string
}

// EachOnce leaves of those on the same device the first.
func EachOnce(all []Mount) []Mount {
	seen := map[string]bool{}
	return slices.DeleteFunc(slices.Clone(all), func(m Mount) bool {
		was := seen[m.device]
		seen[m.device] = true
		return was
	})
}

// lasting are kinds of filesystems that hold what outlives the machine's run, here or elsewhere.
var lasting = []string{"ext2", "ext3", "ext4", "xfs", "btrfs", "zfs", "f2fs", "jfs", "reiserfs", "bcachefs", "vfat",
	"exfat", "ntfs", "ntfs3", "hfsplus", "nfs", "nfs4", "cifs", "smb3", "ceph", "glusterfs", "9p", "virtiofs"}

// mounted lists everything that is mounted, as proc_pid_mountinfo(5) tells.
func mounted() ([]Mount, error) {
	raw, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	var all []Mount
	for line := range bytes.Lines(raw) {
		f := strings.Fields(string(line))
		if dash := slices.Index(f, "-"); dash >= 6 && len(f) >= dash+3 {
			all = append(all, Mount{Path: unescape.Replace(f[4]), Kind: f[dash+1], device: f[2]})
		}
	}
	return all, nil
}

// Kinds tells of which kind the filesystems are that are mounted, by their devices as stat(2) tells them. No filesystem
// is asked, for one of another host may not answer.
func Kinds() map[uint64]string {
	all, _ := mounted() // none is told of
	out := make(map[uint64]string, len(all))
	for _, m := range all {
		var major, minor uint32
		if n, _ := fmt.Sscanf(m.device, "%d:%d", &major, &minor); n == 2 {
			out[unix.Mkdev(major, minor)] = m.Kind
		}
	}
	return out
}

// Mounts lists the filesystems with data of their own.
func Mounts() ([]Mount, error) {
	every, err := mounted()
	if err != nil {
		return nil, err
	}
	var all []Mount
	for _, m := range every {
		if !slices.Contains(lasting, m.Kind) {
			continue
		}
		fd, err := beneath.Open("/", m.Path)
		if err != nil {
			continue // a file that is mounted over another, or nothing of this process
		}
		var fs unix.Statfs_t
		if unix.Fstatfs(fd, &fs) == nil {
			m.Used = int64(fs.Blocks-fs.Bfree) * fs.Bsize
		}
		unix.Close(fd)
		all = append(all, m)
	}
	return all, nil
}

var unescape = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)

// Within reports whether a path is a directory or below it.
func Within(path, dir string) bool {
	return path == dir || strings.HasPrefix(path, strings.TrimSuffix(filepath.Clean(dir), "/")+"/")
}
