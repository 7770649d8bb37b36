package e2e

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A disk goes back to a snapshot that only the other site has: it is used at once, while the line is cut and the
// service killed, and what is read before it came waits for the line. Once all has come the other site is not needed.
func TestDiskBackFromAfar(t *testing.T) {
	base := t.TempDir()
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	toB := newWire(t, 0)
	b.stop()
	fixPorts(t, b)
	setting(t, b, "peer_addresses", fmt.Sprintf("[%q]", toB.addr()))
	port := peerPort(t, b)
	toB.mend(port)
	b.start()
	const size, half = 8 << 20, 4 << 20
	a.run("volume", "add", "db", "--size", "8MiB", "--label", "k=v")
	require.NoError(t, os.WriteFile(filepath.Join(base, "p.yaml"), []byte("policy: p\nvolumes: {k: v}\ntake: [monthly "+
		"on last day at 06:06]\nkeep:\n  larkfield: {newest: 1, by_hand: 1 second}\n  stonewick: {newest: 9, by_hand: 9 "+
		"years}\ngrace: 1 second\n"), 0o644))
	pair(t, a, b, "k=v")
	a.run("policy", "put", "--yes", filepath.Join(base, "p.yaml"))
	r := rand.New(rand.NewPCG(8, 1))
	noise := func(n int) []byte {
		p := make([]byte, n)
		for i := range p {
			p[i] = byte(r.Uint32())
		}
		return p
	}
	sock := filepath.Join(a.dir, "nbd.sock")
	write := func(p []byte, off int64) {
		c, err := dialNBD(sock, "db")
		require.NoError(t, err)
		require.NoError(t, c.write(p, off))
		require.NoError(t, c.flush())
		c.leave()
	}
	read := func(off, n int64) []byte {
		c, err := dialNBD(sock, "db")
		require.NoError(t, err)
		defer c.leave()
		p := make([]byte, n)
		require.NoError(t, c.read(p, off))
		return p
	}
	take := func() {
		a.run("snapshot", "take", "db")
		a.run("route", "run", "to-dr")
	}
	then := noise(size)
	write(then, 0)
	take()
	old := a.snapshots("db")[0].ID
	now := append(bytes.Clone(then[:half]), noise(half)...)
	write(now[half:], half)
	take()
	gone := func() { // what a has of the old one alone
		require.Eventually(t, func() bool {
			a.run("prune")
			return !strings.Contains(a.run("snapshot", "list", "db"), old[:12])
		}, 20*time.Second, 100*time.Millisecond)
		a.run("store", "sweep")
	}
	gone()
	plan := a.run("restore", "db", "--at", old, "--from-site", "stonewick", "--in-place", "--dry-run")
	require.Contains(t, plan, "what stonewick has of it would come while the disk is in use already")

	type shown struct{ ArrivingFrom, State, Sentence string }
	show := func() (d shown) {
		a.json(&d, "disk", "show", "db")
		return d
	}
	last := func(kind string) (id, state string) {
		var list struct {
			Items []struct {
				ID    int64
				State string
			}
		}
		a.json(&list, "run", "list", "--kind", kind, "--limit", "1")
		return fmt.Sprint(list.Items[0].ID), list.Items[0].State
	}
	back := func() string {
		return a.run("restore", "db", "--at", old, "--from-site", "stonewick", "--in-place")
	}
	arrived := func() {
		require.Eventually(t, func() bool { return show().ArrivingFrom == "" }, 60*time.Second, 50*time.Millisecond,
			"%s", a.run("run", "list"))
	}

	toB.breakAfter(1 << 20)
	said := back()
	require.Contains(t, said, "Up to 4.0 MiB of it have yet to come from stonewick")
	require.Equal(t, "stonewick", show().ArrivingFrom)
	require.True(t, bytes.Equal(then[:half], read(0, half)), "what is here needs no line")

	// It is taken back, and that is, over a line that is cut.
	id, _ := last("restore")
	said = a.run("undo", id)
	require.Contains(t, said, "nobody had written to what was there before, which is snapshot "+old[:12]+" at stonewick")
	require.Empty(t, show().ArrivingFrom)
	require.True(t, bytes.Equal(now, read(0, size)))
	_, err := a.try("restore", "db", "--at", old, "--from-site", "stonewick", "--in-place")
	require.ErrorContains(t, err, "stonewick")
	require.True(t, bytes.Equal(now, read(0, size)), "and changes nothing")
	toB.mend(port)
	toB.breakAfter(1 << 20)
	id, _ = last("restore")
	a.run("undo", id)
	require.Equal(t, "stonewick", show().ArrivingFrom)

	// It is written to, and the service is killed.
	fresh := noise(64 << 10)
	write(fresh, half+30*(64<<10))
	is := bytes.Clone(then)
	copy(is[half+30*(64<<10):], fresh)
	a.kill()
	a.start()
	require.Equal(t, "stonewick", show().ArrivingFrom)
	require.True(t, bytes.Equal(is[:half], read(0, half)))
	require.True(t, bytes.Equal(fresh, read(half+30*(64<<10), 64<<10)))
	a.run("store", "sweep")

	// Who reads what has not come waits for the line.
	c, err := dialNBD(sock, "db")
	require.NoError(t, err)
	got, done := make([]byte, half), make(chan error)
	go func() { done <- c.read(got, half) }()
	select {
	case err := <-done:
		t.Fatalf("it was read without the line: %v", err)
	case <-time.After(300 * time.Millisecond):
	}
	toB.mend(port)
	require.NoError(t, <-done)
	c.leave()
	require.True(t, bytes.Equal(is[half:], got))
	arrived()

	// Now it stands alone.
	toB.breakAfter(0)
	a.run("store", "sweep")
	require.True(t, bytes.Equal(is, read(0, size)))
	a.run("snapshot", "take", "db")
	a.run("restore", "db", "--at", "latest", "--to", filepath.Join(base, "image"))
	image, err := os.ReadFile(filepath.Join(base, "image"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(is, image))
	require.Contains(t, a.run("store", "verify"), "all as written")
	id, _ = last("restore")
	_, err = a.try("undo", id)
	require.Error(t, err, "a file is not taken back")
	a.kill()
	a.start()
	require.True(t, bytes.Equal(is, read(0, size)))
}
