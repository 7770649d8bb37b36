package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// The power goes right after something was acknowledged: what the disk has by then, and
// nothing that the kernel still held, is what the service starts from. All that was
// acknowledged must be there.
func TestPowerCut(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("an image can be mounted only by root")
	}
	base := t.TempDir()
	image, live, cut := filepath.Join(base, "image"), filepath.Join(base, "live"), filepath.Join(base, "cut")
	shell(t, base, "mkdir live cut share; truncate -s 400M image; mkfs.ext4 -q -F image")
	if out, err := exec.Command("mount", "-o", "loop", image, live).CombinedOutput(); err != nil {
		t.Skipf("no loop device here: %s", out)
	}
	t.Cleanup(func() { unix.Unmount(live, unix.MNT_DETACH) })
	src := filepath.Join(base, "share")
	a := serve(t, filepath.Join(live, "a"), "larkfield", base)
	a.run("volume", "add", "share", "--path", src)
	after := func(what string, check func(b *proc)) {
		t.Helper()
		shell(t, base, "cp --sparse=always image image.cut && mount -o loop image.cut cut")
		defer func() {
			require.NoError(t, unix.Unmount(cut, 0))
			require.NoError(t, os.Remove(filepath.Join(base, "image.cut")))
		}()
		b := &proc{t: t, bin: a.bin, dir: filepath.Join(cut, "a"), token: "kept",
			args: []string{"serve", "--data", filepath.Join(cut, "a"), "--name", "larkfield", "--listen", "127.0.0.1:0",
				"--root", base}}
		defer b.kill()
		os.Remove(filepath.Join(b.dir, "candid.sock"))
		b.start()
		check(b)
		proveStore(t, b, "share", nil)
		require.Contains(t, b.run("store", "verify", "--strict"), "all as written", what)
		b.stop()
	}
	known := map[string]string{}
	all := func(b *proc) {
		for id, want := range known {
			to := filepath.Join(base, "back")
			b.run("restore", "share", "--at", id, "--to", to)
			require.Equal(t, want, digest(t, to), id)
			require.NoError(t, os.RemoveAll(to))
		}
	}
	for n := range 3 {
		shell(t, src, fmt.Sprintf("for k in 1 2 3 4 5 6; do head -c %d /dev/urandom > f$k; done; echo %d > n", 1000+n*700_000,
			n))
		a.run("snapshot", "take", "share")
		known[a.snapshots("share")[0].ID] = digest(t, src)
		after(fmt.Sprint("snapshot ", n), all)
	}
	kept := a.snapshots("share")[2].ID
	a.run("snapshot", "keep", kept, "--reason", "evidence")
	after("a keep mark", func(b *proc) {
		require.Contains(t, b.run("snapshot", "show", kept), "evidence")
	})
	require.NoError(t, os.WriteFile(filepath.Join(base, "p.yaml"), []byte("policy: p\nvolumes: {names: [share]}\ntake: "+
		"[monthly on last day at 06:06]\nkeep: {larkfield: {newest: 1, by_hand: 1 second}}\ngrace: 1 second\n"), 0o644))
	a.run("policy", "put", "--yes", filepath.Join(base, "p.yaml"))
	after("a policy", func(b *proc) {
		require.Contains(t, b.run("policy", "list"), "p")
		all(b)
		other := b.snapshots("share")[1].ID
		pruned(t, b, other) // and what is kept stays when the rules are applied
		require.Contains(t, b.run("snapshot", "list", "share"), kept[:12])
	})
	a.run("store", "sweep", "--settle")
	after("a sweep", all)
	gone := a.snapshots("share")[1].ID
	pruned(t, a, gone)
	delete(known, gone)
	after("a removal", func(b *proc) {
		require.NotContains(t, b.run("snapshot", "list", "share"), gone[:12], "a removed snapshot came back")
		all(b)
	})
	atOnce := a.snapshots("share")[1].ID
	a.run("snapshot", "let-go", atOnce)
	a.run("snapshot", "remove", atOnce, "--at-once", "--yes")
	delete(known, atOnce)
	after("a removal at once", func(b *proc) {
		require.NotContains(t, b.run("snapshot", "list", "share"), atOnce[:12], "a removed snapshot came back")
		all(b)
	})
	a.stop()
}

// pruned applies the rules until a snapshot is gone.
func pruned(t testing.TB, p *proc, id string) {
	require.Eventually(t, func() bool {
		p.run("prune")
		return !strings.Contains(p.run("snapshot", "list", "share"), id[:12])
	}, 20*time.Second, 100*time.Millisecond)
}
