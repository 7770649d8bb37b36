package site

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"candidharbor/api"
	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// damage flips a few bytes, or times as many, in the packs of a closed site's store: of data,
// d-, of metadata, m-, or all.
func (w *world) damage(site, kind string, times int) {
	packs, err := filepath.Glob(filepath.Join(w.dir, site, "store", "packs", kind+"*"))
	require.NoError(w.t, err)
	require.NotEmpty(w.t, packs)
	for _, p := range packs {
		raw, err := os.ReadFile(p)
		require.NoError(w.t, err)
		for at := len(raw) / 3 / times; at < len(raw); at += len(raw)/3/times + 7 {
			raw[at] ^= 0x40
		}
		require.NoError(w.t, os.Chmod(p, 0o600))
		require.NoError(w.t, os.WriteFile(p, raw, 0o600))
	}
}

// What is damaged at one site is put back from the other, both ways, and told; who may not
// have an object does not get it.
func TestHealing(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.pair(here, there)
	w.route(here, "there")
	for n := range 3 {
		for k := range 30 {
			w.write(dir, fmt.Sprintf("file %d", k), strings.Repeat(fmt.Sprint(n*k, " lines "), 3000+100*k+n))
		}
		w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	}
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	want := w.textOf(here, w.rows(here, "notes")[0], "file 7")
	for _, name := range []string{"there", "here"} {
		for _, s := range []*Site{here, there} {
			w.done(s)(s.Upkeep.Sweep(true, "test"))
			require.NoError(t, s.Close())
		}
		w.damage(name, "", 1)
		here, there = w.open("here"), w.open("there")
		s, volume := there, "notes@here"
		if name == "here" {
			s, volume = here, "notes"
		}
		// The other one's address is another port since it was opened again.
		for _, p := range []*Site{here, there} {
			for _, row := range must(p.Catalog.Peers()) {
				other := map[string]*Site{"here": here, "there": there}[row.Name]
				row.Addresses.V = other.Pairing.Addresses()
				require.NoError(t, p.Catalog.PutPeer(row))
			}
		}
		run := must(s.Run.Wait(w.ctx, must(s.Upkeep.Verify("test")).ID))
		require.Equal(t, "done with remarks", run.State, "%s", run.Outcome)
		require.Contains(t, run.Outcome, "all of them were put back from")
		run = must(s.Run.Wait(w.ctx, must(s.Upkeep.Verify("test")).ID))
		require.Contains(t, run.Outcome, "that nothing needs any more", name)
		for _, row := range w.rows(s, volume) {
			w.textOf(s, row, "file 7")
		}
		require.Equal(t, want, w.textOf(s, w.rows(s, volume)[0], "file 7"))
		w.done(s)(s.Upkeep.Sweep(false, "test"))
		require.Equal(t, want, w.textOf(s, w.rows(s, volume)[0], "file 7"))
		run = w.done(s)(s.Upkeep.Verify("test"))
		require.Contains(t, run.Outcome, "all as written", name)
	}
	stranger := w.open("stranger")
	w.pair(stranger, here)
	census, err := here.Store.Census(must(object.ParseID(w.rows(here, "notes")[0].ID)))
	require.NoError(t, err)
	id, _, _ := here.Store.ObjectAt(census.Minimum())
	got, err := stranger.Routes.AskObjects(w.ctx, must(stranger.Catalog.Peer("here")), []object.ID{id})
	require.NoError(t, err)
	require.Empty(t, got)
	got, err = there.Routes.AskObjects(w.ctx, must(there.Catalog.Peer("here")), []object.ID{id})
	require.NoError(t, err)
	require.Len(t, got, 1)
}
