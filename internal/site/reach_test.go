package site

import (
	"os"
	"path/filepath"
	"testing"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/pairing"

	"github.com/stretchr/testify/require"
)

// A site is paired under the name of one whose copies came here by another and that was never
// paired: it gets none of that one's history, adds nothing to it, and the true one's go on to
// come. When a person who knows says so, it may read.
func TestNewcomerOfTheSameName(t *testing.T) {
	w := newWorld(t)
	true1, between, there := w.open("here"), w.open("between"), w.open("there")
	dir := w.share(true1, "notes")
	w.write(dir, "a", "the true one's")
	w.pair(true1, between)
	w.pair(between, there)
	w.route(true1, "between")
	w.take(true1, "notes")
	w.done(true1)(true1.Routes.RunRoute("to-between", "test"))
	_, err := between.Routes.AddRoute(api.RouteAdd{Name: "onward", To: "there", Names: []string{"notes@here"}})
	require.NoError(t, err)
	w.done(between)(between.Routes.RunRoute("onward", "test"))
	rows := w.rows(there, "notes@here")
	require.Len(t, rows, 1)

	// The other one of that name has a data directory, and a key, of its own.
	elsewhere := newWorld(t)
	elsewhere.clock = w.clock
	false1 := elsewhere.open("here")
	elsewhere.pair(false1, there)
	peer := must(there.Catalog.Peer("here"))
	require.True(t, peer.Grants.V.Offer)
	v := must(there.Catalog.VolumeOfLineage(rows[0].Lineage))
	_, err = there.Routes.Recallable(peer, v.Lineage)
	require.ErrorContains(t, err, "signed by another key")
	_, err = there.Routes.MaySign(peer, v)
	require.ErrorContains(t, err, "signed by another key")
	held, err := there.Routes.HeldFor(peer)
	require.NoError(t, err)
	require.True(t, held.IsEmpty(), "nothing to heal from")
	knows, sees := there.Routes.KnownTo(peer, "")
	id := must(object.ParseID(rows[0].ID))
	require.False(t, knows(id))
	for n := range uint32(100) {
		require.False(t, sees(n))
	}

	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("the true one's, later"), 0o644))
	w.take(true1, "notes")
	w.done(true1)(true1.Routes.RunRoute("to-between", "test"))
	w.done(between)(between.Routes.RunRoute("onward", "test"))
	require.Len(t, w.rows(there, "notes@here"), 2)

	_, err = there.Pairing.Grant(w.ctx, "here", api.GrantAsk{Grants: []string{pairing.GrantRead}})
	require.NoError(t, err)
	_, err = there.Routes.Recallable(must(there.Catalog.Peer("here")), v.Lineage)
	require.NoError(t, err)
}
