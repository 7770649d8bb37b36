package tree

import (
	"path"
	"strings"
	"sync"

	"candidharbor/internal/hostdirs"
)

// kernels are the kinds of filesystems in which the kernel shows itself: nothing in them is stored anywhere.
var kernels = map[string]bool{"proc": true, "sysfs": true, "devpts": true, "devtmpfs": true, "cgroup": true,
	"cgroup2": true, "securityfs": true, "debugfs": true, "tracefs": true, "bpf": true, "pstore": true, "configfs": true,
	"mqueue": true, "hugetlbfs": true, "binfmt_misc": true, "autofs": true, "nsfs": true, "fusectl": true,
	"rpc_pipefs": true, "selinuxfs": true, "efivarfs": true}

// passing are where a host keeps in memory what ends with its run (hier(7), file-hierarchy(7)).
var passing = []string{"/dev", "/run", "/tmp", "/var/run", "/var/lock"}

// mounts tells what is mounted in a volume and not worth a remark.
type mounts struct {
	once  sync.Once
	kinds map[uint64]string
}

// passes reports whether what is mounted at a path is nothing that anybody could want back.
func (m *mounts) passes(device uint64, at string) bool {
	m.once.Do(func() { m.kinds = hostdirs.Kinds() })
	kind := m.kinds[device]
	if kernels[kind] {
		return true
	}
	if kind != "tmpfs" && kind != "ramfs" {
		return false
	}
	at = path.Clean("/" + at)
	for _, p := range passing {
		if at == p || strings.HasPrefix(at, p+"/") {
			return true
		}
	}
	return false
}
