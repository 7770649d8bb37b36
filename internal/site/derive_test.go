package site

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/volume/tree"

	"github.com/stretchr/testify/require"
)

// A route that carries a part of its volumes: exactly that part arrives, links and all, by
// differences, beside the whole that another route carries; nothing of it shows at home.
func TestPartsOfVolumes(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	for _, d := range []string{"scans/2025/raw", "scans/2026", "letters"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
		for k := range 50 {
			w.write(filepath.Join(dir, d), fmt.Sprint(k), strings.Repeat(fmt.Sprintf("%s %x ", d, k*7919), 400))
		}
	}
	require.NoError(t, os.Link(filepath.Join(dir, "scans/2026/1"), filepath.Join(dir, "scans/2026/again")))
	require.NoError(t, os.Link(filepath.Join(dir, "scans/2026/2"), filepath.Join(dir, "letters/again")))
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 2}\n  there: {newest: "+
		"9}\ngrace: 1 second\n")
	w.pair(here, there)
	labels := map[string]string{"k": "v"}
	for say, terms := range map[string]api.RouteTerms{
		"whole volume": {In: []string{"/"}}, "to be carried and not": {In: []string{"a/b"}, Out: []string{"a"}},
		"signs what it leaves out": {In: []string{"a"}, Onward: true}, "..": {Out: []string{"../x"}},
	} {
		_, err := here.Routes.AddRoute(api.RouteAdd{Name: "bad", To: "there", Labels: labels, Terms: terms})
		require.ErrorContains(t, err, say)
	}
	_, err := here.Routes.AddRoute(api.RouteAdd{Name: "part", To: "there", Labels: labels,
		Terms: api.RouteTerms{In: []string{"scans", "a"}, Out: []string{"scans/2025/raw"}}})
	require.NoError(t, err)
	step := func(n int) {
		w.write(filepath.Join(dir, "scans/2026"), "3", fmt.Sprint("changed ", n))
		w.write(filepath.Join(dir, "letters"), "3", fmt.Sprint("changed ", n))
		w.until(here, w.clock.Now().Add(6*time.Hour))
		for range 2 {
			w.done(here)(here.Rules.Prune("", "test"))
			w.clock.Set(w.clock.Now().Add(2 * time.Second))
		}
	}
	step(0)
	first := must(here.Routes.Route("part")).SentBytes
	step(1)
	require.Less(t, must(here.Routes.Route("part")).SentBytes-first, first/2, "by differences")
	rows := w.rows(there, "notes@here")
	require.Len(t, rows, 2)
	out := filepath.Join(w.dir, "out")
	w.done(there)(there.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes@here", At: "latest", To: out}, "test"))
	for path, is := range map[string]bool{"scans/2026/3": true, "scans/2026/again": true, "a": true, "scans/2025": true,
		"scans/2025/raw": false, "letters": false} {
		_, err := os.Lstat(filepath.Join(out, path))
		require.Equal(t, is, err == nil, path)
	}
	a, err := os.Stat(filepath.Join(out, "scans/2026/1"))
	require.NoError(t, err)
	b, err := os.Stat(filepath.Join(out, "scans/2026/again"))
	require.NoError(t, err)
	require.True(t, os.SameFile(a, b))
	require.Equal(t, "Copies of a part of notes, a volume of the site here: only a, scans but scans/2025/raw.",
		must(there.Overview.Volume("notes@here")).Sentence)
	shown := must(there.Recovery.Snapshot(rows[0].ID))
	require.Equal(t, "only a, scans but scans/2025/raw", shown.Part)
	// a, scans/2026 with 51 names
	require.EqualValues(t, 52+50-50, shown.Files)

	// What the route leaves out is not had by other ways either.
	_, err = here.Routes.WriteCrate(api.CrateWrite{Path: filepath.Join(w.dir, "x.crate"), Route: "part"}, "test")
	require.ErrorContains(t, err, "carries a part of its volumes")
	whole, err := here.Rules.RootOf(w.rows(here, "notes")[0])
	require.NoError(t, err)
	for path, given := range map[string]int{"scans/2026/3": 1, "letters/5": 0, "scans/2025/raw/3": 0} {
		e, err := tree.Lookup(here.Store.Get, whole, path)
		require.NoError(t, err)
		got, err := there.Routes.AskObjects(w.ctx, must(there.Catalog.Peer("here")), []object.ID{e.Content})
		require.NoError(t, err)
		require.Len(t, got, given, path)
	}

	require.NoError(t, here.Close())
	here = w.open("here")
	require.Len(t, must(here.Catalog.Volumes()), 1, "a part is no volume at home")
	n, err := here.Upkeep.RebuildCatalogue()
	require.NoError(t, err)
	require.Equal(t, len(w.rows(here, "notes")), n)
	require.NoError(t, here.Upkeep.Release())
	_, err = here.Routes.AddRoute(api.RouteAdd{Name: "whole", To: "there", Labels: labels})
	require.NoError(t, err)
	step(2)
	require.Len(t, must(there.Catalog.Volumes()), 2, "the whole is a history of its own")
	require.Len(t, w.rows(there, "notes@here"), 3)
	step(3)
	parts := 0
	for _, id := range here.Store.Roots() {
		root, _, err := here.Store.Root(id)
		require.NoError(t, err)
		if root.Derived != nil {
			parts++
		}
	}
	require.Equal(t, 1, parts, "the newest alone, to compare the next with")
	_, err = here.Routes.RemoveRoute("part")
	require.NoError(t, err)
	require.NoError(t, here.Close())
	here = w.open("here")
	for _, id := range here.Store.Roots() {
		root, _, err := here.Store.Root(id)
		require.NoError(t, err)
		require.Nil(t, root.Derived)
	}
}
