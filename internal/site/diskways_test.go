package site

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

// Disks go every way that directories go: by crate and then by changes, to a further place and back from it, to a
// vault that takes them for itself, and what is damaged comes back from where it is whole.
func TestDisksGoEveryWay(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	w.disk(here, "db")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\n")
	r := rand.New(rand.NewPCG(21, 2))
	holds := make([]byte, diskSize)
	was := map[string][]byte{}
	day := func() string {
		w.scribble(here, "db", holds, r)
		w.until(here, w.clock.Now().Add(6*time.Hour))
		id := w.rows(here, "db")[0].ID
		was[id] = bytes.Clone(holds)
		return id
	}
	same := func(s *Site, volume string) {
		t.Helper()
		rows := w.rows(s, volume)
		require.NotEmpty(t, rows)
		for _, row := range rows {
			require.True(t, bytes.Equal(was[row.ID], w.imageOf(s, volume, row.ID)))
		}
		run := w.done(s)(s.Upkeep.Verify("test"))
		require.Equal(t, api.RunDone, run.State, run.Outcome)
	}
	w.pair(here, there)
	_, err := here.Pairing.CheckPeer(w.ctx, "there") // for whom crates are sealed
	require.NoError(t, err)
	_, err = here.Routes.AddRoute(api.RouteAdd{Name: "r", To: "there", Labels: map[string]string{"k": "v"},
		Terms: api.RouteTerms{When: "on demand"}})
	require.NoError(t, err)

	day()
	day()
	crate := filepath.Join(w.dir, "db.crate")
	w.done(here)(here.Routes.WriteCrate(api.CrateWrite{Path: crate, Route: "r", Seal: true}, "test"))
	w.done(there)(there.Routes.LoadCrate(api.CrateLoad{Paths: []string{crate}}, "test"))
	same(there, "db@here")
	day()
	w.done(here)(here.Routes.RunRoute("r", "test"))
	require.Len(t, w.rows(there, "db@here"), 3)
	require.Less(t, must(here.Routes.Route("r")).SentBytes, int64(diskSize/4), "changes alone")
	same(there, "db@here")

	shelf := filepath.Join(w.dir, "shelf")
	require.NoError(t, os.Mkdir(shelf, 0o755))
	_, err = here.Pairing.Attach("shelf", shelf)
	require.NoError(t, err)
	_, err = here.Routes.AddRoute(api.RouteAdd{Name: "to-shelf", To: "shelf", Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	w.done(here)(here.Routes.RunRoute("to-shelf", "test"))
	same(here.further["shelf"], "db@here")
	require.Empty(t, must(here.further["shelf"].Disks.Disks())[0].Clients)
	_, err = here.Pairing.Detach("shelf")
	require.NoError(t, err)
	last := day()
	require.Equal(t, "waiting", must(here.Routes.Route("to-shelf")).State)
	_, err = here.Pairing.Attach("shelf", shelf)
	require.NoError(t, err)
	w.until(here, w.clock.Now().Add(time.Minute))
	require.Equal(t, last, w.rows(here.further["shelf"], "db@here")[0].ID)
	w.done(here)(here.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "db", At: last, From: "shelf",
		To: filepath.Join(w.dir, "of-shelf")}, "test"))
	require.True(t, bytes.Equal(holds, must(os.ReadFile(filepath.Join(w.dir, "of-shelf")))))

	vault := w.open("vault")
	inv := must(here.Pairing.Invite([]string{"read", "see"}))
	_, err = vault.Pairing.Pair(w.ctx, inv.Text, []string{"nothing"})
	require.NoError(t, err)
	_, err = vault.Routes.AddRoute(api.RouteAdd{Name: "from-here", From: "here", Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	w.done(vault)(vault.Routes.RunRoute("from-here", "test"))
	same(vault, "db@here")

	w.done(here)(here.Routes.RunRoute("r", "test"))
	w.done(there)(there.Upkeep.Sweep(true, "test"))
	require.NoError(t, there.Close())
	w.damage("there", "d-", 1)
	there = w.open("there")
	require.NoError(t, here.Catalog.SetAddresses("there", there.Pairing.Addresses()))
	require.NoError(t, there.Catalog.SetAddresses("here", here.Pairing.Addresses()))
	run := w.done(there)(there.Upkeep.Verify("test"))
	require.Contains(t, run.Outcome, "put back")
	w.done(there)(there.Upkeep.Sweep(false, "test"))
	same(there, "db@here")
}
