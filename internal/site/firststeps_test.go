package site

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

// From an empty site to a file brought back from another one: each step is done when it is, and not before.
func TestFirstSteps(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	done := func() (codes []string) {
		for _, st := range must(here.Overview.FirstSteps()).Steps {
			require.NotEmpty(t, st.Text+st.Help+st.Command)
			if st.Done {
				codes = append(codes, st.Code)
			}
		}
		return codes
	}
	want := []string{"root"}
	require.Equal(t, want, done())
	require.True(t, must(here.Overview.FirstSteps()).Offered)
	step := func(code string) {
		want = append(want, code)
		require.Equal(t, want, done())
	}
	dir := w.share(here, "notes")
	step("volume")
	for _, e := range must(here.Rules.PolicyExamples("Europe/Lisbon")) {
		check := must(here.Rules.CheckPolicy(w.ctx, e.Body))
		require.Empty(t, check.Problems, e.Name)
		require.Empty(t, check.Hints, e.Name)
		require.Equal(t, []string{"notes"}, check.Volumes, "an example chooses what no policy chooses")
		require.Equal(t, e.Name, check.Name)
	}
	w.policy(here, must(here.Rules.PolicyExamples("UTC"))[0].Body)
	step("policy")
	w.write(dir, "a", "some")
	w.take(here, "notes")
	step("snapshot")
	alone := func() bool {
		for _, s := range must(here.Overview.Status()).Sentences {
			if s.Command == "candid begin" {
				return true
			}
		}
		return false
	}
	require.True(t, alone())
	w.pair(here, there)
	step("site")
	require.False(t, alone())
	for _, e := range must(here.Rules.PolicyExamples("UTC")) {
		require.Contains(t, e.Body, "\n  there: {", "an example keeps copies at the site that is known")
		require.Empty(t, must(here.Rules.CheckPolicy(w.ctx, e.Body)).Problems, e.Name)
	}
	w.route(here, "there")
	step("route")
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	step("copy")
	back := func(from string) api.RestoreResult {
		r := w.done(here)(here.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: "latest", From: from,
			To: filepath.Join(w.dir, "back", w.clock.Now().Format("150405"))}, "test"))
		w.clock.Set(w.clock.Now().Add(time.Second))
		return restored(t, r)
	}
	back("")
	require.Equal(t, want, done(), "what came from here proves nothing of there")
	res := back("there")
	step("back")
	require.Equal(t, "there", res.From)
	require.Positive(t, res.FetchBytes, "who names a site has all of it from there, also what is here too")

	require.False(t, must(here.Overview.FirstSteps()).Offered, "all is done")
	require.False(t, must(there.Overview.FirstSteps()).Offered, "a site that holds copies of others does not begin")
	require.True(t, must(here.Overview.SetFirstSteps(api.FirstStepsSet{PutAway: true})).PutAway)
	require.False(t, must(here.Overview.SetFirstSteps(api.FirstStepsSet{})).PutAway)
}

// A copy that is damaged at the other site is found by bringing it back from there, although all of it is here too.
func TestBroughtBackFromADamagedCopy(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.noise(dir, "large", 9, 300_000)
	w.take(here, "notes")
	w.pair(here, there)
	w.route(here, "there")
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	w.done(there)(there.Upkeep.Sweep(true, "test"))
	address := there.Pairing.PeerAddress()
	require.NoError(t, there.Close())
	w.damage("there", "", 1)
	w.openAt("there", address)
	ask := api.RestoreAsk{Volume: "notes", At: "latest", To: filepath.Join(w.dir, "back")}
	run := must(here.Run.Wait(w.ctx, must(here.Recovery.Restore(w.ctx, ask, "test")).ID))
	require.Equal(t, "done", run.State)
	ask.From, ask.To = "there", filepath.Join(w.dir, "back2")
	run = must(here.Run.Wait(w.ctx, must(here.Recovery.Restore(w.ctx, ask, "test")).ID))
	require.Equal(t, "done with remarks", run.State)
	require.Contains(t, fmt.Sprint(must(here.Run.Run(run.ID)).Log), "so that copy is not whole")
	for _, st := range must(here.Overview.FirstSteps()).Steps {
		require.Equal(t, st.Code == "back", !st.Done && st.Code == "back", st.Code)
	}
}
