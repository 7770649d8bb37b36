package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// mounted puts an export under a directory as ext4, by nbdfuse and a loop device. end takes it away.
func mounted(t *testing.T, base, uri, dir string, fresh bool) (end func()) {
	t.Helper()
	at, shown := filepath.Join(base, dir), filepath.Join(base, dir+"-fuse")
	require.NoError(t, os.MkdirAll(at, 0o755))
	require.NoError(t, os.MkdirAll(shown, 0o755))
	fuse := exec.Command("nbdfuse", shown, uri)
	require.NoError(t, fuse.Start())
	file, dev := filepath.Join(shown, "nbd"), ""
	over := false
	end = func() {
		if over {
			return
		}
		over = true
		_ = exec.Command("umount", at).Run()
		if dev != "" {
			_ = exec.Command("losetup", "-d", dev).Run()
		}
		_ = exec.Command("umount", "-l", at).Run()
		_ = exec.Command("umount", shown).Run() // nbdfuse flushes, says that it leaves, and ends
		ended := make(chan struct{})
		go func() { fuse.Wait(); close(ended) }()
		select {
		case <-ended:
		case <-time.After(10 * time.Second):
			_ = fuse.Process.Kill()
			<-ended
		}
	}
	t.Cleanup(end)
	require.Eventually(t, func() bool { _, err := os.Stat(file); return err == nil }, 10*time.Second, 20*time.Millisecond)
	out, err := exec.Command("losetup", "-f", "--show", file).Output()
	if err != nil {
		t.Skipf("this kernel makes no loop device: %v", err)
	}
	dev = strings.TrimSpace(string(out))
	if fresh {
		shell(t, base, "mkfs.ext4 -q "+dev)
	}
	shell(t, base, "mount "+dev+" "+at)
	return end
}

// A database on a disk is snapshotted under load. Each snapshot, opened as a clone, recovers by the database's own
// means, is found whole by its own tools, and has every transaction that was committed before.
func TestDatabaseOnADisk(t *testing.T) {
	bins, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if _, err := exec.LookPath("nbdfuse"); err != nil || os.Getuid() != 0 || len(bins) == 0 {
		t.Skip("only root mounts, by nbdfuse, and it takes a PostgreSQL")
	}
	bin := filepath.Dir(bins[len(bins)-1])
	base, err := os.MkdirTemp("/tmp", "db") // sockets have short paths
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	shell(t, base, "chmod 755 .; mkdir sock; chown postgres: sock")
	sock := filepath.Join(base, "sock")
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	a.run("volume", "add", "db", "--size", "256MiB")
	uri := func(export string) string {
		return "nbd+unix:///" + export + "?socket=" + filepath.Join(a.dir, "nbd.sock")
	}
	as := func(script string, args ...any) string {
		t.Helper()
		cmd := exec.Command("setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups", "sh", "-ec",
			fmt.Sprintf(script, args...))
		cmd.Dir = base
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", script, out)
		return strings.TrimSpace(string(out))
	}
	start := func(dir string) (stop func()) {
		as(`%s/pg_ctl -D %s/data -w -l %s/log -o "-k %s -c listen_addresses='' -c shared_buffers=32MB" start > /dev/null ||
			{ tail -20 %s/log; exit 1; }`,
			bin, dir, dir, sock, dir)
		over := false
		stop = func() {
			if !over {
				over = true
				as(`%s/pg_ctl -D %s/data -w -m fast stop > /dev/null`, bin, dir)
			}
		}
		return stop
	}
	ask := func(query string) string {
		return as(`%s/psql -h %s -AtX -c "%s" postgres`, bin, sock, query)
	}
	end := mounted(t, base, uri("db"), "live", true)
	shell(t, base, "chown postgres: live")
	as(`%s/initdb -D live/data -k --wal-segsize=1 -A trust > /dev/null; `+
		`printf 'max_wal_size = 32MB\nmin_wal_size = 4MB\n' >> live/data/postgresql.conf; sync -f live`, bin)
	stop := start("live")
	t.Cleanup(func() { _ = exec.Command("pkill", "-9", "-f", filepath.Join(base, "live")).Run() })
	as(`%s/pgbench -h %s -i -q -s 1 postgres 2> /dev/null`, bin, sock)
	load := exec.Command(filepath.Join(bin, "pgbench"), "-h", sock, "-U", "postgres", "-n", "-c", "4",
		"-T", "3600", "postgres")
	require.NoError(t, load.Start())
	counted := func() int {
		n, err := strconv.Atoi(ask("SELECT count(*) FROM pgbench_history"))
		require.NoError(t, err)
		return n
	}

	rounds, _ := chance(t, "CANDID_DATABASE", 3)
	var least []int
	for n := range rounds {
		last := 0
		if n > 0 {
			last = least[n-1]
		}
		require.Eventually(t, func() bool { return counted() > last }, 20*time.Second, 5*time.Millisecond)
		least = append(least, counted())
		a.run("snapshot", "take", "db")
		a.run("clone", "create", fmt.Sprint("c", n), "db", "--at", "latest")
	}
	require.NoError(t, load.Process.Kill())
	_ = load.Wait()
	most := counted() + 4 // one of each client may be on its way: on the disk, and not told to anybody yet
	stop()
	end()
	for n := range rounds {
		name := fmt.Sprint("c", n)
		end := mounted(t, base, uri(name), name, false)
		as("rm -f %s/data/postmaster.pid", name)
		stop := start(name)
		is := counted()
		require.GreaterOrEqual(t, is, least[n], "what was committed before the snapshot is in it")
		require.LessOrEqual(t, is, most)
		require.Equal(t, "t", ask(`SELECT (SELECT sum(abalance) FROM pgbench_accounts) = coalesce(sum(delta), 0) AND
			(SELECT sum(bbalance) FROM pgbench_branches) = coalesce(sum(delta), 0) AND
			(SELECT sum(tbalance) FROM pgbench_tellers) = coalesce(sum(delta), 0) FROM pgbench_history`))
		as(`%s/pg_amcheck -h %s --install-missing --heapallindexed postgres`, bin, sock)
		stop()
		as(`%s/pg_checksums --check -D %s/data > /dev/null`, bin, name)
		end()
		a.run("clone", "discard", name, "--yes")
	}
	a.run("store", "verify")
}
