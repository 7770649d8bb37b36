package site

import (
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/records"
	"candidharbor/internal/transfer"

	"github.com/stretchr/testify/require"
)

// A site that may bring snapshots, and is in wrong hands, says of snapshots what is not its to
// say: that another's are let go, that ours are, that a place here is no longer to keep what
// it marked. Nothing of it counts, and what it says in the name of others is told of.
func TestForgedMarks(t *testing.T) {
	w := newWorld(t)
	here, there, third := w.open("here"), w.open("there"), w.open("third")
	w.share(here, "notes")
	own := w.share(there, "books")
	w.write(own, "b", "ours")
	w.pair(here, there)
	w.pair(third, there)
	w.take(here, "notes")
	w.route(here, "there")
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	w.take(there, "books")
	theirs := w.rows(there, "notes@here")[0]
	ours := w.rows(there, "books")[0]
	for id, s := range map[string]*Site{theirs.ID: there, ours.ID: there} {
		_, err := s.Rules.KeepSnapshot(id, api.KeepAsk{Reason: "evidence"})
		require.NoError(t, err)
	}

	lie := func(from *Site, root, origin, volume, lineage, place string, kinds ...object.MarkKind) error {
		id := must(object.ParseID(root))
		var marks [][]byte
		for _, kind := range kinds {
			m := &object.Mark{Kind: kind, Root: id, At: w.clock.Now().Add(time.Hour).UnixNano(), Until: 1, Text: "forged",
				Labels: map[string]string{"k": "forged"}, Place: place}
			body := must(object.EncodeMark(m))
			marks = append(marks, must(object.SignRecord(from.Identity().Key, "mark", body)))
		}
		link, err := transfer.Dial(w.ctx, there.Pairing.PeerAddress(), from.Identity(), there.Identity().Public())
		require.NoError(t, err)
		defer link.Close()
		q := transfer.CarryRequest{Lineage: records.LineageOf(lineage), Volume: volume, Origin: origin, Root: id}
		return (&transfer.Sender{Store: there.Store, Request: q, Marks: marks}).Run(w.ctx, link)
	}
	all := []object.MarkKind{object.MarkLetGo, object.MarkNote, object.MarkLabels, object.MarkEnd}
	for _, from := range []*Site{here, third} {
		for _, place := range []string{"", "here", "there", "third"} {
			for _, origin := range []string{"here", "third"} {
				_ = lie(from, ours.ID, origin, "books", ours.Lineage, place, all...)
				_ = lie(from, ours.ID, origin, "notes", theirs.Lineage, place, all...)
			}
			_ = lie(from, ours.ID, "there", "books", ours.Lineage, place, all...)
			if from == third {
				_ = lie(from, theirs.ID, "here", "notes", theirs.Lineage, place, all...)
			}
		}
	}
	row := must(there.Catalog.Snapshot(ours.ID))
	require.Equal(t, "evidence", row.KeepWhy)
	require.Empty(t, row.Note)
	require.NotContains(t, row.Labels.V, "k")
	require.True(t, row.OwnEnd.IsZero())
	row = must(there.Catalog.Snapshot(theirs.ID))
	require.Equal(t, "evidence", row.KeepWhy)
	require.Empty(t, row.Note)
	require.NotContains(t, row.Labels.V, "k")
	require.True(t, row.OwnEnd.IsZero())
	told := 0
	for _, e := range must(there.Access.Ledger(catalog.EntryFilter{Limit: 100})).Items {
		if e.Act == "mark" {
			told++
		}
	}
	require.NotZero(t, told)

	// The site that took it may say what it wishes of it, and what the vault marked stays.
	require.NoError(t, lie(here, theirs.ID, "here", "notes", theirs.Lineage, "here", all...))
	row = must(there.Catalog.Snapshot(theirs.ID))
	require.Equal(t, "forged", row.Note)
	require.Equal(t, "evidence", row.KeepWhy, "the vault marked it, and only the vault lifts that")
	_, err := there.Rules.LetGoSnapshot(theirs.ID)
	require.NoError(t, err)
	require.Empty(t, must(there.Catalog.Snapshot(theirs.ID)).KeepWhy)

	// What the source keeps is kept here too, until it or this place says otherwise; and what
	// was said is found again in the store alone.
	w.clock.Set(w.clock.Now().Add(2 * time.Hour))
	_, err = here.Rules.KeepSnapshot(theirs.ID, api.KeepAsk{Reason: "audit"})
	require.NoError(t, err)
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	require.Equal(t, "audit", must(there.Catalog.Snapshot(theirs.ID)).KeepWhy)
	_, err = there.Upkeep.RebuildCatalogue()
	require.NoError(t, err)
	require.Equal(t, "audit", must(there.Catalog.Snapshot(theirs.ID)).KeepWhy)
	require.Equal(t, "evidence", must(there.Catalog.Snapshot(ours.ID)).KeepWhy)
}
