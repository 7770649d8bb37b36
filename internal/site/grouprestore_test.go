package site

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"

	"github.com/stretchr/testify/require"
)

// A group goes back to one common instant: every volume to the same set, all or none begins,
// elsewhere or in place, and one undo takes all of it back.
func TestGroupGoesBackTogether(t *testing.T) {
	w, s, dirs, _ := grouped(t)
	_, err := s.Capture.PutGroup("books", api.GroupPut{Volumes: []string{"papers", "ledger"}})
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

	plan, err := s.Recovery.PlanGroupRestore(w.ctx, api.GroupRestoreAsk{Group: "books", At: between, InPlace: true})
	require.NoError(t, err)
	require.Len(t, plan.Volumes, 2)
	require.Empty(t, plan.Lacking)
	require.Equal(t, w.rows(s, "ledger")[1].SetID, must(s.Recovery.Snapshot(plan.Volumes[0].Snapshot.ID)).SetID)
	first := w.rows(s, "papers")[1].ID
	out := filepath.Join(w.dir, "out")
	w.done(s)(s.Recovery.RestoreGroup(w.ctx, api.GroupRestoreAsk{Group: "books", At: first, To: out}, "test"))
	require.Equal(t, skipTop(want[0]), skipTop(exact(t, filepath.Join(out, "ledger"))))
	require.Equal(t, skipTop(want[1]), skipTop(exact(t, filepath.Join(out, "papers"))))

	run := w.done(s)(s.Recovery.RestoreGroup(w.ctx, api.GroupRestoreAsk{Group: "books", At: first, InPlace: true}, "test"))
	require.Equal(t, want, [2]string{exact(t, dirs[0]), exact(t, dirs[1])})
	var did api.GroupRestore
	require.NoError(t, json.Unmarshal(run.Result.(json.RawMessage), &did))
	require.Len(t, did.Runs, 2)
	w.done(s)(s.Recovery.Undo(run.ID, "test"))
	require.Equal(t, now, [2]string{exact(t, dirs[0]), exact(t, dirs[1])})

	for ask, why := range map[api.GroupRestoreAsk]string{
		{Group: "books", At: first}:                                       "say where to",
		{Group: "books", At: "2020-01-01T00:00:00Z", InPlace: true}:       "there is no set of the group books here",
		{Group: "nothing", At: "latest", InPlace: true}:                   "there is no set of the group nothing here",
		{Group: "books", At: "feedfacefeed", InPlace: true}:               "neither a moment",
		{Group: "books", At: "latest", To: "/etc/books"}:                  "ledger: ",
		{Group: "books", At: "latest", InPlace: true, OnConflict: "burn"}: "conflict choice",
	} {
		_, err := s.Recovery.RestoreGroup(w.ctx, ask, "test")
		require.ErrorContains(t, err, why)
	}
	// A volume that joined later is told as lacking.
	require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "shares", "late"), 0o755))
	w.share(s, "late")
	_, err = s.Capture.PutGroup("books", api.GroupPut{Volumes: []string{"papers", "ledger", "late"}})
	require.NoError(t, err)
	plan, err = s.Recovery.PlanGroupRestore(w.ctx, api.GroupRestoreAsk{Group: "books", At: first, InPlace: true})
	require.NoError(t, err)
	require.Equal(t, []string{"late"}, plan.Lacking)
}

// A group's restore that the end of the service cuts short goes on volume by volume, and one
// undo of the run that was cut takes all of it back, to where it was before the first.
func TestGroupRestoreCutShort(t *testing.T) {
	w, s, dirs, _ := grouped(t)
	_, err := s.Capture.PutGroup("books", api.GroupPut{Volumes: []string{"papers", "ledger"}})
	require.NoError(t, err)
	for _, d := range dirs {
		for i := range 1500 {
			w.write(d, fmt.Sprint("page ", i), strings.Repeat(fmt.Sprint(i), 1000))
		}
	}
	w.take(s, "papers")
	want := [2]string{skipTop(exact(t, dirs[0])), skipTop(exact(t, dirs[1]))}
	for _, d := range dirs {
		for i := range 1400 {
			require.NoError(t, os.Remove(filepath.Join(d, fmt.Sprint("page ", i))))
		}
		w.write(d, "after", "after")
	}
	before := [2]string{exact(t, dirs[0]), exact(t, dirs[1])}
	at := w.rows(s, "papers")[0].ID
	// Cancelled, it ends its volumes' restores too, and what they did is taken back by one undo.
	run, err := s.Recovery.RestoreGroup(w.ctx, api.GroupRestoreAsk{Group: "books", At: at, InPlace: true}, "test")
	require.NoError(t, err)
	for now := run; !now.Over() && len(must(os.ReadDir(dirs[0]))) < 110; now = must(s.Run.Run(run.ID)) {
		runtime.Gosched()
	}
	if s.Run.Cancel(run.ID) == nil {
		ended := must(s.Run.Wait(w.ctx, run.ID))
		for _, r := range must(s.Run.Runs(catalog.RunFilter{Limit: 20})).Items {
			require.True(t, r.Over(), r.Kind)
		}
		require.Contains(t, ended.Outcome, "To take all of it back: candid undo")
	}
	w.done(s)(s.Recovery.Undo(run.ID, "test"))
	require.Equal(t, before, [2]string{exact(t, dirs[0]), exact(t, dirs[1])})

	run, err = s.Recovery.RestoreGroup(w.ctx, api.GroupRestoreAsk{Group: "books", At: at, InPlace: true}, "test")
	require.NoError(t, err)
	for now := run; !now.Over() && len(must(os.ReadDir(dirs[0]))) < 110; now = must(s.Run.Run(run.ID)) {
		runtime.Gosched()
	}
	require.NoError(t, s.Close())
	s = w.open("here")
	was := must(s.Run.Run(run.ID))
	for busy := true; busy; {
		busy = false
		for _, r := range must(s.Run.Runs(catalog.RunFilter{Limit: 20})).Items {
			if !r.Over() {
				_, err := s.Run.Wait(w.ctx, r.ID)
				require.NoError(t, err)
				busy = true
			}
		}
	}
	require.Equal(t, want, [2]string{skipTop(exact(t, dirs[0])), skipTop(exact(t, dirs[1]))})
	if was.State == "cancelled" {
		require.Contains(t, was.Outcome, "because the service stopped; its next start goes on with each volume. To take "+
			"all of it back: candid undo")
	}
	w.done(s)(s.Recovery.Undo(run.ID, "test"))
	require.Equal(t, before, [2]string{exact(t, dirs[0]), exact(t, dirs[1])})
}
