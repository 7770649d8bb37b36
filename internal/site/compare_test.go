package site

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"candidharbor/internal/catalog"
	"candidharbor/internal/recovery"
)

// Two volumes are compared like two moments, and so are a volume and what another site has of it, also where that is
// here no more; nothing is stored by looking.
func TestCompareElsewhere(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir, other := w.share(here, "notes"), w.share(here, "copy")
	w.pair(here, there)
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [monthly on last day at 06:06]\nkeep:\n"+
		"  here: {newest: 1, by_hand: 1 second}\n  there: {newest: 9}\ngrace: 1 second\n")
	for _, d := range []string{dir, other} {
		require.NoError(t, os.Mkdir(filepath.Join(d, "trip"), 0o755))
	}
	for name, text := range map[string]string{"same": "same", "trip/a": "old", "trip/gone": "gone"} {
		w.write(dir, name, text)
	}
	w.take(here, "notes")
	w.route(here, "there")
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	old := w.rows(here, "notes")[0].ID
	require.NoError(t, os.Remove(filepath.Join(dir, "trip/gone")))
	w.write(dir, "trip/a", "newer")
	w.clock.Set(w.clock.Now().Add(time.Minute))
	w.take(here, "notes")
	for range 2 {
		w.clock.Set(w.clock.Now().Add(time.Minute))
		w.done(here)(here.Rules.Prune("", "test"))
	}
	require.Len(t, w.rows(here, "notes"), 1, "the old state is only there")
	w.done(here)(here.Upkeep.Sweep(false, "test"))

	before := here.Store.Usage().Objects
	ask := recovery.CompareAsk{Volume: "notes", From: old, FromSite: "there", To: "now"}
	require.Equal(t, "changed trip/a, removed trip/gone", diffs(must(here.Recovery.Compare(w.ctx, ask))))
	ask.To = "latest"
	require.Equal(t, "changed trip/a, removed trip/gone", diffs(must(here.Recovery.Compare(w.ctx, ask))))
	ask.From, ask.Path = "latest", "trip" // what both have
	require.Equal(t, "changed trip/a, removed trip/gone", diffs(must(here.Recovery.Compare(w.ctx, ask))))
	require.Equal(t, before, here.Store.Usage().Objects)

	for name, text := range map[string]string{"same": "same", "trip/a": "otherwise"} {
		w.write(other, name, text)
	}
	w.take(here, "copy")
	ask = recovery.CompareAsk{Volume: "notes", From: "latest", To: "now", With: "copy"}
	c := must(here.Recovery.Compare(w.ctx, ask))
	require.Contains(t, diffs(c), "changed trip/a")
	require.NotContains(t, diffs(c), "changed same")
	require.Equal(t, "copy", c.With)
	ask.To = "latest"
	require.Contains(t, diffs(must(here.Recovery.Compare(w.ctx, ask))), "changed trip/a")
	ask.From, ask.FromSite = old, "there"
	require.Contains(t, diffs(must(here.Recovery.Compare(w.ctx, ask))), "removed trip/gone")

	ask.With = "nothere"
	_, err := here.Recovery.Compare(w.ctx, ask)
	require.ErrorIs(t, err, catalog.ErrNone)
	w.cut(true, there)
	_, err = here.Recovery.Compare(w.ctx, recovery.CompareAsk{Volume: "notes", From: old, FromSite: "there", To: "now"})
	require.Error(t, err)
	_, err = here.Recovery.Compare(w.ctx, recovery.CompareAsk{Volume: "notes", From: "latest", FromSite: "x", To: "now"})
	require.ErrorContains(t, err, "no paired site x")
}
