package site

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// A crash between the marks and the rows of a pruning is made good at the next start, and
// nothing is held for it; an older catalogue is noticed, its marks are taken up, and removal is
// held.
func TestCatalogueFollowsTheStore(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	for n := range 4 {
		w.write(dir, "a", fmt.Sprint(n))
		w.clock.Set(w.clock.Now().Add(time.Minute))
		w.take(s, "notes")
	}
	rows := w.rows(s, "notes")
	var marks []*object.Mark
	for _, row := range rows[1:] {
		marks = append(marks, &object.Mark{Kind: object.MarkExpiry, Root: must(object.ParseID(row.ID)),
			At:    w.clock.Now().UnixNano(),
			Until: w.clock.Now().Add(time.Hour).UnixNano(), Text: "a rule", Place: "here"})
	}
	require.NoError(t, s.Store.PutMarks(marks))
	require.NoError(t, s.Close())
	s = w.open("here")
	require.NoError(t, s.Rules.WhenMarksAgree(w.ctx))
	require.Empty(t, must(s.Info()).Held)
	graced := func() (n int) {
		for _, row := range w.rows(s, "notes") {
			if !row.GraceUntil.IsZero() {
				n++
			}
		}
		return n
	}
	require.Equal(t, 3, graced())
	for _, m := range marks[1:] { // the rules keep two of them again
		m.Kind, m.At, m.Until, m.Text = object.MarkRecall, m.At+1, 0, ""
	}
	require.NoError(t, s.Store.PutMarks(marks[1:]))
	require.NoError(t, s.Close())
	s = w.open("here")
	require.NoError(t, s.Rules.WhenMarksAgree(w.ctx))
	require.Empty(t, must(s.Info()).Held)
	require.Equal(t, 1, graced())

	require.NoError(t, s.Close())
	path := filepath.Join(w.dir, "here", "catalog.db")
	older := must(os.ReadFile(path))
	s = w.open("here")
	must(s.Rules.KeepSnapshot(rows[2].ID, api.KeepAsk{Reason: "evidence"}))
	require.NoError(t, s.Close())
	os.Remove(path + "-wal")
	os.Remove(path + "-shm")
	require.NoError(t, os.WriteFile(path, older, 0o600))
	s = w.open("here")
	require.NoError(t, s.Rules.WhenMarksAgree(w.ctx))
	require.Contains(t, must(s.Info()).Held, "the catalogue is older than the one that was in use here last")
	require.Equal(t, "evidence", must(s.Catalog.Snapshot(rows[2].ID)).KeepWhy)

	// A copy that was made while it was in use is whole, and a damaged one stops the start.
	c := must(s.Upkeep.CopyCatalogue(w.ctx))
	require.NoError(t, s.Close())
	raw := must(os.ReadFile(path))
	for i := range 4096 {
		raw[4096+i] ^= 0x5a
	}
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	_, err := Open(Options{Data: filepath.Join(w.dir, "here"), Name: "here", Clock: w.clock})
	require.ErrorContains(t, err, "copies")
	require.NoError(t, os.WriteFile(path, must(os.ReadFile(c.Path)), 0o600))
	s = w.open("here")
	require.Len(t, w.rows(s, "notes"), 4)
}
