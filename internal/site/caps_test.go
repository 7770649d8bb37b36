package site

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"

	"github.com/stretchr/testify/require"
)

func (w *world) noise(dir, name string, seed uint64, n int) {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)}).Read(b)
	require.NoError(w.t, os.WriteFile(filepath.Join(dir, name), b, 0o644))
}

// A cap lets the oldest go, in number and in bytes, but never what is marked, owed or the
// newest; and what it let go is not taken back by rules that would keep it.
func TestCapOldestGoes(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, "policy: p\nvolumes: {k: v}\ngrace: 2 hours\n") // keeps everything
	for i := range 10 {
		w.noise(dir, "a", uint64(i), 300_000)
		w.take(s, "notes")
		w.clock.Set(w.clock.Now().Add(time.Hour))
	}
	rows := w.rows(s, "notes")
	_, err := s.Rules.KeepSnapshot(rows[9].ID, api.KeepAsk{Reason: "the first"})
	require.NoError(t, err)
	c, err := s.Rules.PutCap(api.CapPut{Scope: "volume", Name: "notes", Snapshots: 6, Reached: rules.OldestGoes})
	require.NoError(t, err)
	require.Equal(t, 10, c.HasSnapshots)
	left := func() (out []int) {
		for i, r := range w.rows(s, "notes") {
			if r.GraceUntil.IsZero() {
				out = append(out, i)
			}
		}
		return out
	}
	plan := must(s.Rules.PlanPrune(t.Context(), ""))
	require.Equal(t, 4, plan.EnterGrace)
	require.Len(t, left(), 10, "a plan changes nothing")
	w.done(s)(s.Rules.Prune("", "test"))
	require.Equal(t, []int{0, 1, 2, 3, 4, 9}, left())
	gone := must(s.Recovery.Snapshot(rows[8].ID))
	require.Equal(t, "over the cap of volume notes: at most 6 snapshots", gone.LetGo)
	w.done(s)(s.Rules.Prune("", "test"))
	require.Equal(t, []int{0, 1, 2, 3, 4, 9}, left(), "the rules keep everything, the cap does not")
	_, err = s.Rules.RecallSnapshot(rows[8].ID)
	require.NoError(t, err)
	w.done(s)(s.Rules.Prune("", "test"))
	require.Equal(t, []int{0, 1, 2, 3, 8, 9}, left(), "a recalled one stays, another goes")
	w.clock.Set(w.clock.Now().Add(3 * time.Hour))
	w.done(s)(s.Rules.Prune("", "test"))
	require.Len(t, w.rows(s, "notes"), 6)

	_, err = s.Rules.PutCap(api.CapPut{Scope: "place", Name: "here", Bytes: 1_300_000, Reached: rules.OldestGoes})
	require.NoError(t, err)
	w.done(s)(s.Rules.Prune("", "test"))
	view := must(s.Rules.Caps())[0]
	require.Equal(t, "place", view.Scope)
	require.LessOrEqual(t, view.HasBytes, int64(1_300_000))
	require.Len(t, left(), 4)
	_, err = s.Rules.PutCap(api.CapPut{Scope: "place", Name: "here", Bytes: 1, Reached: rules.OldestGoes})
	require.NoError(t, err)
	w.done(s)(s.Rules.Prune("", "test"))
	require.Len(t, left(), 3, "the newest, the recalled and the marked stay whatever the cap")

	// A floor that the disk cannot hold is said.
	require.NotContains(t, must(s.Upkeep.Usage()).Forecast.Sentence, "The floor")
	s.Conf.Floor, s.Floor = "1000 days", 1000*24*time.Hour
	s.Room = func() (int64, int64) { return 1 << 20, 1 << 30 }
	require.Contains(t, must(s.Upkeep.Usage()).Forecast.Sentence, "The floor keeps everything for 1000 days; at ")
	s.Floor = 0

	for _, bad := range []api.CapPut{{Scope: "volume", Name: "none", Snapshots: 1}, {Scope: "peer", Name: "none",
		Snapshots: 1}, {Scope: "place", Name: "there", Bytes: 1},
		{Scope: "volume", Name: "notes"}, {Scope: "volume", Name: "notes", Snapshots: -1}, {Scope: "volume", Name: "notes",
			Snapshots: 1, Reached: "explode"}, {Scope: "site", Name: "here", Snapshots: 1}} {
		_, err := s.Rules.PutCap(bad)
		require.Error(t, err, "%+v", bad)
	}
	_, err = s.Rules.RemoveCap("volume", "none")
	require.Equal(t, refusal.Missing, refusal.ClassOf(err))
}

// A cap that stops taking refuses by hand, by schedule with a gap, and from a peer; it
// goes on by itself when there is room.
func TestCapStopsTaking(t *testing.T) {
	w := newWorld(t)
	s, there := w.open("here"), w.open("there")
	dir := w.share(s, "notes")
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: [every 1 hours]\nkeep: {here: {newest: 100}, there: {newest: 100}}\n")
	w.pair(s, there)
	w.route(s, "there")
	_, err := there.Rules.PutCap(api.CapPut{Scope: "peer", Name: "here", Snapshots: 2})
	require.NoError(t, err)
	_, err = s.Rules.PutCap(api.CapPut{Scope: "volume", Name: "notes", Snapshots: 4})
	require.NoError(t, err)
	begin := w.clock.Now()
	for i := range 8 {
		w.write(dir, "a", fmt.Sprint(i))
		w.until(s, begin.Add(time.Duration(i+1)*time.Hour))
	}
	require.Len(t, w.rows(s, "notes"), 4)
	gaps := must(s.Catalog.Gaps("notes", time.Time{}, w.clock.Now()))
	require.NotEmpty(t, gaps)
	require.Contains(t, gaps[0].Cause, "the cap of volume notes is reached: At most 4 snapshots; there are 4 snapshots")
	_, err = s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test")
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
	require.Equal(t, 2, must(there.Overview.Volume("notes@here")).Snapshots)
	r := must(s.Routes.Route("to-there"))
	require.Contains(t, r.Sentence+r.LastError, "the cap of peer here is reached")

	_, err = there.Rules.RemoveCap("peer", "here")
	require.NoError(t, err)
	_, err = s.Rules.PutCap(api.CapPut{Scope: "volume", Name: "notes", Snapshots: 5})
	require.NoError(t, err)
	w.until(s, begin.Add(12*time.Hour))
	require.Len(t, w.rows(s, "notes"), 5)
	require.Equal(t, 5, must(there.Overview.Volume("notes@here")).Snapshots)
}

// A quota holds within one snapshot too: what brings more than is left is refused on the
// way, and nothing of it stays.
func TestQuotaWithinACarry(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.pair(here, there)
	w.route(here, "there")
	_, err := there.Pairing.Grant(w.ctx, "here", api.GrantAsk{Grants: []string{"offer"}, QuotaBytes: 300_000})
	require.NoError(t, err)
	w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	w.done(here)(here.Routes.RunRoute("to-there", "test"))
	before := there.Store.Usage().Objects
	rng := rand.New(rand.NewPCG(5, 6))
	noise := make([]byte, 6<<20)
	for i := range noise {
		noise[i] = byte(rng.Uint32())
	}
	w.write(dir, "large", string(noise))
	w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	run := must(here.Run.Wait(w.ctx, must(here.Routes.RunRoute("to-there", "test")).ID))
	require.Equal(t, "failed", run.State)
	require.Contains(t, run.Outcome, "brings more than there is room for")
	require.Equal(t, "waiting", must(here.Routes.Route("to-there")).State)
	require.Len(t, w.rows(there, "notes@here"), 1)
	w.done(there)(there.Upkeep.Sweep(true, "test"))
	require.Equal(t, before, there.Store.Usage().Objects)
}
