package site

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

// A group goes back to one common instant: every volume to the same set, all or none begins,
// elsewhere or in place, and one undo takes all of it back.
func TestGroupGoesBackTogether(t *testing.T) {
	w, s, dirs, _ := grouped(t)
	_, err := s.PutGroup("books", api.GroupPut{Volumes: []string{"papers", "ledger"}})
	require.NoError(t, err)
	state := func(text string) {
		for _, d := range dirs {
			w.write(d, "a", text)
			w.write(d, text, text)
		}
		w.clock.Set(w.clock.Now().Add(time.Hour))
	}
	state("first")
	w.take(s, "papers")
	want := [2]string{exact(t, dirs[0]), exact(t, dirs[1])}
	state("second")
	w.take(s, "papers")
	state("third")
	between := w.clock.Now().Add(-90 * time.Minute).Format(time.RFC3339)
	now := [2]string{exact(t, dirs[0]), exact(t, dirs[1])}

	plan, err := s.PlanGroupRestore(w.ctx, api.GroupRestoreAsk{Group: "books", At: between, InPlace: true})
	require.NoError(t, err)
	require.Len(t, plan.Volumes, 2)
	require.Empty(t, plan.Lacking)
	require.Equal(t, w.rows(s, "ledger")[1].SetID, must(s.Snapshot(plan.Volumes[0].Snapshot.ID)).SetID)
	first := w.rows(s, "papers")[1].ID
	out := filepath.Join(w.dir, "out")
	w.done(s)(s.RestoreGroup(w.ctx, api.GroupRestoreAsk{Group: "books", At: first, To: out}, "test"))
	require.Equal(t, skipTop(want[0]), skipTop(exact(t, filepath.Join(out, "ledger"))))
	require.Equal(t, skipTop(want[1]), skipTop(exact(t, filepath.Join(out, "papers"))))

	run := w.done(s)(s.RestoreGroup(w.ctx, api.GroupRestoreAsk{Group: "books", At: first, InPlace: true}, "test"))
	require.Equal(t, want, [2]string{exact(t, dirs[0]), exact(t, dirs[1])})
	var did api.GroupRestore
	require.NoError(t, json.Unmarshal(run.Result.(json.RawMessage), &did))
	require.Len(t, did.Runs, 2)
	w.done(s)(s.Undo(run.ID, "test"))
	require.Equal(t, now, [2]string{exact(t, dirs[0]), exact(t, dirs[1])})

	for ask, why := range map[api.GroupRestoreAsk]string{
		{Group: "books", At: first}:                                       "say where to",
		{Group: "books", At: "2020-01-01T00:00:00Z", InPlace: true}:       "there is no set of the group books here",
		{Group: "nothing", At: "latest", InPlace: true}:                   "there is no set of the group nothing here",
		{Group: "books", At: "feedfacefeed", InPlace: true}:               "neither a moment",
		{Group: "books", At: "latest", To: "/etc/books"}:                  "ledger: ",
		{Group: "books", At: "latest", InPlace: true, OnConflict: "burn"}: "conflict choice",
	} {
		_, err := s.RestoreGroup(w.ctx, ask, "test")
		require.ErrorContains(t, err, why)
	}
	// A volume that joined later is told as lacking.
	require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "shares", "late"), 0o755))
	w.share(s, "late")
	_, err = s.PutGroup("books", api.GroupPut{Volumes: []string{"papers", "ledger", "late"}})
	require.NoError(t, err)
	plan, err = s.PlanGroupRestore(w.ctx, api.GroupRestoreAsk{Group: "books", At: first, InPlace: true})
	require.NoError(t, err)
	require.Equal(t, []string{"late"}, plan.Lacking)
}
