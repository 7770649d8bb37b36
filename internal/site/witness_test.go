package site

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"

	"github.com/stretchr/testify/require"
)

// Two sites that do not hear each other would both take over; a witness lets one, also after a start of its own, and
// the other where the first gave it up.
func TestWitness(t *testing.T) {
	w := newWorld(t)
	sites := map[string]*Site{}
	for _, n := range []string{"home", "dr", "vault", "third"} {
		sites[n] = w.open(n)
	}
	home, third := sites["home"], sites["third"]
	w.share(home, "notes")
	for _, n := range []string{"dr", "vault"} {
		w.pair(home, sites[n])
		w.pair(sites[n], third)
		_, err := home.Pairing.Grant(w.ctx, n, api.GrantAsk{Grants: []string{"take-over", "offer", "see"}})
		require.NoError(t, err)
		_, err = home.Routes.AddRoute(api.RouteAdd{Name: "to-" + n, To: n, Names: []string{"notes"},
			Terms: api.RouteTerms{When: "on demand"}})
		require.NoError(t, err)
	}
	w.take(home, "notes")
	for _, n := range []string{"dr", "vault"} {
		w.done(home)(home.Routes.RunRoute("to-"+n, "test"))
		_, err := sites[n].Failover.PutRunbook(fmt.Sprintf("runbook: r\nat: %s\nwitness: third\nbring_up: [notes]\n"+
			"paths: {notes: %s/at-%[1]s}\n", n, w.dir), "test")
		require.NoError(t, err)
		require.True(t, must(sites[n].Failover.Runbook("r")).Readiness.Ready)
	}
	_, err := sites["dr"].Failover.PutRunbook("runbook: x\nat: dr\nwitness: nobody\nbring_up: [notes]\n", "test")
	require.ErrorContains(t, err, "witness: ")
	w.cut(true, home)
	volume := func(n string) []*catalog.Volume {
		return []*catalog.Volume{must(sites[n].Catalog.Volume("notes@home"))}
	}

	// Both at once: one has it.
	var both sync.WaitGroup
	errs := map[string]error{}
	var mu sync.Mutex
	for _, n := range []string{"dr", "vault"} {
		both.Go(func() {
			err := sites[n].Authority.Claim(w.ctx, "third", volume(n), "act-"+n, false)
			mu.Lock()
			defer mu.Unlock()
			errs[n] = err
		})
	}
	both.Wait()
	first, second := "dr", "vault"
	if errs["dr"] != nil {
		first, second = second, first
	}
	require.NoError(t, errs[first])
	require.ErrorContains(t, errs[second], "third has witnessed that "+first+" takes over, in term 2")

	// It is durable, and who gave it up leaves it to the other.
	address := third.Pairing.PeerAddress()
	require.NoError(t, third.Close())
	third = w.openAt("third", address)
	f, err := sites[second].Failover.Failover(w.ctx, "r", api.FailoverAsk{Unplanned: true, Anyway: true}, "test")
	require.NoError(t, err)
	w.settles(sites[second], "failover")
	f = must(sites[second].Failover.Show(f.ID))
	require.Equal(t, api.FailoverFailed, f.State)
	require.Contains(t, f.Sentence, "third has witnessed that "+first+" takes over, in term 2. If that site is lost too")
	require.Equal(t, "home", w.active(sites[second], "notes@home"), "nothing was taken over")
	require.NoError(t, sites[first].Authority.Claim(w.ctx, "third", volume(first), "act-"+first, true))

	// A claim of a failover that a kill cut short is withdrawn by the next start.
	row := must(sites[second].Catalog.Failover(f.ID))
	require.NoError(t, sites[second].Authority.Claim(w.ctx, "third", volume(second), f.ID, false))
	row.State = api.FailoverRunning
	require.NoError(t, sites[second].Catalog.PutFailover(row))
	address = sites[second].Pairing.PeerAddress()
	require.NoError(t, sites[second].Close())
	sites[second] = w.openAt(second, address)
	require.Eventually(t, func() bool {
		return sites[first].Authority.Claim(w.ctx, "third", volume(first), "act-"+first, false) == nil
	}, 10*time.Second, 10*time.Millisecond)
	require.NoError(t, sites[first].Authority.Claim(w.ctx, "third", volume(first), "act-"+first, true))
	w.over(sites[second])(sites[second].Failover.Failover(w.ctx, "r", api.FailoverAsk{Unplanned: true}, "test"))
	require.ErrorContains(t, sites[first].Authority.Claim(w.ctx, "third", volume(first), "act-"+first, false),
		"third has witnessed that "+second+" takes over, in term 2")

	// Nobody answers: a person decides.
	w.cut(true, third)
	f, err = sites[first].Failover.Failover(w.ctx, "r", api.FailoverAsk{Unplanned: true, Anyway: true}, "test")
	f = w.over(sites[first])(f, err)
	require.Contains(t, f.Steps[2].Said, "without it, as was asked for")
}
