package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A restore from the other site, of which both ends are killed at any time: it goes on by
// itself, comes out whole, fetches little more than what the near site lacks, and undo leads to
// what was before. CANDID_RECALL_ROUNDS sets how often.
func TestKillDuringRestoreFromAfar(t *testing.T) {
	rounds, rng := chance(t, "CANDID_RECALL", 3)
	base := t.TempDir()
	src := filepath.Join(base, "share")
	require.NoError(t, os.Mkdir(src, 0o755))
	churn(t, rng, src, 300)
	shell(t, src, "head -c 30000000 /dev/urandom > large")
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	fixPorts(t, a)
	fixPorts(t, b)
	a.run("volume", "add", "share", "--path", src, "--label", "k=v")
	require.NoError(t, os.WriteFile(filepath.Join(base, "p.yaml"), []byte("policy: p\nvolumes: {k: v}\ntake: [monthly "+
		"on last day at 06:06]\nkeep:\n  larkfield: {newest: 1, by_hand: 1 second}\n  stonewick: {newest: 9, by_hand: 9 "+
		"years}\ngrace: 1 second\n"), 0o644))
	pair(t, a, b, "k=v")
	a.run("policy", "put", "--yes", filepath.Join(base, "p.yaml"))
	a.run("snapshot", "take", "share")
	a.run("route", "run", "to-dr")
	old := a.snapshots("share")[0].ID
	shell(t, base, "cp -a share want")
	shell(t, src, "rm -rf * ; echo new > new")
	_, err := a.try("snapshot", "take", "share")
	require.ErrorContains(t, err, "candid volume confirm share")
	a.run("volume", "confirm", "share")
	a.run("snapshot", "take", "share")
	a.run("route", "run", "to-dr")
	require.Eventually(t, func() bool {
		a.run("prune")
		return !strings.Contains(a.run("snapshot", "list", "share"), old[:12])
	}, 20*time.Second, 100*time.Millisecond)
	a.run("store", "sweep")
	shell(t, base, "cp -a share before")
	for round := range rounds {
		var run struct{ ID int64 }
		a.json(&run, "restore", "share", "--at", old, "--from-site", "stonewick", "--in-place", "--no-wait")
		time.Sleep(time.Duration(rng.IntN(400)) * time.Millisecond)
		victim := a
		if round%2 == 1 {
			victim = b
		}
		victim.kill()
		time.Sleep(time.Duration(rng.IntN(200)) * time.Millisecond)
		victim.start()
		require.Eventually(t, func() bool { // it goes on by itself, as this run or a later one
			var list struct {
				Items []struct {
					State string
					Kind  string
				}
			}
			a.json(&list, "run", "list", "--kind", "restore", "--limit", "1")
			return len(list.Items) > 0 && strings.HasPrefix(list.Items[0].State, "done")
		}, 60*time.Second, 100*time.Millisecond, fmt.Sprintf("round %d: %s", round, a.run("run", "list")))
		alike(t, filepath.Join(base, "want"), src)
		var list struct{ Items []struct{ ID int64 } }
		a.json(&list, "run", "list", "--kind", "restore", "--limit", "1")
		a.run("undo", fmt.Sprint(list.Items[0].ID))
		alike(t, filepath.Join(base, "before"), src)
	}
}
