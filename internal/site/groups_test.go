package site

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"

	"github.com/stretchr/testify/require"
)

// grouped is a site with two volumes in a group, and hooks that write down what they did.
func grouped(t *testing.T) (w *world, s *Site, dirs [2]string, log func() []string) {
	w = newWorld(t)
	s = w.open("here")
	for i, name := range []string{"ledger", "papers"} {
		dirs[i] = w.share(s, name)
	}
	told := filepath.Join(w.dir, "told")
	sh := func(line string) datadir.Hook {
		return datadir.Hook{Run: []string{"/bin/sh", "-c", line + "; echo $CANDID_HOOK $CANDID_GROUP $CANDID_VOLUMES >>" +
			told}, Timeout: "1 minute"}
	}
	s.Conf.Hooks = map[string]datadir.Hook{"freeze": sh("true"), "thaw": sh("true"),
		"refuses": {Run: []string{"/bin/sh", "-c", "echo no room here; exit 3"}},
		"hangs":   {Run: []string{"/bin/sh", "-c", "sleep 1000 & sleep 1000"}, Timeout: "1 second"}}
	return w, s, dirs, func() []string {
		raw, err := os.ReadFile(told)
		if err != nil {
			return nil
		}
		os.Remove(told)
		return strings.Split(strings.TrimSpace(string(raw)), "\n")
	}
}

// A group is taken as one set, between freeze and thaw; what fails fails for all, and the
// writers are let go whatever happened.
func TestGroupIsOneSet(t *testing.T) {
	w, s, dirs, log := grouped(t)
	both := []string{"papers", "ledger"}
	g, err := s.Capture.PutGroup("books", api.GroupPut{Volumes: both, Freeze: "freeze", Thaw: "thaw"})
	require.NoError(t, err)
	require.Equal(t, []string{"ledger", "papers"}, g.Volumes)
	require.Equal(t, "stop", g.Failing)

	said := strings.Join(must(s.Overview.Explain("papers", "")).Sentences, "\n")
	require.Contains(t, said, "It is taken together with ledger, as one set of the group books")
	require.Contains(t, said, "its writers are held by the hook freeze, and thaw lets them go; if they cannot be held, "+
		"nothing is taken.")

	one := w.take(s, "papers")
	require.Equal(t, []string{"freeze books ledger papers", "thaw books ledger papers"}, log())
	require.Equal(t, "quiesced", one.Consistency)
	require.Equal(t, "books", one.Group)
	other := must(s.Recovery.Snapshot(w.rows(s, "ledger")[0].ID))
	require.Equal(t, one.SetID, other.SetID)
	require.Len(t, must(s.Capture.Group("books")).Newest, 2)

	fails := func(how api.GroupPut, why string) {
		t.Helper()
		_, err := s.Capture.PutGroup("books", how)
		require.NoError(t, err)
		run, err := s.Capture.TakeSnapshot("ledger", api.SnapshotTake{}, "test")
		require.NoError(t, err)
		run, err = s.Run.Wait(w.ctx, run.ID)
		require.NoError(t, err)
		require.Equal(t, "failed", run.State)
		require.Contains(t, run.Outcome, why)
		require.Len(t, w.rows(s, "ledger"), 1)
		require.Len(t, w.rows(s, "papers"), 1)
		require.Len(t, s.Store.Roots(), 2)
	}
	fails(api.GroupPut{Volumes: both, Freeze: "refuses", Thaw: "thaw"}, "hook refuses failed")
	require.Equal(t, []string{"thaw books ledger papers"}, log(), "half a freeze is thawed too")
	fails(api.GroupPut{Volumes: both, Freeze: "hangs", Thaw: "thaw"}, "did not end within 1 second")
	require.Len(t, log(), 1)
	require.NoError(t, os.Rename(dirs[1], dirs[1]+".gone"))
	fails(api.GroupPut{Volumes: both, Freeze: "freeze", Thaw: "thaw"}, "papers")
	require.NoError(t, os.Rename(dirs[1]+".gone", dirs[1]))
	log()

	_, err = s.Capture.PutGroup("books", api.GroupPut{Volumes: both, Freeze: "refuses", Failing: "spread"})
	require.ErrorContains(t, err, "would drop it")
	_, err = s.Capture.EditGroup("books", api.GroupEdit{Remove: []string{"neither"}})
	require.ErrorContains(t, err, "is not in the group")
	edited := must(s.Capture.EditGroup("books", api.GroupEdit{Add: []string{both[0]}}))
	require.Equal(t, "thaw", edited.Thaw, "what is not named stays")
	_, err = s.Capture.PutGroup("books", api.GroupPut{Volumes: both, Freeze: "refuses", Failing: "spread",
		DropHooks: true})
	require.NoError(t, err)
	w.clock.Set(w.clock.Now().Add(time.Second))
	run := w.done(s)(s.Capture.TakeSnapshot("ledger", api.SnapshotTake{}, "test"))
	require.Equal(t, "done with remarks", run.State)
	lines, err := s.Catalog.Log(run.ID)
	require.NoError(t, err)
	require.Contains(t, logText(lines), "no room here")
	require.Equal(t, "spread", w.rows(s, "ledger")[0].Consistency)

	// Held by its policy is only the volume that the policy chooses.
	_, err = s.Capture.PutGroup("books", api.GroupPut{Volumes: both, DropHooks: true})
	require.NoError(t, err)
	w.policy(s, "policy: held\nvolumes: {names: [ledger]}\nquiesce: {freeze: freeze, thaw: thaw}\n")
	require.Equal(t, "quiesced", w.take(s, "ledger").Consistency)
	require.Equal(t, []string{"freeze books ledger papers", "thaw books ledger papers"}, log())
	require.Equal(t, "spread", must(s.Recovery.Snapshot(w.rows(s, "papers")[0].ID)).Consistency)

	for _, bad := range []api.GroupPut{{Volumes: []string{"ledger"}}, {Volumes: []string{"ledger", "ledger"}},
		{Volumes: []string{"ledger", "none"}},
		{Volumes: both, Freeze: "none"}, {Volumes: both, Thaw: "thaw"}, {Volumes: both, Freeze: "freeze",
			Failing: "perhaps"}} {
		_, err := s.Capture.PutGroup("books", bad)
		require.Error(t, err, "%+v", bad)
	}
	_, err = s.Capture.PutGroup("again", api.GroupPut{Volumes: both})
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
	_, err = s.Capture.RemoveVolume("ledger")
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
	_, err = s.Rules.PutPolicy("policy: q\nvolumes: {k: v}\nquiesce: {freeze: none}\n", "test", true)
	require.ErrorContains(t, err, `hook "none" is not in site.yaml`)
}

// A group comes due as a whole, is seen unchanged as a whole and is kept as a whole: what
// one volume's rules keep, they keep of the set.
func TestGroupIsDecidedAsOne(t *testing.T) {
	w, s, dirs, _ := grouped(t)
	begin := w.clock.Now()
	w.policy(s, "policy: often\nvolumes: {names: [ledger]}\ntake: [every 6 hours]\nskip_unchanged: true\nkeep: {here: "+
		"{newest: 1}}\ngrace: 1 hour\n")
	w.policy(s, "policy: seldom\nvolumes: {names: [papers]}\ntake: [daily at 12:00]\nskip_unchanged: true\nkeep: "+
		"{here: {daily: 3}}\ngrace: 1 hour\n")
	_, err := s.Capture.PutGroup("books", api.GroupPut{Volumes: []string{"ledger", "papers"}})
	require.NoError(t, err)
	for day := range 8 {
		w.write(dirs[0], "a", fmt.Sprint(day))
		w.until(s, begin.Add(time.Duration(day+1)*24*time.Hour))
		w.done(s)(s.Rules.Prune("", "test"))
	}
	kept := map[string][]string{}
	for _, v := range []string{"ledger", "papers"} {
		for _, r := range w.rows(s, v) {
			if r.GraceUntil.IsZero() {
				kept[v] = append(kept[v], r.SetID)
			}
		}
	}
	require.GreaterOrEqual(t, len(kept["papers"]), 3)
	require.Equal(t, kept["papers"], kept["ledger"], "of every set both are kept, or none")
	newest := must(s.Recovery.Snapshot(w.rows(s, "ledger")[1].ID))
	require.Contains(t, newest.Reasons[0], "one of a set, of which papers is kept")

	row := w.rows(s, "papers")[1]
	_, err = s.Rules.RemoveSnapshot(row.ID)
	require.NoError(t, err)
	for _, m := range must(s.Rules.Set(row)) {
		require.Equal(t, rules.RemovedByHand, m.LetGo)
	}
	_, err = s.Rules.RecallSnapshot(row.ID)
	require.NoError(t, err)
	for _, m := range must(s.Rules.Set(row)) {
		require.True(t, m.GraceUntil.IsZero())
	}
	_, err = s.Rules.KeepSnapshot(row.ID, api.KeepAsk{Reason: "board"})
	require.NoError(t, err)
	mate := must(s.Rules.Set(row))[0]
	require.NotEqual(t, row.ID, mate.ID)
	_, err = s.Rules.RemoveSnapshot(mate.ID)
	require.ErrorContains(t, err, "of papers, which is of the same set, is marked to keep")

	_, err = s.Rules.PauseVolume("papers")
	require.NoError(t, err)
	n := len(w.rows(s, "ledger"))
	w.write(dirs[0], "a", "paused")
	w.until(s, w.clock.Now().Add(24*time.Hour))
	require.Len(t, w.rows(s, "ledger"), n, "without one the set would not be whole")
	require.Equal(t, []string{"papers"}, must(s.Capture.Group("books")).Waiting)
	require.Contains(t, must(s.Overview.Volume("ledger")).Sentence, "Its group books waits, because papers is paused")
}

// What a crash left of a set is not there after it; a set is seen at the far side once all
// of it has arrived.
func TestSetIsWholeOrNotThere(t *testing.T) {
	w, s, dirs, _ := grouped(t)
	there := w.open("there")
	w.pair(s, there)
	w.policy(s, "policy: p\nvolumes: {k: v}\nkeep: {there: {newest: 5}}\n")
	_, err := s.Capture.PutGroup("books", api.GroupPut{Volumes: []string{"ledger", "papers"}})
	require.NoError(t, err)
	w.take(s, "ledger")
	w.route(s, "there")
	r := must(s.Catalog.Route("to-there"))
	work, err := s.Routes.RouteWork(r)
	require.NoError(t, err)
	link, _, err := s.Pairing.Link(w.ctx, must(s.Catalog.Peer("there")))
	require.NoError(t, err)
	seen := func() []int {
		out := []int{}
		for _, v := range must(there.Overview.Volumes()) {
			out = append(out, v.Snapshots)
		}
		return out
	}
	require.Len(t, work, 2)
	require.NoError(t, s.Routes.CarryOne(w.ctx, r, link, &work[0], work[0].Want[0]))
	require.Equal(t, []int{0}, seen(), "the rest of the set is still to come")
	_, err = there.Recovery.Snapshot(work[0].Want[0].ID)
	require.ErrorContains(t, err, "still to arrive")
	require.NoError(t, s.Routes.CarryOne(w.ctx, r, link, &work[1], work[1].Want[0]))
	require.Equal(t, []int{1, 1}, seen())

	w.write(dirs[0], "a", "second")
	w.clock.Set(w.clock.Now().Add(time.Minute))
	w.take(s, "ledger")
	last := must(s.Rules.Set(w.rows(s, "ledger")[0]))
	require.Len(t, last, 2)
	gone, err := object.ParseID(last[1].ID)
	require.NoError(t, err)
	require.NoError(t, s.Store.RemoveRoots(gone)) // as if it had not come to it
	require.NoError(t, s.Catalog.ForgetSnapshots(s.Place(), last[0].ID, last[1].ID))
	require.NoError(t, s.Close())
	s = w.open("here")
	require.Len(t, w.rows(s, "ledger"), 1)
	require.Len(t, w.rows(s, "papers"), 1)
	require.Len(t, s.Store.Roots(), 3, "what there is of it is not shown, and nothing is deleted")

	// No site can name its snapshots into a set of another.
	root := must(s.Rules.RootOf(w.rows(s, "ledger")[0]))
	forged := *root
	forged.Origin = "mereside"
	require.NotEqual(t, must(s.Records.RowOf(object.ID{1}, root)).SetID,
		must(s.Records.RowOf(object.ID{2}, &forged)).SetID)

	// So it is with the very first set of a site: nothing is held, and nothing of it is shown.
	fresh := w.open("fresh")
	for _, name := range []string{"one", "two"} {
		w.share(fresh, name)
	}
	_, err = fresh.Capture.PutGroup("both", api.GroupPut{Volumes: []string{"one", "two"}})
	require.NoError(t, err)
	w.take(fresh, "one")
	last = must(fresh.Rules.Set(w.rows(fresh, "one")[0]))
	gone, err = object.ParseID(last[0].ID)
	require.NoError(t, err)
	require.NoError(t, fresh.Store.RemoveRoots(gone))
	require.NoError(t, fresh.Catalog.ForgetSnapshots("fresh", last[0].ID, last[1].ID))
	require.NoError(t, fresh.Close())
	fresh = w.open("fresh")
	require.Len(t, fresh.Store.Roots(), 1)
	require.Empty(t, w.rows(fresh, "one"))
	require.Empty(t, w.rows(fresh, "two"))
	require.Empty(t, must(fresh.Info()).Held)
	w.take(fresh, "one")
	require.Len(t, w.rows(fresh, "two"), 1)

	// What is known as acknowledged stays, though its mate was removed for itself.
	first := must(s.Rules.Set(w.rows(s, "ledger")[0]))
	gone, err = object.ParseID(first[1].ID)
	require.NoError(t, err)
	require.NoError(t, s.Store.RemoveRoots(gone))
	require.NoError(t, s.Close())
	s = w.open("here")
	require.Len(t, s.Store.Roots(), 2)
	require.Contains(t, must(s.Info()).Held, "that nobody let go are not in the store any more")
	require.True(t, slices.ContainsFunc(w.rows(s, "ledger"), func(r *catalog.Snapshot) bool {
		return r.ID == first[0].ID
	}))
}

func logText(lines []catalog.LogLine) string {
	var all []string
	for _, l := range lines {
		all = append(all, l.Text)
	}
	return strings.Join(all, "\n")
}
