package site

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/refusal"

	"github.com/stretchr/testify/require"
)

// crated is a site with snapshots and a route over a line that is too thin for them.
func crated(w *world) (here, there *Site) {
	here, there = w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  there: {newest: 4}\n")
	w.pair(here, there)
	_, err := here.Pairing.CheckPeer(w.ctx, "there")
	require.NoError(w.t, err)
	_, err = here.Routes.AddRoute(api.RouteAdd{Name: "r", To: "there", Labels: map[string]string{"k": "v"},
		Terms: api.RouteTerms{When: "on demand"}})
	require.NoError(w.t, err)
	rng := rand.New(rand.NewPCG(1, 2))
	for n := range 3 {
		for k := range 40 {
			noise := make([]byte, 60_000)
			for i := range noise {
				noise[i] = byte(rng.Uint32())
			}
			w.write(dir, fmt.Sprintf("f%02d", k), string(noise))
		}
		w.write(dir, "a", fmt.Sprint(n))
		w.until(here, w.clock.Now().Add(6*time.Hour))
	}
	return here, there
}

// The first copy goes by drive, in parts, sealed; then the route goes on with changes only.
func TestCrate(t *testing.T) {
	for _, seal := range []bool{false, true} {
		w := newWorld(t)
		here, there := crated(w)
		path := filepath.Join(w.dir, "drive.crate")
		w.done(here)(here.Routes.WriteCrate(api.CrateWrite{Path: path, Route: "r", PartBytes: 2 << 20, Seal: seal}, "test"))
		parts, err := filepath.Glob(path + ".*")
		require.NoError(t, err)
		require.Greater(t, len(parts), 3)
		_, err = tar.NewReader(bytes.NewReader(must(os.ReadFile(parts[1])))).Next()
		require.Equal(t, seal, err != nil, "what is not sealed can be listed with tar")
		if seal {
			_, err = here.Routes.ListCrate(parts[0])
			require.ErrorContains(t, err, "sealed for another site")
		}
		c := must(there.Routes.ListCrate(parts[0]))
		require.Len(t, c.Snapshots, 3)
		require.Equal(t, "notes@here", c.Snapshots[0].Volume)

		run := must(there.Run.Wait(w.ctx, must(there.Routes.LoadCrate(api.CrateLoad{Paths: parts[1:2]}, "test")).ID))
		require.Equal(t, "failed", run.State)
		require.Contains(t, run.Outcome, "load the parts in their order")
		require.Empty(t, w.rows(there, "notes@here"))
		for _, p := range parts[:2] { // one by one, as drives come
			w.done(there)(there.Routes.LoadCrate(api.CrateLoad{Paths: []string{p}}, "test"))
			w.done(there)(there.Upkeep.Sweep(true, "test"))
		}
		require.Empty(t, w.rows(there, "notes@here"))
		w.done(there)(there.Routes.LoadCrate(api.CrateLoad{Paths: parts[2:]}, "test"))
		rows := w.rows(there, "notes@here")
		require.Len(t, rows, 3)
		require.Equal(t, "2", w.textOf(there, rows[0], "a"))
		require.Contains(t, must(there.Catalog.Volume("notes@here")).Proposed, "newest: 4")
		w.done(there)(there.Upkeep.Verify("test"))

		w.write(filepath.Join(w.dir, "shares", "notes"), "a", "after the crate")
		w.until(here, w.clock.Now().Add(6*time.Hour))
		w.done(here)(here.Routes.RunRoute("r", "test"))
		r := must(here.Routes.Route("r"))
		require.Equal(t, "current", r.State)
		require.Less(t, r.SentBytes, int64(60_000), "changes only")
		require.Len(t, w.rows(there, "notes@here"), 4)

		// A second crate builds on what is there, and a stranger cannot use it.
		w.write(filepath.Join(w.dir, "shares", "notes"), "a", "once more")
		w.until(here, w.clock.Now().Add(6*time.Hour))
		w.done(here)(here.Routes.WriteCrate(api.CrateWrite{Path: path, Route: "r"}, "test"))
		require.Less(t, must(os.Stat(path)).Size(), int64(100_000))
		w.done(there)(there.Routes.LoadCrate(api.CrateLoad{Paths: []string{path}}, "test"))
		require.Len(t, w.rows(there, "notes@here"), 5)
		_, err = here.Routes.WriteCrate(api.CrateWrite{Path: path, Route: "r"}, "test")
		require.Equal(t, refusal.Conflict, refusal.ClassOf(err), "never over another file")
	}
}

// A crate that is cut short, altered anywhere, for another site or from a stranger is
// refused with the reason and leaves nothing behind.
func TestBrokenCrates(t *testing.T) {
	w := newWorld(t)
	here, there := crated(w)
	path := filepath.Join(w.dir, "good.crate")
	w.done(here)(here.Routes.WriteCrate(api.CrateWrite{Path: path, Route: "r"}, "test"))
	good := must(os.ReadFile(path))
	bad := filepath.Join(w.dir, "bad.crate")
	load := func(s *Site, body []byte) error {
		require.NoError(t, os.WriteFile(bad, body, 0o600))
		run, err := s.Routes.LoadCrate(api.CrateLoad{Paths: []string{bad}}, "test")
		if err != nil {
			return err
		}
		if run = must(s.Run.Wait(w.ctx, run.ID)); run.State != "done" {
			return errors.New(run.Outcome)
		}
		return nil
	}
	rng := rand.New(rand.NewPCG(3, 4))
	for range 25 {
		require.Error(t, load(there, good[:rng.IntN(len(good)-1100)]), "cut short")
	}
	var contents [][2]int64
	r := bytes.NewReader(good)
	tr := tar.NewReader(r)
	for {
		h, err := tr.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		contents = append(contents, [2]int64{int64(len(good)) - int64(r.Len()), h.Size})
	}
	for i := range 60 {
		at := contents[i%len(contents)]
		body := bytes.Clone(good)
		body[at[0]+rng.Int64N(at[1])] ^= 1 << rng.IntN(8)
		require.Error(t, load(there, body), "altered in entry %d", i%len(contents))
	}
	require.Empty(t, w.rows(there, "notes@here"))
	require.Empty(t, must(there.Catalog.Volumes()))
	require.Empty(t, there.Store.Roots())
	w.clock.Set(w.clock.Now().Add(time.Hour))
	w.done(there)(there.Upkeep.Sweep(true, "test"))

	stranger := w.open("stranger")
	require.ErrorContains(t, load(stranger, good), "written for there")
	id := w.rows(here, "notes")[0].ID
	loose := filepath.Join(w.dir, "loose.crate")
	w.done(here)(here.Routes.WriteCrate(api.CrateWrite{Path: loose, Snapshots: []string{id}}, "test"))
	require.ErrorContains(t, load(stranger, must(os.ReadFile(loose))), "not paired with this site")
	require.Empty(t, stranger.Store.Roots())
	require.NoError(t, load(there, good))
	require.Len(t, w.rows(there, "notes@here"), 3)
	for say, ask := range map[string]api.CrateWrite{
		"outside the roots": {Path: "/etc/x.crate", Route: "r"}, "name a route": {Path: bad + "2"},
		"too small": {Path: bad + "2", Route: "r", PartBytes: 10}, "directory": {Path: bad + "/x/y", Route: "r"},
		"is sealed for a site": {Path: bad + "2", Snapshots: []string{id}, Seal: true},
	} {
		_, err := here.Routes.WriteCrate(ask, "test")
		require.ErrorContains(t, err, say)
	}
}
