package site

import (
	"net"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/clock"
	"candidharbor/internal/phrase"

	"github.com/stretchr/testify/require"
)

// What taking over would leave behind is told by this site's clock, however the other one's goes, and with who has
// something newer.
func TestWhatWouldBeLeftBehind(t *testing.T) {
	w := newWorld(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	fast := clock.NewMoved(w.clock.Now()) // the main site's
	home, err := Open(Options{Data: filepath.Join(w.dir, "home"), Name: "home", Roots: []string{w.dir}, Setup: w.settle,
		Clock: fast, Listen: "127.0.0.1:0", PeerListen: l.Addr().String()})
	require.NoError(t, err)
	go home.Pairing.ServePeers(l)
	t.Cleanup(func() { home.Close() })
	dr, vault := w.open("dr"), w.open("vault")
	pass := func(d time.Duration) {
		w.clock.Set(w.clock.Now().Add(d))
		fast.Set(fast.Now().Add(d))
	}
	for _, s := range []*Site{dr, vault} { // an invitation ends soon, by either clock
		w.pair(home, s)
	}
	fast.Set(fast.Now().Add(3 * time.Hour))
	w.greet(dr, "home")
	dir := w.share(home, "notes")
	for _, s := range []*Site{dr, vault} {
		_, err := home.Pairing.Grant(w.ctx, s.Name(), api.GrantAsk{Grants: []string{"take-over", "offer"}})
		require.NoError(t, err)
		_, err = home.Routes.AddRoute(api.RouteAdd{Name: "to-" + s.Name(), To: s.Name(), Names: []string{"notes"},
			Terms: api.RouteTerms{When: "on demand"}})
		require.NoError(t, err)
	}
	w.pair(dr, vault)
	_, err = vault.Pairing.Grant(w.ctx, "dr", api.GrantAsk{Grants: []string{"read", "see"}})
	require.NoError(t, err)
	w.take(home, "notes")
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	w.done(home)(home.Routes.RunRoute("to-vault", "test"))
	_, err = dr.Failover.PutRunbook("runbook: r\nat: dr\nbring_up: [notes]\npaths: {notes: "+w.dir+"/up}\n"+
		"objectives: {loss: 30 minutes}\n", "test")
	require.NoError(t, err)
	pass(20 * time.Minute)
	w.greet(dr, "home")
	require.True(t, must(dr.Failover.Runbook("r")).Readiness.Ready, "it is 20 minutes old, not minus 160")
	w.cut(true, home, vault)
	pass(25 * time.Minute)
	would := func() *api.Failover {
		return must(dr.Failover.Failover(w.ctx, "r", api.FailoverAsk{Unplanned: true, DryRun: true}, "test"))
	}
	f := would()
	require.InDelta(t, 20*60, f.Volumes[0].LossSeconds, 2)
	require.InDelta(t, 25*60, f.Volumes[0].DoubtSeconds, 2)
	require.Contains(t, f.Sentence, "after "+phrase.Stamp(w.clock.Now().Add(-45 * time.Minute))[:16])
	require.NotContains(t, f.Sentence, "newer state")

	w.cut(false, home, vault)
	w.write(dir, "a", "newer")
	w.take(home, "notes")
	w.done(home)(home.Routes.RunRoute("to-vault", "test"))
	w.cut(true, home)
	require.Contains(t, would().Sentence, "vault has a newer state of notes@home, as of "+
		phrase.Stamp(w.clock.Now())[:16])
}
