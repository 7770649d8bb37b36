package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A whole host is one volume, from / down: what the kernel shows and what ends with a run is left out without a remark,
// the service's own data too, and another filesystem with one. Brought back from the other site to an empty directory,
// as from a rescue system, it is the same to the bit, and its programs run there.
func TestWholeHost(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root changes its root")
	}
	base := t.TempDir()
	host := filepath.Join(base, "host")
	bin, err := build()
	require.NoError(t, err)
	shell(t, base, `mkdir -p host/proc host/dev host/run host/srv/ram host/tmp host/etc/alternatives host/var/lib/candid \
			host/usr/bin host/home/ines
		for f in /bin/sh /bin/ls $(ldd /bin/sh /bin/ls | grep -o '/[^ :]*' | sort -u); do
			mkdir -p host/$(dirname $f); cp -L $f host/$f; done
		cp `+bin+` host/usr/bin/candid
		cp host/bin/ls host/usr/bin/raised; chmod 4755 host/usr/bin/raised; chmod 1777 host/tmp
		ln -s /bin/sh host/etc/alternatives/shell; ln host/usr/bin/raised host/usr/bin/also-raised
		echo root:x:0:0 > host/etc/passwd; echo hers > host/home/ines/a; chown -R 1500:1500 host/home/ines
		mknod host/etc/null c 1 3; mkfifo host/etc/pipe; truncate -s 50M host/etc/sparse; echo end >> host/etc/sparse
		printf '%s\n' '[b{ra}ck*et]' > 'host/etc/[b{ra}ck*et]'`)
	if out, err := exec.Command("unshare", "-m", "true").CombinedOutput(); err != nil {
		t.Skipf("no mount namespace here: %s", out)
	}
	enter := filepath.Join(base, "enter")
	require.NoError(t, os.WriteFile(enter, []byte(`#!/bin/sh
		exec unshare -m sh -c 'mount --make-rprivate / && mount -t proc proc `+host+`/proc && mount -t tmpfs a `+host+
		`/run && mount -t tmpfs b `+host+`/dev && mount -t tmpfs c `+host+`/srv/ram && exec chroot `+host+
		` /usr/bin/candid "$@"' sh "$@"`), 0o755))
	a := &proc{t: t, bin: bin, server: enter, dir: filepath.Join(host, "var/lib/candid"),
		args: []string{"serve", "--data", "/var/lib/candid", "--name", "larkfield", "--listen", "127.0.0.1:0", "--root", "/"}}
	t.Cleanup(a.kill)
	a.start()
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)

	_, err = a.try("volume", "add", "own", "--path", "/var/lib/candid/store")
	require.ErrorContains(t, err, "is this site's own data directory, or lies in it")
	said := a.run("volume", "add", "host", "--path", "/", "--label", "k=v")
	require.Contains(t, said, "srv/ram")
	require.Contains(t, said, "What this site itself keeps there is left out: /var/lib/candid.")
	for _, passes := range []string{"proc", "dev", "run,", "run."} {
		require.NotContains(t, said[strings.Index(said, "Other filesystems"):], passes)
	}
	pair(t, a, b, "k=v")
	taken := a.run("snapshot", "take", "host")
	require.Contains(t, taken, "remark")
	shown := a.run("snapshot", "show", a.snapshots("host")[0].ID)
	require.Contains(t, shown, "remarks      1\n")
	require.Contains(t, shown, "srv/ram: another filesystem is mounted here")
	first := a.run("--json", "snapshot", "show", a.snapshots("host")[0].ID)
	a.run("snapshot", "take", "host") // what the service wrote since is no change of the host
	require.Equal(t, countOf(t, first, "bytes"), countOf(t, a.run("--json", "snapshot", "show", a.snapshots("host")[0].ID),
		"bytes"))
	a.run("route", "run", "to-dr")
	a.kill()

	// A rescue system beside the empty disk is a site of its own for as long as it takes.
	r := serve(t, filepath.Join(base, "r"), "rescue", base)
	back := filepath.Join(base, "new")
	r.run("site", "pair", strings.TrimSpace(b.run("site", "invite", "--grant", "read")))
	r.run("route", "add", "home", "--from", "stonewick", "--volumes", "name=host@larkfield")
	r.run("route", "run", "home")
	r.run("restore", "host@larkfield", "--at", "latest", "--to", back)
	require.NoDirExists(t, filepath.Join(back, "var/lib/candid"), "its own data is not in it")
	require.NoError(t, os.RemoveAll(filepath.Join(host, "var/lib/candid")))
	// What is mounted shows its own rights in place of those of the directory that it covers.
	list := `cd %s && find . -printf '%%P|%%y|%%m|%%U|%%G|%%n|%%l|%%T@\n' |
			grep -vE '^(var/lib|proc|dev|run|srv/ram)[|]' | sort; find . -type f -print0 | sort -z |
			xargs -0 sha256sum; ls -l etc/null; find . -type f -size +40M -printf '%%b\n' | awk '{print ($1<1000)}'`
	was, err := exec.Command("sh", "-c", fmt.Sprintf(list, host)).Output()
	require.NoError(t, err)
	is, err := exec.Command("sh", "-c", fmt.Sprintf(list, back)).Output()
	require.NoError(t, err)
	require.Equal(t, string(was), string(is))
	out, err := exec.Command("chroot", back, "/etc/alternatives/shell", "-c",
		"ls /home/ines && echo alive").CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, "a\nalive\n", string(out))
}

// countOf is a number of a JSON document.
func countOf(t *testing.T, doc, field string) string {
	t.Helper()
	_, rest, ok := strings.Cut(doc, `"`+field+`": `)
	require.True(t, ok, doc)
	n, _, _ := strings.Cut(rest, ",")
	return n
}
