package site

import (
	"context"
	"fmt"
	"runtime"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
	"candidharbor/internal/transfer"

	"github.com/stretchr/testify/require"
)

// What is chosen is there, stays there as was asked whatever the rules there say, and stays a copy like any other: what
// a site asks never shortens what is kept already, and it ends by itself.
func TestCarryChosen(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.pair(here, there)
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every hour]\nkeep:\n  here: {newest: 9}\n  there: "+
		"{newest: 2}\ngrace: 1 second\n")
	for i := range 6 {
		w.write(dir, "a", fmt.Sprint("state ", i))
		w.until(here, w.clock.Now().Add(time.Hour))
	}
	rows := w.rows(here, "notes") // the newest first
	carry := func(ask api.CarryChosen, ids ...string) api.Run {
		ask.Snapshots, ask.To = ids, "there"
		return w.done(here)(here.Routes.CarryChosen(ask, "test"))
	}
	pruneThere := func() (left []string) {
		for range 2 { // into grace, and out of it
			w.done(there)(there.Rules.Prune("", "test"))
			w.clock.Set(w.clock.Now().Add(2 * time.Second))
		}
		for _, r := range w.rows(there, "notes@here") {
			left = append(left, r.ID)
		}
		return left
	}
	until := w.clock.Now().Add(48 * time.Hour)

	_, err := here.Routes.CarryChosen(api.CarryChosen{Snapshots: []string{rows[0].ID, rows[5].ID}, To: "there"}, "test")
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
	require.Contains(t, err.Error(), "do not keep 1 snapshot of those, such as "+rows[5].ID[:12])
	require.Empty(t, w.rows(there, "notes@here"), "what is refused carries nothing")

	carry(api.CarryChosen{}, rows[0].ID)
	carry(api.CarryChosen{KeepUntil: &until, Reason: "audit"}, rows[5].ID, rows[3].ID)
	require.Equal(t, "state 0", w.textOf(there, must(there.Catalog.Snapshot(rows[5].ID)), "a"))
	require.ElementsMatch(t, []string{rows[0].ID, rows[3].ID, rows[5].ID}, pruneThere())
	require.Empty(t, must(here.Catalog.Snapshot(rows[5].ID)).KeepWhy, "it is kept there, not here")
	require.Equal(t, "sent by here: audit", must(there.Catalog.Snapshot(rows[5].ID)).KeepWhy)

	// A wish that ends sooner, or has ended, shortens nothing; one that ends later prolongs.
	sooner, later := w.clock.Now().Add(time.Hour), until.Add(48*time.Hour)
	carry(api.CarryChosen{KeepUntil: &sooner}, rows[5].ID)
	require.True(t, must(there.Catalog.Snapshot(rows[5].ID)).KeepUntil.Equal(until))
	rules := must(there.Catalog.Volume("notes@here")).Proposed
	require.NotEmpty(t, rules)
	require.NoError(t, w.bring(here, there, func(q *transfer.CarryRequest) {
		q.Rules, q.Keep = rules, &transfer.Keep{Until: 1, Why: "late"}
	}))
	require.Empty(t, must(there.Catalog.Snapshot(rows[0].ID)).KeepWhy)
	carry(api.CarryChosen{KeepUntil: &later}, rows[3].ID)

	// A route that is opened later carries what lacks; what is there is not sent again.
	w.route(here, "there")
	run := w.done(here)(here.Routes.RunRoute("to-there", "test"))
	require.Contains(t, run.Outcome, "2 snapshots carried to there; 176 B sent")
	require.Len(t, pruneThere(), 4)
	w.until(there, until.Add(time.Minute))
	require.ElementsMatch(t, []string{rows[0].ID, rows[1].ID, rows[3].ID}, pruneThere())
	_, err = there.Rules.LetGoSnapshot(rows[3].ID)
	require.NoError(t, err)
	require.ElementsMatch(t, []string{rows[0].ID, rows[1].ID}, pruneThere())

	// In grace there, it is had back by being asked for again.
	carry(api.CarryChosen{Keep: true}, rows[1].ID)
	require.True(t, must(there.Catalog.Snapshot(rows[1].ID)).KeepUntil.IsZero())

	// What came from there does not go back there, and what has no copy here cannot go.
	theirs := w.rows(there, "notes@here")[0].ID
	_, err = there.Routes.CarryChosen(api.CarryChosen{Snapshots: []string{theirs}, To: "here", Keep: true}, "test")
	require.ErrorContains(t, err, "comes from here")
	_, err = here.Rules.RemoveSnapshot(rows[4].ID)
	require.NoError(t, err)
	_, err = here.Routes.CarryChosen(api.CarryChosen{Snapshots: []string{rows[4].ID}, To: "there", Keep: true}, "test")
	require.ErrorContains(t, err, "is in grace")
}

// A site in wrong hands holds nothing here that others brought, by whatever name it asks.
func TestNobodyHoldsWhatOthersBrought(t *testing.T) {
	w := newWorld(t)
	here, there, third := w.open("here"), w.open("there"), w.open("third")
	w.share(here, "notes")
	w.write(w.share(third, "notes"), "a", "of the third")
	w.pair(here, there)
	w.pair(third, there)
	w.take(here, "notes")
	w.take(third, "notes")
	w.route(here, "there")
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	theirs, own := w.rows(there, "notes@here")[0], w.rows(third, "notes")[0]
	for _, origin := range []string{"here", "third", "there"} {
		for _, lineage := range []string{theirs.Lineage, own.Lineage} {
			_ = w.bring(third, there, func(q *transfer.CarryRequest) {
				q.Root, q.Lineage, q.Origin = must(object.ParseID(theirs.ID)), records.LineageOf(lineage), origin
				q.Keep = &transfer.Keep{Why: "forever"}
			})
		}
	}
	require.Empty(t, must(there.Catalog.Snapshot(theirs.ID)).KeepWhy)
	require.NoError(t, w.bring(third, there, func(q *transfer.CarryRequest) { q.Keep = &transfer.Keep{Why: "mine"} }))
	require.Equal(t, "sent by third: mine", w.rows(there, "notes@third")[0].KeepWhy)
}

// A vault decides for itself: what a source says with a snapshot that the vault takes binds nothing there.
func TestPulledWishIsIgnored(t *testing.T) {
	w := newWorld(t)
	source, vault, _ := vaulted(w)
	w.take(source, "notes")
	_, err := vault.Routes.AddRoute(api.RouteAdd{Name: "from-source", From: "source", Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	_, err = source.Routes.CarryChosen(api.CarryChosen{Snapshots: []string{w.rows(source, "notes")[0].ID}, To: "vault",
		Keep: true}, "test")
	require.ErrorContains(t, err, "does not let this site bring snapshots")
	w.done(vault)(vault.Routes.RunRoute("from-source", "test"))
	require.Empty(t, w.rows(vault, "notes@source")[0].KeepWhy)
	check := must(source.Rules.CheckPolicy(w.ctx, "policy: p\nvolumes: {k: v}\ntake: [every hour]\nkeep:\n  vault: "+
		"{daily: 3}\n  moon: {daily: 3}\n"))
	require.NotContains(t, fmt.Sprint(check.Hints), "vault is to keep copies", "what it takes for itself reaches it")
	require.Contains(t, fmt.Sprint(check.Hints), "moon is to keep copies, but no route goes there")
	in := must(vault.Routes.Incoming())
	require.Len(t, in, 1)
	require.Equal(t, "source", in[0].From)
	require.Equal(t, 1, in[0].Copies)
}

// The receiver sees what comes while it comes, what it refused and why, and what is at rest.
func TestIncoming(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.pair(here, there)
	require.Empty(t, must(there.Routes.Incoming()))
	w.noise(dir, "large", 3, 4<<20)
	first := w.take(here, "notes")
	w.route(here, "there")
	ctx, cancel := context.WithTimeout(w.ctx, time.Minute)
	defer cancel()
	until := func(is func(in api.Incoming) bool) api.Incoming { // who sends may know how it ended before who receives
		t.Helper()
		for ctx.Err() == nil {
			if all := must(there.Routes.Incoming()); len(all) == 1 && is(all[0]) {
				return all[0]
			}
			runtime.Gosched()
		}
		require.NoError(t, ctx.Err())
		return api.Incoming{}
	}
	_, err := here.Pairing.SetPace("there", api.PaceSet{Lines: []string{"1 Mbit/s"}})
	require.NoError(t, err)
	r := must(here.Routes.RunRoute("to-there", "test"))
	in := until(func(in api.Incoming) bool { return in.DoneBytes > 0 })
	require.Equal(t, "coming", in.State)
	require.Equal(t, first.ID, in.Snapshot)
	require.Equal(t, "notes@here", in.Volume)
	require.Nil(t, in.LastArrived)
	_, err = here.Pairing.SetPace("there", api.PaceSet{})
	require.NoError(t, err)
	_, err = here.Run.Wait(w.ctx, r.ID)
	require.NoError(t, err)
	in = until(func(in api.Incoming) bool { return in.State == "at rest" })
	require.Equal(t, 1, in.Copies)
	require.NotNil(t, in.LastArrived)

	_, err = there.Pairing.Grant(w.ctx, "here", api.GrantAsk{Grants: []string{"offer"}, QuotaBytes: 1})
	require.NoError(t, err)
	w.write(dir, "a", "b")
	w.take(here, "notes")
	_, err = here.Run.Wait(w.ctx, must(here.Routes.RunRoute("to-there", "test")).ID)
	require.NoError(t, err)
	in = until(func(in api.Incoming) bool { return in.State == "refused" })
	require.Contains(t, in.Refused, "the cap of peer here is reached")
	_, err = there.Rules.RemoveCap("peer", "here")
	require.NoError(t, err)
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	until(func(in api.Incoming) bool { return in.State == "at rest" })
}
