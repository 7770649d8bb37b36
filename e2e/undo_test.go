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
)

// A service killed at any instant of a restore in place, or of its undo, leaves each file
// old or new; the next start goes on with it; and undo leads exactly to what was before
// the first run of it. CANDID_UNDO_ROUNDS sets how many kills.
func TestKillDuringRestoreInPlace(t *testing.T) {
	rounds, rng := chance(t, "CANDID_UNDO", 8)
	base := t.TempDir()
	src := filepath.Join(base, "share")
	require.NoError(t, os.Mkdir(src, 0o755))
	churn(t, rng, src, 400)
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	a.run("volume", "add", "share", "--path", src)
	a.run("snapshot", "take", "share")
	wanted := a.snapshots("share")[0].ID
	was, new, listing := digest(t, src), contents(t, src), details(t, src)
	churn(t, rng, src, 200)
	shell(t, src, "rm -rf d1 d4; mkdir made; echo x > made/here")
	before, old := digest(t, src), contents(t, src)
	lists := map[string]string{was: listing, before: details(t, src)}
	restore := []string{"restore", "share", "--at", wanted, "--in-place"}
	goneOn := 0
	for range rounds {
		command, from, to := restore, before, was
		if rng.IntN(3) == 0 {
			a.run(restore...)
			command, from, to = []string{"undo", fmt.Sprint(last(a).ID)}, was, before
		}
		done := make(chan struct{})
		go func() {
			defer close(done)
			a.try(command...)
		}()
		select { // a random instant of the work
		case <-time.After(time.Duration(rng.IntN(160)) * time.Millisecond):
		case <-done:
		}
		a.kill()
		<-done
		for path, text := range contents(t, src) {
			if !strings.Contains(path, ".candid-part-") {
				require.True(t, text == old[path] || text == new[path], "%s is neither old nor new", path)
			}
		}
		a.start()
		settle(a)
		now, r := digest(t, src), last(a)
		if now == from {
			if to == before {
				a.run("undo", fmt.Sprint(r.ID))
				require.Equal(t, before, digest(t, src))
			}
			continue // the kill came before anything was written
		}
		if to != now { // says where
			require.Equal(t, lists[to], details(t, src))
		}
		require.Equal(t, to, now, "what the service went on with is whole")
		require.Equal(t, "done", r.State)
		id := r.ID
		if r.Result.GoesOnWith != 0 {
			if goneOn++; rng.IntN(2) == 0 { // the run that was killed is what its person knows
				id = r.Result.GoesOnWith
			}
		}
		a.run("undo", fmt.Sprint(id))
		require.Equal(t, from, digest(t, src))
		if from == was {
			a.run("undo", fmt.Sprint(last(a).ID))
			require.Equal(t, before, digest(t, src))
		}
	}
	t.Logf("the service went on %d times", goneOn)
}

// details are kinds, rights, sizes and times of all in a directory.
func details(t *testing.T, dir string) string {
	cmd := exec.Command("sh", "-c", `find . -printf '%P %y %m %s %T@\n' | sort`)
	cmd.Dir = dir
	out, err := cmd.Output()
	require.NoError(t, err)
	return string(out)
}

type lastRun struct {
	ID     int64
	State  string
	Result struct {
		Safety     string
		GoesOnWith int64
	}
}

// last is the newest run that restored, or was to.
func last(p *proc) lastRun {
	var list struct {
		Items []struct {
			lastRun
			Kind string
		}
	}
	p.json(&list, "run", "list", "--limit", "20")
	for _, r := range list.Items {
		if r.Kind == "restore" && r.Result.Safety != "" {
			return r.lastRun
		}
	}
	return lastRun{}
}

// settle waits until no run is going.
func settle(p *proc) {
	for {
		var list struct{ Items []struct{ State string } }
		p.json(&list, "run", "list", "--limit", "20")
		busy := false
		for _, r := range list.Items {
			busy = busy || r.State == "queued" || r.State == "running"
		}
		if !busy {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// contents is every regular file with a mark of its content.
func contents(t *testing.T, dir string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		b, err := os.ReadFile(p)
		out[strings.TrimPrefix(p, dir)] = string(b)
		return err
	}))
	return out
}
