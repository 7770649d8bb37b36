package site

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/recovery"

	"github.com/stretchr/testify/require"
)

// A nightly refresh of a test copy: kept exactly, checked by a hook, in its own directory
// alone; missed nights are one; what fails is a failed run; a moment is kept once.
func TestRecipes(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	checked := filepath.Join(w.dir, "checked")
	s.Conf.Hooks = map[string]datadir.Hook{"look": {Run: []string{"/bin/sh", "-c", `echo "$CANDID_PATHS" >> ` + checked +
		`; test ! -e "$CANDID_PATHS/bad"`}}}
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	copied := filepath.Join(w.dir, "copy")
	put := api.RecipePut{Restore: api.RestoreAsk{Volume: "notes", At: "latest", To: copied}, Exact: true,
		When: "daily at 02:30", Zone: "Europe/Lisbon", Check: "look"}
	for why, change := range map[string]func(p *api.RecipePut){
		"hook \"none\" is not in site.yaml": func(p *api.RecipePut) { p.Check = "none" },
		"give times, such as":               func(p *api.RecipePut) { p.When = "on change" },
		"has passed":                        func(p *api.RecipePut) { p.When = "2020-01-01T00:00:00Z" },
		"exact is for a whole volume":       func(p *api.RecipePut) { p.Restore.Paths = []string{"a"} },
		"is not empty":                      func(p *api.RecipePut) { p.Restore.To = dir },
		"volume \"nothing\"":                func(p *api.RecipePut) { p.Restore.Volume = "nothing" },
		"say where to":                      func(p *api.RecipePut) { p.Restore.To = "" },
	} {
		p := put
		change(&p)
		_, err := s.Recovery.PutRecipe(w.ctx, "nightly", p, false, "test")
		require.ErrorContains(t, err, why)
	}
	r, err := s.Recovery.PutRecipe(w.ctx, "nightly", put, false, "test")
	require.NoError(t, err)
	require.Equal(t, "all of notes, in its newest state, to "+copied+", exactly so: what is not in the snapshot goes "+
		"from there; daily at 02:30; then the hook look checks it.", r.Sentence)
	require.Equal(t, time.Date(2026, 3, 3, 2, 30, 0, 0, time.UTC), r.NextDue.UTC())
	_, err = s.Recovery.PutRecipe(w.ctx, "nightly", put, false, "test")
	require.ErrorContains(t, err, "there is a recipe nightly already")

	w.until(s, w.clock.Now().Add(24*time.Hour))
	require.Equal(t, skipTop(exact(t, dir)), skipTop(exact(t, copied)))
	w.write(copied, "made there", "by tests")
	w.write(dir, "b", "second")
	require.NoError(t, os.Remove(filepath.Join(dir, "a")))
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	w.until(s, w.clock.Now().Add(24*time.Hour))
	require.Equal(t, skipTop(exact(t, dir)), skipTop(exact(t, copied)), "exactly so again")

	// Three nights without the service are one run; a check that says no fails it.
	w.write(dir, "bad", "news")
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	w.clock.Set(w.clock.Now().Add(72 * time.Hour))
	_, err = s.Step(w.ctx, true)
	require.NoError(t, err)
	shown, err := s.Recovery.Recipe("nightly")
	require.NoError(t, err)
	require.Len(t, shown.Runs, 3)
	require.Equal(t, "failed", shown.Runs[0].State)
	require.Contains(t, shown.Runs[0].Outcome, "it was restored to "+copied+", but the check says no: hook look failed")
	text, err := os.ReadFile(checked)
	require.NoError(t, err)
	require.Equal(t, strings.Repeat(copied+"\n", 3), string(text))
	acts, err := s.Access.Ledger(catalog.EntryFilter{Text: "nightly", Limit: 10})
	require.NoError(t, err)
	require.Len(t, acts.Items, 3)

	// Its directory stays its own when it is edited; another must be new.
	put.Restore.At, put.When, put.Check = "-24h", w.clock.Now().Add(time.Hour).Format(time.RFC3339), ""
	r, err = s.Recovery.PutRecipe(w.ctx, "nightly", put, true, "test")
	require.NoError(t, err)
	require.Contains(t, r.Sentence, "as it was 24h before")
	w.until(s, w.clock.Now().Add(2*time.Hour))
	r, err = s.Recovery.Recipe("nightly")
	require.NoError(t, err)
	require.Len(t, r.Runs, 4)
	require.Nil(t, r.NextDue)
	w.until(s, w.clock.Now().Add(100*time.Hour))
	require.Len(t, must(s.Recovery.Recipe("nightly")).Runs, 4, "once is once")

	// What can no longer begin is seen as a failed run.
	put.When = "daily at 02:30"
	_, err = s.Recovery.PutRecipe(w.ctx, "nightly", put, true, "test")
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(copied))
	w.write(w.dir, "copy", "a file now")
	w.until(s, w.clock.Now().Add(24*time.Hour))
	runs, err := s.Run.Runs(catalog.RunFilter{Subject: "recipe nightly", Limit: 1})
	require.NoError(t, err)
	require.Contains(t, runs.Items[0].Outcome, "it could not begin: target "+copied+" is not a directory")
	said, err := s.Recovery.RemoveRecipe("nightly")
	require.NoError(t, err)
	require.Contains(t, said, "is forgotten")
	_, err = s.Recovery.RunRecipe(w.ctx, "nightly")
	require.ErrorContains(t, err, "no recipe nightly")
}

// Trials find what verification alone would: they bring files back. Of a damaged store they
// say so, once sent out as an alarm; the report has what they measured, of the other site's
// copies too.
func TestTrials(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	for i := range 30 {
		w.write(dir, "n"+strings.Repeat("x", i), strings.Repeat("text ", 5000*i))
	}
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 4}\n  there: {newest: "+
		"4}\nobjectives: {recovery: 2 hours}\n")
	w.pair(here, there)
	w.route(here, "there")
	w.until(here, w.clock.Now().Add(6*time.Hour))
	_, err := here.Recovery.PutRestoreTests(w.ctx, api.TrialsPut{When: "2026-12-01T00:00:00Z"})
	require.ErrorContains(t, err, "give a cadence")
	for _, s := range []*Site{here, there} {
		_, err = s.Recovery.PutRestoreTests(w.ctx, api.TrialsPut{When: "daily at 04:10", Files: 12})
		require.NoError(t, err)
	}
	w.until(here, w.clock.Now().Add(24*time.Hour))
	_, err = there.Step(w.ctx, true)
	require.NoError(t, err)
	told, err := here.Recovery.RestoreTests(w.ctx)
	require.NoError(t, err)
	require.Len(t, told.Last, 2)
	for i, site := range []string{"here", "there"} {
		x := told.Last[i]
		require.Equal(t, "notes "+site, x.Volume+" "+x.Site)
		require.True(t, x.Good, x.Sentence)
		require.EqualValues(t, 12, x.Files)
		require.EqualValues(t, 7200, x.ObjectiveSecs)
		require.Contains(t, x.Sentence, "within the 2 hours of the objective")
	}
	left, err := os.ReadDir(filepath.Join(here.Path, recovery.ScratchDir))
	require.NoError(t, err)
	require.Empty(t, left)
	report, err := here.Overview.Objectives(w.ctx, w.clock.Now().Add(-48*time.Hour))
	require.NoError(t, err)
	require.Len(t, report.Recovery, 2)
	require.Equal(t, 1, report.Recovery[0].Good)

	// All of a volume is tried when it has few files.
	_, err = here.Recovery.PutRestoreTests(w.ctx, api.TrialsPut{Files: 1000})
	require.NoError(t, err)
	runs, err := here.Recovery.TestRestore("notes", "test")
	require.NoError(t, err)
	w.done(here)(runs[0], nil)
	require.EqualValues(t, 31, must(here.Recovery.RestoreTests(w.ctx)).Last[0].Files)

	w.done(here)(here.Upkeep.Sweep(true, "test"))
	require.NoError(t, here.Close())
	w.damage("here", "", 1)
	here = w.open("here")
	runs, err = here.Recovery.TestRestore("notes", "test")
	require.NoError(t, err)
	run, err := here.Run.Wait(w.ctx, runs[0].ID)
	require.NoError(t, err)
	require.Equal(t, "failed", run.State)
	st, err := here.Overview.Status()
	require.NoError(t, err)
	found := false
	for _, x := range st.Sentences {
		found = found || x.About == "trial of notes" && strings.Contains(x.Text, "did not come back whole")
	}
	require.True(t, found, st.Sentences)
	_, err = here.Recovery.TestRestore("nothing", "test")
	require.True(t, errors.Is(err, catalog.ErrNone))
}
