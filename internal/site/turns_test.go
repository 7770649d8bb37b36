package site

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"

	"github.com/stretchr/testify/require"
)

// A site whose service is in wrong hands floods the far place with snapshots, and dates
// some of them into the past: what was there stays, and it is said.
func TestArrivalsOutOfTurn(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  there: {newest: 3, hourly: 6, daily: "+
		"5}\ngrace: 1 second\n")
	w.pair(here, there)
	w.route(here, "there")
	honest := func(turns int) {
		for range turns {
			w.write(dir, "a", w.clock.Now().String())
			w.until(here, w.clock.Now().Add(6*time.Hour))
		}
	}
	bring := func() { // whatever the far side would keep
		link, _, err := here.Pairing.Link(w.ctx, must(here.Catalog.Peer("there")))
		require.NoError(t, err)
		r := must(here.Catalog.Route("to-there"))
		work := must(here.Routes.RouteWork(r))
		rows := w.rows(here, "notes")
		slices.Reverse(rows)
		carried := must(here.Catalog.CarriedBy("to-there", "here", "notes"))
		for _, row := range rows {
			if _, is := carried[row.ID]; !is {
				require.NoError(t, here.Routes.CarryOne(w.ctx, r, link, &work[0], row))
			}
		}
	}
	flood := func(n int, step time.Duration) {
		for i := range n {
			w.clock.Set(w.clock.Now().Add(step))
			w.write(dir, "a", fmt.Sprint("encrypted ", i))
			j, err := here.Capture.StartSnapshot("notes", capture.Taking{Cause: object.CauseScheduled}, "an intruder")
			require.NoError(t, err)
			require.NoError(t, j.Wait(w.ctx))
		}
		bring()
	}
	honest(24)
	v := must(there.Overview.Volume("notes@here"))
	require.Zero(t, v.OutOfTurn, "its own cadence is in turn, also when it catches up")
	w.done(there)(there.Rules.Prune("", "test"))
	w.clock.Set(w.clock.Now().Add(time.Minute))
	w.done(there)(there.Rules.Prune("", "test"))
	before := w.rows(there, "notes@here")
	require.Len(t, before, 9)

	flood(40, 20*time.Second)
	prune := func() {
		w.done(there)(there.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(time.Minute))
		w.done(there)(there.Rules.Prune("", "test"))
	}
	prune()
	v = must(there.Overview.Volume("notes@here"))
	require.InDelta(t, 36, v.OutOfTurn, 1)
	left := map[string]bool{}
	for _, r := range w.rows(there, "notes@here") {
		left[r.ID] = true
	}
	lost := 0
	for _, r := range before {
		if !left[r.ID] {
			lost++
		}
	}
	require.LessOrEqual(t, lost, 1, "of nine, only what four more would displace in turn")
	require.Contains(t, must(there.Overview.Status()).Sentences[1].Text, "of notes@here arrived out of turn")
	out := must(there.Catalog.OutOfTurn("there", "notes@here"))
	page := must(there.Rules.SnapshotView(out[0], nil))
	require.Contains(t, fmt.Sprint(page.Reasons), "its cadence takes at most")

	// It is in the marks, so the store alone knows it.
	n, err := there.Upkeep.RebuildCatalogue()
	require.NoError(t, err)
	require.Equal(t, len(left), n)
	require.NoError(t, there.Upkeep.Release())
	require.Len(t, must(there.Catalog.OutOfTurn("there", "notes@here")), len(out))

	// A cap under which the oldest go takes what is out of turn first.
	_, err = there.Rules.PutCap(api.CapPut{Scope: "volume", Name: "notes@here", Snapshots: len(left) - 20,
		Reached: "oldest goes"})
	require.NoError(t, err)
	good := 0
	for _, r := range w.rows(there, "notes@here") {
		if r.OutOfTurn == "" {
			good++
		}
	}
	prune()
	for _, r := range w.rows(there, "notes@here") {
		if r.OutOfTurn == "" && r.GraceUntil.IsZero() {
			good--
		}
	}
	require.Zero(t, good, "nothing that is in turn went")
	out = must(there.Catalog.OutOfTurn("there", "notes@here"))
	require.InDelta(t, 16, len(out), 1)
	_, err = there.Rules.RemoveCap("volume", "notes@here")
	require.NoError(t, err)

	// The clock of the one in wrong hands goes back by days, and its snapshots with it.
	now := w.clock.Now()
	w.clock.Set(now.Add(-50 * time.Hour))
	w.write(dir, "a", "dated back")
	j, err := here.Capture.StartSnapshot("notes", capture.Taking{Cause: object.CauseScheduled}, "an intruder")
	require.NoError(t, err)
	require.NoError(t, j.Wait(w.ctx))
	w.clock.Set(now)
	bring()
	back := slices.IndexFunc(w.rows(there, "notes@here"), func(r *catalog.Snapshot) bool {
		return r.OutOfTurn != "" && r.Began.Before(now.Add(-49*time.Hour))
	})
	require.GreaterOrEqual(t, back, 0)
	require.Contains(t, w.rows(there, "notes@here")[back].OutOfTurn, "its place in the history says otherwise")

	_, err = there.Capture.Admit("notes@here", []string{before[0].ID})
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
	_, err = there.Capture.Admit("notes@here", []string{out[0].ID, out[1].ID})
	require.NoError(t, err)
	require.Len(t, must(there.Catalog.OutOfTurn("there", "notes@here")), len(out)-1)
	said, err := there.Capture.Admit("notes@here", nil)
	require.NoError(t, err)
	require.Contains(t, said, "counted in")
	prune()
	require.Less(t, len(w.rows(there, "notes@here")), 12)
	_, err = there.Capture.Admit("notes@here", nil)
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
}
