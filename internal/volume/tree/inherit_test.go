package tree

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func sh(t testing.TB, dir, script string) string {
	cmd := exec.Command("sh", "-ec", script)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// What is restored has the owner, the mode and the ACL that it had, whatever the directory
// that it is made in passes on.
func TestNothingIsInherited(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("owners are set by root")
	}
	b := newBench(t)
	base := memoryDir(t)
	live := filepath.Join(base, "live")
	require.NoError(t, os.Mkdir(live, 0o755))
	sh(t, live, `mkdir team grp grp/sub; echo secret > team/payroll; chmod 660 team/payroll; mkfifo team/pipe
		echo data > grp/f; echo data > grp/sub/g; chgrp games grp; chmod 2775 grp; setfacl -d -m u:nobody:rwx team`)
	want := digest(t, live)
	root, _, _ := b.snapshot(live)
	sh(t, live, `rm -r team/payroll team/pipe grp/f grp/sub`)
	b.restore(root, live, func(o *RestoreOptions) { o.Paths = nil })
	require.Equal(t, strings.TrimSpace(sh(t, live,
		`getfacl -c team/payroll | grep -v '^$'; stat -c '%U:%G %a' grp/f grp/sub grp/sub/g`)),
		"user::rw-\ngroup::rw-\nother::---\nroot:root 644\nroot:root 755\nroot:root 644")
	// And below a directory that is new, in one with a default ACL and another group.
	sh(t, base, `mkdir above; chgrp games above; chmod 2777 above; setfacl -d -m u:nobody:rwx above`)
	b.restore(root, filepath.Join(base, "above", "x"), nil)
	require.Equal(t, want, digest(t, filepath.Join(base, "above", "x")))
}

// Restoring one path changes no other name of its file: names that are left out, or were not
// asked for, keep rights and content, and it is told that they are another file now.
func TestOtherNamesStay(t *testing.T) {
	b := newBench(t)
	live := filepath.Join(memoryDir(t), "live")
	require.NoError(t, os.Mkdir(live, 0o755))
	sh(t, live, `mkdir a b; echo key > a/key; chmod 644 a/key; echo one > a/one; ln a/one a/two`)
	root, _, _ := b.snapshot(live, "*.tmp")
	sh(t, live, `ln a/key b/private; ln a/key b/x.tmp; chmod 600 b/private; chmod 600 a/one; ln a/one b/three`)
	safety, _, _ := b.snapshot(live, "*.tmp")
	stat := func(name string) (st unix.Stat_t) {
		require.NoError(t, unix.Stat(filepath.Join(live, name), &st))
		return st
	}
	contents := func() string {
		sum, _, _ := strings.Cut(digest(t, filepath.Join(live, "b")), "\n")
		return sum
	}
	before := contents()
	pick := func(root *object.Root, paths ...string) *Restored {
		return b.restore(root, live, func(o *RestoreOptions) {
			o.Paths, o.Safety, o.Excludes, o.Exact = paths, safety, []string{"*.tmp"}, false
		})
	}
	told := func(res *Restored, path string) {
		for _, m := range res.Remarks {
			if string(m.Path) == path && strings.Contains(m.What, "more names elsewhere") {
				return
			}
		}
		require.Fail(t, "it is not told of "+path, "%+v", res.Remarks)
	}
	told(pick(root, "a/key"), "a/key")
	require.EqualValues(t, 0o644, stat("a/key").Mode&0o777)
	require.EqualValues(t, 1, stat("a/key").Nlink)
	require.EqualValues(t, 0o600, stat("b/private").Mode&0o777)
	require.Equal(t, stat("b/private").Ino, stat("b/x.tmp").Ino)
	told(pick(root, "a/one", "a/two"), "a/one")
	require.Equal(t, stat("a/one").Ino, stat("a/two").Ino, "they are one file still")
	require.EqualValues(t, 0o644, stat("a/two").Mode&0o777)
	require.EqualValues(t, 0o600, stat("b/three").Mode&0o777)
	require.Equal(t, before, contents())
}

// Links, pipes and sockets can have several names too.
func TestLinksOfEveryKind(t *testing.T) {
	b := newBench(t)
	live := filepath.Join(memoryDir(t), "live")
	require.NoError(t, os.Mkdir(live, 0o755))
	sh(t, live, `mkdir d; ln -s nowhere link; ln -P link d/link; mkfifo pipe; ln pipe d/pipe; echo x > f; ln f d/f`)
	root, _, _ := b.snapshot(live)
	target := filepath.Join(b.cache, "out")
	b.restore(root, target, nil)
	requireSame(t, live, target)
	inode := func(name string) uint64 {
		var st unix.Stat_t
		require.NoError(t, unix.Lstat(filepath.Join(target, name), &st))
		require.EqualValues(t, 2, st.Nlink, name)
		return st.Ino
	}
	for _, name := range []string{"link", "pipe", "f"} {
		require.Equal(t, inode(name), inode("d/"+name), name)
	}
}

// A directory of which one name is left out gets its time back when another one is.
func TestTimeBackBesideWhatIsLeftOut(t *testing.T) {
	b := newBench(t)
	live := filepath.Join(memoryDir(t), "live")
	require.NoError(t, os.Mkdir(live, 0o755))
	sh(t, live, `mkdir d; echo a > d/a; echo b > d/b; echo left > d/x.tmp; touch -d '2026-01-02 03:04:05' d`)
	root, _, _ := b.snapshot(live, "*.tmp")
	sh(t, live, `rm d/a`)
	safety, _, _ := b.snapshot(live, "*.tmp")
	b.restore(root, live, func(o *RestoreOptions) {
		o.Paths, o.Safety, o.Excludes, o.Exact = []string{"d/a"}, safety, []string{"*.tmp"}, true
	})
	require.Equal(t, "2026-01-02 03:04:05", sh(t, live, `date -d @$(stat -c %Y d) '+%F %T' | tr -d '\n'`))
}
