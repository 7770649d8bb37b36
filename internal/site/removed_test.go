package site

import (
	"fmt"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/rules"

	"github.com/stretchr/testify/require"
)

// The newest snapshot is removed where it was taken, and gone before the next one is taken: what is taken then has a
// place of its own in the history, and is no stranger to a site that still has the one that went.
func TestThePlaceOfTheNewestIsNotTakenAgain(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.pair(here, there)
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [monthly on last day at 06:06]\nkeep:\n  here: {newest: 9}\n"+
		"  there: {newest: 9}\ngrace: 1 second\n")
	w.route(here, "there")
	for _, text := range []string{"one", "two"} {
		w.write(dir, "a", text)
		w.take(here, "notes")
	}
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	newest := w.rows(here, "notes")[0]
	_, err := here.Rules.RemoveSnapshot(newest.ID)
	require.NoError(t, err)
	w.clock.Set(w.clock.Now().Add(2 * time.Second))
	w.done(here)(here.Rules.Prune("", "test"))
	require.Len(t, w.rows(here, "notes"), 1, "it is gone")

	require.NoError(t, here.Close())
	here = w.open("here")
	w.write(dir, "a", "three")
	w.take(here, "notes")
	require.Greater(t, w.rows(here, "notes")[0].Sequence, newest.Sequence)
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	rows := w.rows(there, "notes@here")
	require.Len(t, rows, 3)
	for _, r := range rows {
		require.Empty(t, r.OutOfTurn)
	}
}

// What is removed at once is gone, and that alone; everything that forbids it is told, and changes nothing. A crash
// anywhere between leaves what the next start or pruning brings to its end.
func TestRemoveAtOnce(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir, other := w.share(here, "notes"), w.share(here, "maps")
	w.pair(here, there)
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [monthly on last day at 06:06]\nkeep:\n  here: {newest: 90}\n"+
		"  there: {newest: 90}\n")
	for i := range 7 {
		w.write(dir, "a", fmt.Sprint("state ", i))
		w.take(here, "notes")
	}
	w.write(other, "m", "north")
	w.take(here, "maps")
	rows := w.rows(here, "notes") // the newest first
	remove := func(typed string, rows ...*catalog.Snapshot) (*api.RemovedAtOnce, error) {
		ask := api.RemoveAtOnce{Type: typed}
		for _, r := range rows {
			ask.Snapshots = append(ask.Snapshots, r.ID)
		}
		return here.Rules.RemoveAtOnce(ask, "test")
	}
	refused := func(says, typed string, which ...*catalog.Snapshot) {
		t.Helper()
		_, err := remove(typed, which...)
		require.ErrorContains(t, err, says)
		require.Len(t, w.rows(here, "notes"), len(rows))
		for _, r := range which {
			require.True(t, must(here.Catalog.Snapshot(r.ID)).GraceUntil.IsZero())
		}
	}

	would := must(here.Rules.RemoveAtOnce(api.RemoveAtOnce{Snapshots: []string{rows[2].ID}, DryRun: true}, "test"))
	require.Equal(t, "notes", would.Type)
	require.Positive(t, would.Bytes)
	refused("type \"notes\"", "", rows[2])
	refused("type \"notes\"", "note", rows[2])
	refused("is the newest state of notes", "notes", rows[2], rows[0])
	must(here.Rules.KeepSnapshot(rows[3].ID, api.KeepAsk{Reason: "evidence"}))
	refused("evidence", "notes", rows[2], rows[3])
	must(here.Rules.PauseVolume("notes"))
	refused("paused", "notes", rows[2])
	must(here.Rules.ResumeVolume("notes"))
	w.route(here, "there")
	refused("owed to there", "notes", rows[2])
	w.done(here)(here.Routes.RunRoute("to-there", "test"))

	done, err := remove("notes", rows[2], rows[4], rows[2])
	require.NoError(t, err)
	require.Len(t, done.Going, 2)
	require.Equal(t, []string{"there"}, done.StayAt)
	_, err = here.Rules.RecallSnapshot(rows[2].ID)
	require.ErrorIs(t, err, catalog.ErrNone)
	w.done(here)(here.Upkeep.Sweep(false, "test"))
	require.Equal(t, "state 4", w.textOf(there, must(there.Catalog.Snapshot(rows[2].ID)), "a"), "it stays there")

	// The power goes when only the marks are there, and when only the roots are gone.
	now := w.clock.Now()
	for _, r := range rows[5:] {
		require.NoError(t, here.Store.PutMarks([]*object.Mark{{Kind: object.MarkExpiry, At: now.UnixNano(), Place: "here",
			Root: must(object.ParseID(r.ID)), Until: now.UnixNano(), Text: rules.RemovedByHand, Cause: object.ExpiredByHand}}))
	}
	rows[6].GraceUntil, rows[6].LetGo = catalog.At(now), rules.RemovedByHand
	rows[6].LetGoCause = string(object.ExpiredByHand)
	require.NoError(t, here.Catalog.SetGrace(rows[6]))
	require.NoError(t, here.Store.RemoveRoots(must(object.ParseID(rows[6].ID))))
	require.NoError(t, here.Close())
	here = w.open("here")
	w.done(here)(here.Rules.Prune("", "test"))
	left := w.rows(here, "notes")

	require.Len(t, left, 3)
	for i, r := range []*catalog.Snapshot{rows[0], rows[1], rows[3]} {
		require.Equal(t, r.ID, left[i].ID)
	}
	require.Equal(t, "state 3", w.textOf(here, left[2], "a"))
	w.done(here)(here.Upkeep.Verify("test"))

	// A set goes as a whole, for what it is called.
	must(here.Capture.PutGroup("both", api.GroupPut{Volumes: []string{"notes", "maps"}}))
	for range 2 {
		w.clock.Set(w.clock.Now().Add(time.Minute)) // rows are in the order of time
		w.write(dir, "a", fmt.Sprint("set ", w.clock.Now()))
		w.write(other, "m", fmt.Sprint("set ", w.clock.Now()))
		w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	}
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	one := w.rows(here, "notes")[1]
	_, err = remove("notes", one)
	require.ErrorContains(t, err, "type \"2 volumes\"")
	done, err = remove("2 volumes", one)
	require.NoError(t, err)
	require.Len(t, done.Going, 2)
}
