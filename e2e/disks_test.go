package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// tool runs a program that nobody here wrote.
func tool(t testing.TB, dir string, name string, args ...string) string {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		t.Skipf("%s is not installed", name)
	}
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s %s: %s", name, strings.Join(args, " "), out)
	return string(out)
}

// Clients that nobody here wrote read and write a disk, find in each snapshot what they had written, and are
// held apart.
func TestDiskClients(t *testing.T) {
	base := t.TempDir()
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	a.run("volume", "add", "db", "--size", "64MiB")
	uri := func(export string) string {
		return "nbd+unix:///" + export + "?socket=" + filepath.Join(a.dir, "nbd.sock")
	}
	shell(t, base, "head -c 7000000 /dev/urandom > raw; truncate -s 30M raw; head -c 3000000 /dev/urandom >> raw; "+
		"truncate -s 64M raw")
	require.Contains(t, tool(t, base, "nbdinfo", "--list", uri("")), `export="db"`)
	tool(t, base, "nbdcopy", "raw", uri("db"))
	tool(t, base, "nbdcopy", uri("db"), "back")
	tool(t, base, "cmp", "raw", "back")
	a.run("snapshot", "take", "db", "--note", "as copied")
	first := a.snapshots("db")[0].ID

	tool(t, base, "qemu-io", "-f", "raw", "-c", "write -P 7 1M 3M", "-c", "write -z 8M 1M", "-c", "discard 20M 1M", "-c",
		"read -P 7 1M 3M", "-c", "read -P 0 8M 1M", "-c", "flush", uri("db"))
	tool(t, base, "fio", "--name=v", "--ioengine=nbd", "--uri="+uri("db"), "--rw=randrw", "--bs=4k", "--iodepth=32",
		"--offset=32M", "--size=2M", "--verify=crc32c", "--fsync=64")
	a.run("snapshot", "take", "db", "--note", "as changed")
	tool(t, base, "qemu-img", "compare", "-f", "raw", "-F", "raw", "raw", uri("db:"+first[:12]))
	out, err := exec.Command("qemu-io", "-f", "raw", "-r", "-c", "write 0 512", uri("db:"+first[:12])).CombinedOutput()
	require.NotContains(t, string(out), "wrote 512", "%v", err)
	a.run("restore", "db", "--at", first, "--to", filepath.Join(base, "image"))
	tool(t, base, "cmp", "raw", "image")
	require.Contains(t, tool(t, base, "nbdinfo", "--map", uri("db:"+first[:12])), "hole,zero")
	require.Contains(t, a.run("disk", "open", "db", "--read-only"), uri("db:"+a.snapshots("db")[0].ID[:12]))
	_, err = a.try("disk", "open", "db", "--at", "2020-01-01")
	require.ErrorContains(t, err, "no snapshot of db here stands for that moment")

	// Who has it open has it alone.
	c, err := dialNBD(filepath.Join(a.dir, "nbd.sock"), "db")
	require.NoError(t, err)
	require.NoError(t, c.write([]byte("held"), 0))
	out, err = exec.Command("qemu-img", "info", "-f", "raw", uri("db")).CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "open already")
	require.Contains(t, a.run("disk", "show", "db"), "e2e.test")
	_, err = a.try("restore", "db", "--at", first, "--in-place")
	require.ErrorContains(t, err, "1 client is connected")
	c.Close() // without saying so: its process might come back
	_, err = exec.Command("nbdcopy", uri("db"), "null:").CombinedOutput()
	require.Error(t, err)
	require.Contains(t, a.run("disk", "list"), "held")
	a.run("disk", "release", "db")
	tool(t, base, "nbdcopy", uri("db"), "null:")
	c, err = dialNBD(filepath.Join(a.dir, "nbd.sock"), "db")
	require.NoError(t, err)
	a.run("restore", "db", "--at", first, "--in-place", "--disconnect")
	require.Error(t, c.write([]byte("late"), 0), "it does not write over what came back")
	tool(t, base, "qemu-img", "compare", "-f", "raw", "-F", "raw", "raw", uri("db"))
	a.run("disk", "close", "db")
	_, err = dialNBD(filepath.Join(a.dir, "nbd.sock"), "db")
	require.Error(t, err)
	a.run("disk", "open", "db")
	a.run("disk", "grow", "db", "80MiB")
	require.Equal(t, "83886080\n", tool(t, base, "nbdinfo", "--size", uri("db")))
	require.Contains(t, a.run("ledger", "list"), "openDisk")
}

// A filesystem that the kernel has mounted is written to all the time. In each snapshot it recovers as after a
// power cut, and has every file that was synced before.
func TestFilesystemOnADisk(t *testing.T) {
	if _, err := exec.LookPath("nbdfuse"); err != nil || os.Getuid() != 0 {
		t.Skip("only root mounts, and by nbdfuse")
	}
	base := t.TempDir()
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	a.run("volume", "add", "db", "--size", "64MiB")
	at, shown := filepath.Join(base, "mnt"), filepath.Join(base, "fuse")
	shell(t, base, "mkdir mnt fuse")
	fuse := exec.Command("nbdfuse", shown, "nbd+unix:///db?socket="+filepath.Join(a.dir, "nbd.sock"))
	require.NoError(t, fuse.Start())
	t.Cleanup(func() {
		_ = exec.Command("umount", "-l", at).Run()
		_ = exec.Command("umount", "-l", shown).Run()
		_ = fuse.Process.Kill()
		_ = fuse.Wait()
	})
	file := filepath.Join(shown, "nbd")
	require.Eventually(t, func() bool { _, err := os.Stat(file); return err == nil }, 10*time.Second, 20*time.Millisecond)
	loop := exec.Command("losetup", "-f", "--show", file)
	out, err := loop.Output()
	if err != nil {
		t.Skipf("this kernel makes no loop device: %v", err)
	}
	dev := strings.TrimSpace(string(out))
	t.Cleanup(func() { _ = exec.Command("losetup", "-d", dev).Run() })
	shell(t, base, "mkfs.ext4 -q "+dev+" && mount "+dev+" mnt")
	var synced atomic.Int64
	stop, writing := make(chan struct{}), make(chan error, 1)
	text := func(n int64) string { return strings.Repeat(fmt.Sprintf("file %d\n", n), int(1+n%3000)) }
	go func() {
		for n := int64(1); ; n++ {
			select {
			case <-stop:
				writing <- nil
				return
			default:
			}
			f, err := os.Create(filepath.Join(at, fmt.Sprint("f", n%500)))
			if err == nil {
				_, err = f.WriteString(text(n))
			}
			if err == nil {
				err = errors.Join(f.Sync(), f.Close())
			}
			if err == nil { // its name too
				d, derr := os.Open(at)
				if err = derr; err == nil {
					err = errors.Join(d.Sync(), d.Close())
				}
			}
			if err != nil {
				writing <- err
				return
			}
			synced.Store(n)
		}
	}()
	before := map[string]int64{}
	for range 8 {
		n := synced.Load()
		a.run("snapshot", "take", "db")
		before[a.snapshots("db")[0].ID] = n
	}
	require.Eventually(t, func() bool { return synced.Load() > 20 }, 20*time.Second, 20*time.Millisecond)
	a.run("snapshot", "take", "db")
	close(stop)
	require.NoError(t, <-writing)
	require.Len(t, before, 8)
	shell(t, base, "umount mnt")
	for id, n := range before {
		a.run("restore", "db", "--at", id, "--to", filepath.Join(base, "r"))
		shell(t, base, "e2fsck -fy r > log || test $? -le 1; e2fsck -fn r > log; mount -o loop r mnt")
		for k := max(1, n-400); k <= n; k++ {
			raw, err := os.ReadFile(filepath.Join(at, fmt.Sprint("f", k%500)))
			require.NoError(t, err, "file %d of %d", k, n)
			if got := string(raw); got != text(k) { // a later one of its name was under way, or done
				require.NotEqual(t, strings.HasPrefix(got, fmt.Sprintf("file %d\n", k)), true, "file %d of %d is torn", k, n)
			}
		}
		shell(t, base, "umount mnt; rm r")
	}
}

// The service is killed in the middle of writes, snapshots and going back. What a client was answered is
// there, and each snapshot that was acknowledged is what the disk was.
func TestDiskKills(t *testing.T) {
	rounds, rng := chance(t, "CANDID_DISK_KILL", 50)
	base := t.TempDir()
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	const size = 8 << 20
	a.run("volume", "add", "db", "--size", "8MiB", "--block", "4KiB")
	holds := make([]byte, size)
	known := map[string][]byte{}
	var order []string
	for round := range rounds {
		c, err := dialNBD(filepath.Join(a.dir, "nbd.sock"), "db")
		require.NoError(t, err, "round %d: %s", round, a.out.String())
		got := make([]byte, size)
		require.NoError(t, c.read(got, 0))
		require.True(t, bytes.Equal(holds, got), "round %d", round)
		var maybe []byte // what the write under way was
		var at int64
		write := func() error {
			maybe, at = bytes.Repeat([]byte{byte(rng.Uint32())}, 1+rng.IntN(30_000)), rng.Int64N(size-30_000)
			if err := c.write(maybe, at); err != nil {
				return err
			}
			copy(holds[at:], maybe)
			maybe = nil
			if rng.IntN(10) == 0 {
				return c.flush()
			}
			return nil
		}
		for range rng.IntN(40) {
			require.NoError(t, write())
		}
		before := bytes.Clone(holds)
		var taken sync.WaitGroup
		op := rng.IntN(3)
		if op == 2 && len(order) > 0 {
			c.leave()
		}
		taken.Go(func() {
			switch {
			case op == 2 && len(order) > 0:
				id := order[rng.IntN(len(order))]
				if _, err := a.try("restore", "db", "--at", id, "--in-place"); err == nil {
					holds = bytes.Clone(known[id])
				} else {
					holds = nil // it is one or the other
					known["maybe"] = known[id]
				}
			default:
				if out, err := a.try("snapshot", "take", "db", "--json"); err == nil {
					id := out[strings.Index(out, `"id": "`)+7:][:64]
					if op == 0 { // else it is of some moment among the writes
						known[id], order = before, append(order, id)
					}
				}
			}
		})
		wait := rng.IntN(150)
		writing := make(chan struct{})
		go func() { // alone with the dice until the other has ended
			defer close(writing)
			for op == 1 && write() == nil {
			}
		}()
		over := make(chan struct{})
		go func() {
			taken.Wait()
			close(over)
		}()
		select { // a random instant of the work
		case <-time.After(time.Duration(wait) * time.Millisecond):
		case <-over:
		}
		a.kill()
		<-over
		<-writing
		c.Close()
		a.start()
		require.Eventually(t, func() bool { // a restore that was cut short goes on
			return !strings.Contains(a.run("run", "list"), "\trunning\t") && !strings.Contains(a.run("run", "list"), "queued")
		}, time.Minute, 10*time.Millisecond)
		if holds == nil || maybe != nil { // what was not answered may be there or not
			c, err := dialNBD(filepath.Join(a.dir, "nbd.sock"), "db")
			require.NoError(t, err)
			got := make([]byte, size)
			require.NoError(t, c.read(got, 0))
			c.leave()
			if holds == nil {
				require.True(t, bytes.Equal(got, before) || bytes.Equal(got, known["maybe"]), "round %d", round)
			} else {
				for i := range got {
					if in := int64(i) - at; in >= 0 && in < int64(len(maybe)) && got[i] == maybe[in] {
						holds[i] = got[i]
					}
				}
				require.True(t, bytes.Equal(holds, got), "round %d", round)
			}
			holds = got
		}
	}
	delete(known, "maybe")
	list := a.snapshots("db")
	for id, was := range known {
		to := filepath.Join(base, "r")
		a.run("restore", "db", "--at", id, "--to", to)
		got, err := os.ReadFile(to)
		require.NoError(t, err)
		require.True(t, bytes.Equal(was, got), "%s of %d", id, len(list))
		require.NoError(t, os.Remove(to))
	}
	a.run("store", "verify")
}

// From its first arrival on a copy of a disk can be read at the other site, and written to as a clone, without
// anything being copied. What a connection opened stays what it was.
func TestDiskCopies(t *testing.T) {
	base := t.TempDir()
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	a.run("volume", "add", "db", "--size", "16MiB", "--label", "k=v")
	pair(t, a, b, "k=v")
	at := func(p *proc, export string) string {
		return "nbd+unix:///" + export + "?socket=" + filepath.Join(p.dir, "nbd.sock")
	}
	shell(t, base, "head -c 16777216 /dev/urandom > first; cp first second; "+
		"head -c 100000 /dev/urandom | dd of=second bs=1 seek=5000000 conv=notrunc status=none")
	tool(t, base, "nbdcopy", "first", at(a, "db"))
	a.run("snapshot", "take", "db")
	a.run("route", "run", "to-dr")
	require.Contains(t, tool(t, base, "nbdinfo", "--list", at(b, "")), `export="db@larkfield"`)
	require.Contains(t, b.run("disk", "list"), "copy")
	require.Contains(t, b.run("disk", "show", "db@larkfield"), "candid clone create NAME db@larkfield")
	tool(t, base, "nbdcopy", at(b, "db@larkfield"), "back")
	tool(t, base, "cmp", "first", "back")
	old, err := dialNBD(filepath.Join(b.dir, "nbd.sock"), "db@larkfield")
	require.NoError(t, err)
	require.Error(t, old.write([]byte("x"), 0), "it can only be read")
	old, err = dialNBD(filepath.Join(b.dir, "nbd.sock"), "db@larkfield")
	require.NoError(t, err)

	tool(t, base, "nbdcopy", "second", at(a, "db"))
	a.run("snapshot", "take", "db")
	a.run("route", "run", "to-dr")
	tool(t, base, "nbdcopy", at(b, "db@larkfield"), "back")
	tool(t, base, "cmp", "second", "back")
	got, want := make([]byte, 1000), make([]byte, 1000)
	require.NoError(t, old.read(got, 5000000))
	f, err := os.Open(filepath.Join(base, "first"))
	require.NoError(t, err)
	defer f.Close()
	_, err = f.ReadAt(want, 5000000)
	require.NoError(t, err)
	require.Equal(t, want, got)

	b.run("clone", "create", "taken-over", "db@larkfield", "--at", "latest")
	tool(t, base, "qemu-io", "-f", "raw", "-c", "write -P 7 1M 64k", "-c", "flush", at(b, "taken-over"))
	b.run("clone", "make-volume", "taken-over")
	shell(t, base, "head -c 65536 /dev/zero | tr '\\0' '\\7' | dd of=second bs=65536 seek=16 conv=notrunc status=none")
	tool(t, base, "nbdcopy", at(b, "taken-over"), "back")
	tool(t, base, "cmp", "second", "back")
	b.run("restore", "taken-over", "--at", "latest", "--to", filepath.Join(base, "image"))
	tool(t, base, "cmp", "second", "image")
}
