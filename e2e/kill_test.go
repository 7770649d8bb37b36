package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Either process is killed at a random point of snapshot, carry, prune, sweep,
// restore or removal at once. Every acknowledged snapshot restores bit for bit, the next run succeeds, and
// nobody repairs anything. CANDID_KILL_ROUNDS sets how often; 200 in make test-kill.
func TestKill(t *testing.T) {
	rounds, rng := chance(t, "CANDID_KILL", 8)
	base := t.TempDir()
	src := filepath.Join(base, "share")
	require.NoError(t, os.Mkdir(src, 0o755))
	churn(t, rng, src, 200)
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	// The peer address must stay the same over restarts.
	b.stop()
	fixPorts(t, b)
	b.start()
	a.run("volume", "add", "share", "--path", src, "--label", "k=v")
	pair(t, a, b, "k=v")
	known := map[string]string{} // acknowledged snapshot → digest of what it holds
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
	removed := map[string]bool{} // at once, or perhaps: there is no telling when it was killed
	for round := range rounds {
		churn(t, rng, src, 20)
		victim := a
		if rng.IntN(2) == 0 {
			victim = b
		}
		done := make(chan struct{})
		var old []string // acknowledged, and not the newest
		for _, s := range a.snapshots("share")[1:] {
			old = append(old, s.ID)
		}
		op := []string{"take", "carry", "prune", "sweep", "restore", "remove"}[rng.IntN(6)]
		if op == "remove" {
			victim = a
		}
		go func() {
			defer close(done)
			switch op {
			case "take":
				take()
			case "carry":
				a.try("snapshot", "take", "share")
				a.try("route", "run", "to-dr")
			case "prune":
				victim.try("prune")
			case "sweep":
				victim.try("store", "sweep", "--settle")
			case "restore":
				a.try("restore", "share", "--at", "latest", "--to", filepath.Join(base, fmt.Sprint("half", round/2)),
					"--on-conflict", "replace")
			case "remove":
				if len(old) > 0 {
					gone := []string{old[0], old[len(old)-1]}
					a.try(append([]string{"snapshot", "remove", "--at-once", "--yes"}, gone...)...)
					removed[gone[0]], removed[gone[1]] = true, true
				}
			}
		}()
		select { // a random instant of the work
		case <-time.After(time.Duration(rng.IntN(120)) * time.Millisecond):
		case <-done:
		}
		victim.kill()
		<-done
		victim.start()
		a.run("snapshot", "take", "share")
		a.run("route", "run", "to-dr")
		if round%6 == 5 || round == rounds-1 {
			for _, p := range []*proc{a, b} {
				p.run("prune")
				p.run("store", "sweep")
				require.Contains(t, p.run("store", "verify", "--strict"), "all as written")
			}
			volume := map[*proc]string{a: "share", b: "share@larkfield"}
			for p, v := range volume {
				proveStore(t, p, v, nil)
			}
			n := 0
			for id, want := range known {
				for p, v := range volume {
					if p == a && removed[id] { // the copy stays
						continue
					}
					to := filepath.Join(base, fmt.Sprintf("back-%d-%d", round, n))
					n++
					p.run("restore", v, "--at", id, "--to", to)
					require.Equal(t, want, digest(t, to), "snapshot %s at %s", id, v)
					require.NoError(t, os.RemoveAll(to))
				}
			}
			for id := range known { // keep the set small
				if len(known) > 3 {
					if !removed[id] {
						a.run("snapshot", "remove", id)
					}
					delete(known, id)
				}
			}
		}
		parts, err := exec.Command("find", base, "-name", ".candid-part-*").Output()
		require.NoError(t, err)
		require.Empty(t, string(parts), "a killed restore left something unfinished")
		halves, err := filepath.Glob(filepath.Join(base, "half*"))
		require.NoError(t, err)
		if round%2 == 0 {
			halves = nil // the next restore finds it half written
		}
		for _, h := range halves {
			require.NoError(t, os.RemoveAll(h))
		}
	}
}

// churn writes, changes, renames and removes files.
func churn(t testing.TB, rng *rand.Rand, dir string, n int) {
	for range n {
		p := filepath.Join(dir, fmt.Sprintf("d%d", rng.IntN(12)), fmt.Sprintf("f%d", rng.IntN(40)))
		switch rng.IntN(6) {
		case 0:
			require.NoError(t, os.RemoveAll(p))
		case 1:
			_ = os.Rename(p, p+"x")
		default:
			require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
			b := make([]byte, rng.IntN(60_000))
			for i := range b {
				b[i] = byte(rng.Uint32())
			}
			require.NoError(t, os.WriteFile(p, b, 0o644))
		}
	}
}

// fixPorts gives a stopped site addresses that stay.
func fixPorts(t testing.TB, p *proc) {
	path := filepath.Join(p.dir, "site.yaml")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	port := freePort(t)
	text := string(raw)
	var out []string
	for _, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(line, "peer_listen:") {
			line = fmt.Sprintf("peer_listen: 127.0.0.1:%d", port)
		}
		out = append(out, line)
	}
	require.NoError(t, os.WriteFile(path, []byte(strings.Join(out, "\n")), 0o600))
}
