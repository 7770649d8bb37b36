package e2e

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// wire is a line between two sites that can be slow and that breaks.
type wire struct {
	l    net.Listener
	to   atomic.Pointer[string]
	left atomic.Int64  // bytes until it breaks; negative: it holds
	down atomic.Bool   // when it breaks it stays so, until mend
	wait time.Duration // one way
}

func newWire(t testing.TB, wait time.Duration) *wire {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	w := &wire{l: l, wait: wait}
	w.left.Store(-1)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go w.serve(in)
		}
	}()
	return w
}

func (w *wire) addr() string { return w.l.Addr().String() }

// breakAfter has the line break after so many bytes, until it is mended.
func (w *wire) breakAfter(n int64) {
	w.down.Store(true)
	w.left.Store(n)
}

func (w *wire) mend(to string) {
	w.down.Store(false)
	w.left.Store(-1)
	w.to.Store(&to)
}

func (w *wire) serve(in net.Conn) {
	defer in.Close()
	to := w.to.Load()
	if to == nil {
		return
	}
	out, err := net.Dial("tcp", *to)
	if err != nil {
		return
	}
	defer out.Close()
	var once sync.Once
	end := func() { once.Do(func() { in.Close(); out.Close() }) }
	pump := func(dst, src net.Conn) {
		defer end()
		buf := make([]byte, 16<<10)
		for {
			n, err := src.Read(buf)
			if left := w.left.Load(); left >= 0 && w.left.Add(-int64(n)) < 0 {
				if w.down.Load() {
					w.to.Store(nil)
					w.left.Store(0)
				}
				return
			}
			if w.wait > 0 {
				time.Sleep(w.wait)
			}
			if _, werr := dst.Write(buf[:n]); err != nil || werr != nil {
				return
			}
		}
	}
	go pump(out, in)
	pump(in, out)
}

// setting changes a line of a stopped site's site.yaml, or adds it.
func setting(t testing.TB, p *proc, key, value string) {
	path := filepath.Join(p.dir, "site.yaml")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	lines := slices.DeleteFunc(strings.Split(string(raw), "\n"), func(l string) bool {
		return strings.HasPrefix(l, key+":")
	})
	require.NoError(t, os.WriteFile(path, []byte(strings.Join(lines, "\n")+key+": "+value+"\n"), 0o600))
}

func peerPort(t testing.TB, p *proc) string {
	raw, err := os.ReadFile(filepath.Join(p.dir, "site.yaml"))
	require.NoError(t, err)
	for _, l := range strings.Split(string(raw), "\n") {
		if v, ok := strings.CutPrefix(l, "peer_listen: "); ok {
			return strings.Trim(v, `"`)
		}
	}
	t.Fatal("no peer_listen")
	return ""
}

// Three sites, one pushed to and one that pulls, over lines that are slow and break at any
// byte; sites are killed, prune and sweep all the while, and the disk of the far one fills
// up. In the end each has what it should, bit for bit. CANDID_STORM_ROUNDS sets how long.
func TestStorm(t *testing.T) {
	rounds, rng := chance(t, "CANDID_STORM", 6)
	base := t.TempDir()
	src := filepath.Join(base, "share")
	far := filepath.Join(base, "b")
	for _, d := range []string{src, far} {
		require.NoError(t, os.Mkdir(d, 0o755))
	}
	small := unix.Mount("tmpfs", far, "tmpfs", 0, "size=96m") == nil
	if !small {
		t.Log("the far disk does not fill up: a small one can be mounted as root only")
	} else {
		t.Cleanup(func() { unix.Unmount(far, unix.MNT_DETACH) })
	}
	churn(t, rng, src, 150)
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(far, "b"), "stonewick", base)
	c := serve(t, filepath.Join(base, "c"), "mereside", base)
	toB, toA := newWire(t, time.Millisecond), newWire(t, time.Millisecond)
	for p, w := range map[*proc]*wire{a: toA, b: toB} {
		p.stop()
		fixPorts(t, p)
		setting(t, p, "peer_addresses", fmt.Sprintf("[%q]", w.addr()))
		at := peerPort(t, p)
		w.to.Store(&at)
		p.start()
	}
	a.run("volume", "add", "share", "--path", src, "--label", "k=v")
	a.run("site", "pair", strings.TrimSpace(b.run("site", "invite")))
	c.run("site", "pair", strings.TrimSpace(a.run("site", "invite", "--grant", "read", "--grant", "see")), "--grant",
		"nothing")
	a.run("route", "add", "west", "--to", "stonewick", "--volumes", "k=v")
	c.run("route", "add", "in", "--from", "larkfield", "--volumes", "k=v", "--when", "on demand")
	known := map[string]string{}
	take := func() {
		before := digest(t, src)
		out, err := a.try("snapshot", "take", "share", "--json")
		if err == nil {
			id := out[strings.Index(out, `"id": "`)+7:]
			known[id[:64]] = before
		}
	}
	take()
	require.Len(t, known, 1)
	for round := range rounds {
		churn(t, rng, src, 25)
		for _, w := range []*wire{toB, toA} {
			w.left.Store(int64(rng.IntN(400_000)))
		}
		fill := filepath.Join(far, "fill")
		if small && rng.IntN(3) == 0 {
			f, err := os.Create(fill)
			require.NoError(t, err)
			io.Copy(f, io.LimitReader(zero{}, 200<<20)) // as far as there is room
			f.Close()
		}
		var wg sync.WaitGroup
		for _, do := range []func(){
			func() { take(); a.try("route", "run", "west") },
			func() { c.try("route", "run", "in") },
			func() { b.try("prune"); b.try("store", "sweep", "--settle") },
			func() { a.try("prune"); a.try("store", "sweep", "--settle") },
		} {
			wg.Go(do)
		}
		time.Sleep(time.Duration(rng.IntN(250)) * time.Millisecond)
		victim := []*proc{a, b, c}[rng.IntN(3)]
		victim.kill()
		wg.Wait()
		os.Remove(fill)
		victim.start()
		for _, w := range []*wire{toB, toA} {
			w.left.Store(-1)
		}
		if round%4 != 3 && round != rounds-1 {
			continue
		}
		a.run("snapshot", "take", "share")
		a.run("route", "run", "west")
		c.run("route", "run", "in")
		places := map[*proc]string{a: "share", b: "share@larkfield", c: "share@larkfield"}
		for p, v := range places {
			p.run("prune")
			p.run("store", "sweep")
			require.Contains(t, p.run("store", "verify", "--strict"), "all as written")
			proveStores(t, p)
			have := map[string]bool{}
			for _, s := range p.snapshots(v) {
				have[s.ID] = true
			}
			for id, want := range known {
				require.True(t, have[id], "snapshot %s at %s", id, p.dir)
				to := filepath.Join(base, fmt.Sprintf("back-%d-%s-%s", round, filepath.Base(p.dir), id[:8]))
				p.run("restore", v, "--at", id, "--to", to)
				require.Equal(t, want, digest(t, to), "snapshot %s at %s", id, p.dir)
				require.NoError(t, os.RemoveAll(to))
			}
		}
	}
	require.Greater(t, len(known), 1)
}

type zero struct{}

func (zero) Read(b []byte) (int, error) { return len(b), nil }
