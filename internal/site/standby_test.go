package site

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/refusal"

	"github.com/stretchr/testify/require"
)

// A route that asks for a copy to be laid out where there is no place for it is refused at the
// check; when it runs all the same, the far site says that the copy is not laid out.
func TestStandbyWithoutPlace(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	w.share(here, "notes")
	w.pair(here, there)
	ask := api.RouteAdd{Name: "r", To: "there", Labels: map[string]string{"k": "v"},
		Terms: api.RouteTerms{Standby: "exact"}}
	_, err := here.Routes.CheckRoute(w.ctx, ask)
	require.ErrorContains(t, err, "there has no directory for copies that are laid out")
	_, err = here.Routes.AddRoute(ask)
	require.NoError(t, err)
	w.take(here, "notes")
	w.done(here)(here.Routes.RunRoute("r", "test"))
	told := func() string { return fmt.Sprint(must(there.Overview.Status()).Sentences) }
	require.Eventually(t, func() bool {
		return strings.Contains(told(), "asks for it to be laid out, and it is not")
	}, 10*time.Second, time.Millisecond)
	require.Len(t, w.rows(there, "notes@here"), 1, "the copy itself is there")
	at := filepath.Join(w.dir, "ready")
	_, err = there.Routes.SetStandby("notes@here", api.StandbySet{Mode: "exact", Dir: at}, "test")
	require.NoError(t, err)
	require.NotContains(t, told(), "and it is not")
}

// A copy that is laid out follows each arrival, is never seen half way, and comes through
// a stop of the service and the removal of what it was laid out from.
func TestStandby(t *testing.T) {
	w := newWorld(t)
	ready := filepath.Join(w.dir, "ready")
	require.NoError(t, os.Mkdir(ready, 0o755))
	here := w.open("here")
	w.setup = func(c *datadir.Config) { c.Standby = ready }
	there := w.open("there")
	dir := w.share(here, "notes")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  there: {newest: 1}\ngrace: 1 second\n")
	w.pair(here, there)
	_, err := here.Routes.AddRoute(api.RouteAdd{Name: "r", To: "there", Labels: map[string]string{"k": "v"},
		Terms: api.RouteTerms{Standby: "exact"}})
	require.NoError(t, err)
	at := filepath.Join(ready, "notes@here")
	step := func(n int) {
		// Two files that always belong together, and one of many that comes or goes.
		for _, f := range []string{"first", "second"} {
			w.write(dir, f, fmt.Sprint(n))
		}
		w.write(dir, fmt.Sprint("only ", n), "x")
		if n > 0 {
			require.NoError(t, os.Remove(filepath.Join(dir, fmt.Sprint("only ", n-1))))
		}
		w.until(here, w.clock.Now().Add(6*time.Hour))
		require.Eventually(t, func() bool { // the sender is told before the receiver begins to lay it out
			v, err := there.Catalog.Volume("notes@here")
			return err == nil && v.Standby != ""
		}, 10*time.Second, time.Millisecond)
		j, err := there.Routes.StartStandby("notes@here", "test")
		require.NoError(t, err)
		require.NoError(t, j.Wait(w.ctx))
		w.done(there)(there.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(2 * time.Second))
		w.done(there)(there.Rules.Prune("", "test"))
		w.done(there)(there.Upkeep.Sweep(true, "test"))
	}
	read := func(f string) string {
		b, err := os.ReadFile(filepath.Join(at, f))
		require.NoError(t, err)
		return string(b)
	}
	step(0)
	require.Equal(t, "0", read("first"))
	stop, torn := make(chan struct{}), 0
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			d, err := os.Open(at) // one opening is one state, whatever is exchanged meanwhile
			if err != nil {
				torn++
				continue
			}
			proc := fmt.Sprintf("/proc/self/fd/%d/", d.Fd())
			a, aerr := os.ReadFile(proc + "first")
			b, berr := os.ReadFile(proc + "second")
			again, err := os.Stat(at)
			was, serr := d.Stat()
			if err == nil && serr == nil && os.SameFile(again, was) && (aerr != nil || berr != nil || string(a) != string(b)) {
				torn++
			}
			d.Close()
		}
	})
	for n := 1; n < 6; n++ {
		step(n)
		require.Equal(t, fmt.Sprint(n), read("first"))
		require.NoFileExists(t, filepath.Join(at, fmt.Sprint("only ", n-1)))
	}
	close(stop)
	wg.Wait()
	require.Zero(t, torn)
	v := must(there.Overview.Volume("notes@here"))
	require.Equal(t, "exact", v.Standby.Mode)
	require.NotNil(t, v.Standby.AsOf)

	require.NoError(t, there.Close())
	there = w.open("there")
	p := must(here.Catalog.Peer("there"))
	p.Addresses.V = there.Pairing.Addresses()
	require.NoError(t, here.Catalog.PutPeer(p))
	step(6)
	require.Equal(t, "6", read("second"))

	// What others write into the tree is found, told, and gone from both trees.
	outcomes := func() (all string) {
		for _, r := range must(there.Catalog.Runs(catalog.RunFilter{Kind: "standby", Limit: 2})) {
			all += r.Outcome + "\n"
		}
		return all
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "sub"), 0o755))
	w.write(dir, "sub/kept", "kept")
	w.write(dir, "sub/mode", "mode")
	step(7)
	require.NotContains(t, outcomes(), "others changed")
	kept := filepath.Join(at, "sub/kept")
	st := must(os.Stat(kept))
	require.NoError(t, os.WriteFile(kept, []byte("KEPT"), 0o644)) // both trees have this file
	require.NoError(t, os.Chtimes(kept, time.Time{}, st.ModTime()))
	require.NoError(t, os.WriteFile(filepath.Join(at, "sub/stray"), nil, 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(at, "strays/below"), 0o755))
	require.NoError(t, os.Remove(filepath.Join(at, "first")))
	require.NoError(t, os.Chmod(filepath.Join(at, "sub/mode"), 0o600))
	for n := 8; n < 12; n++ {
		step(n)
		if n == 8 {
			require.Contains(t, outcomes(), "5 paths that others changed there")
		}
		plain := filepath.Join(w.dir, fmt.Sprint("plain", n))
		w.done(here)(here.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: "latest", To: plain}, "test"))
		out, err := exec.Command("diff", "-r", "--no-dereference", plain, at).CombinedOutput()
		require.NoError(t, err, string(out))
		require.Equal(t, must(os.Stat(filepath.Join(plain, "sub/mode"))).Mode(),
			must(os.Stat(filepath.Join(at, "sub/mode"))).Mode())
	}
	require.NotContains(t, outcomes(), "others changed")
	require.FileExists(t, kept)
	said, err := there.Routes.SetStandby("notes@here", api.StandbySet{Mode: "none"}, "test")
	require.NoError(t, err)
	require.Contains(t, said, "stays in "+at)
	require.Equal(t, "11", read("second"))
	left, err := os.ReadDir(ready)
	require.NoError(t, err)
	require.Len(t, left, 1)

	_, err = there.Routes.SetStandby("notes@here", api.StandbySet{Mode: "exact"}, "test")
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err), "it holds something already")
	_, err = there.Routes.SetStandby("notes@here", api.StandbySet{Mode: "exact", Dir: "/etc/x"}, "test")
	require.ErrorContains(t, err, "outside the roots")
	_, err = here.Routes.SetStandby("notes", api.StandbySet{Mode: "exact"}, "test")
	require.ErrorContains(t, err, "lives here")
}
