package site

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"

	"github.com/stretchr/testify/require"
)

// A clone keeps its snapshot from every way out, comes back with the service, and goes at its
// end with what was changed in it; what cannot be made leaves nothing.
func TestClonesHoldTheirSnapshot(t *testing.T) {
	needsRoot(t)
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 1}\ngrace: 1 second\n")
	w.until(s, w.clock.Now().Add(6*time.Hour))
	id := w.rows(s, "notes")[0].ID
	at := filepath.Join(w.dir, "clone")
	for ask, why := range map[api.CloneAsk]string{
		{Name: "Not a name!", Volume: "notes", Dir: at}:                                 "clone",
		{Name: "x", Volume: "none", Dir: at}:                                            "volume \"none\"",
		{Name: "x", Volume: "notes", Dir: dir}:                                          "is not empty",
		{Name: "x", Volume: "notes", Dir: "relative"}:                                   "must be absolute",
		{Name: "x", Volume: "notes", Dir: filepath.Join(w.dir, "not there", "x")}:       "not there",
		{Name: "x", Volume: "notes", Dir: at, At: "2020-01-01T00:00:00Z"}:               "nothing is known",
		{Name: "x", Volume: "notes", Dir: at, Until: w.clock.Now().Add(-1 * time.Hour)}: "has passed",
	} {
		_, err := s.Clones.MakeClone(ask, "test")
		require.ErrorContains(t, err, why)
	}
	require.NoDirExists(t, s.Clones.CloneHome("x"))
	require.NoDirExists(t, at, "what is refused makes nothing")

	c, err := s.Clones.MakeClone(api.CloneAsk{Name: "play", Volume: "notes", Dir: at,
		Until: w.clock.Now().Add(100 * time.Hour)}, "test")
	require.NoError(t, err)
	require.Equal(t, id, c.Snapshot)
	_, err = s.Clones.MakeClone(api.CloneAsk{Name: "play", Volume: "notes", Dir: at}, "test")
	require.ErrorContains(t, err, "there is a clone play already")
	w.write(at, "a", "changed in the clone")
	w.write(at, "new", "made in the clone")
	require.NoError(t, os.Mkdir(filepath.Join(at, "sub"), 0o700))

	// Rules, hands and sweeps leave its snapshot alone.
	w.write(dir, "a", "second")
	w.until(s, w.clock.Now().Add(7*time.Hour))
	for range 2 {
		w.done(s)(s.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(2 * time.Second))
	}
	w.done(s)(s.Upkeep.Sweep(true, "test"))
	view, err := s.Recovery.Snapshot(id)
	require.NoError(t, err)
	require.Contains(t, view.Reasons, "in use by the clone play")
	_, err = s.Rules.RemoveSnapshot(id)
	require.ErrorContains(t, err, "candid clone discard play first")

	require.NoError(t, s.Close())
	_, err = os.Stat(filepath.Join(at, "a"))
	require.True(t, errors.Is(err, os.ErrNotExist), "while the service is off it is not there")
	s = w.open("here")
	got, err := os.ReadFile(filepath.Join(at, "a"))
	require.NoError(t, err)
	require.Equal(t, "changed in the clone", string(got))
	c, err = s.Clones.Clone("play")
	require.NoError(t, err)
	require.True(t, c.There)
	require.EqualValues(t, 3, c.Changed)

	// Its end comes by itself, and the snapshot goes as the rules say.
	w.until(s, w.clock.Now().Add(120*time.Hour))
	_, err = s.Clones.Clone("play")
	require.ErrorContains(t, err, "there is no clone play")
	require.NoDirExists(t, s.Clones.CloneHome("play"))
	left, err := os.ReadDir(at)
	require.NoError(t, err)
	require.Empty(t, left)
	for range 2 {
		w.done(s)(s.Rules.Prune("", "test"))
		w.clock.Set(w.clock.Now().Add(2 * time.Second))
	}
	_, err = s.Recovery.Snapshot(id)
	require.ErrorIs(t, err, catalog.ErrNone)
	acts, err := s.Access.Ledger(catalog.EntryFilter{Who: access.ByService.Name, Limit: 10})
	require.NoError(t, err)
	require.Equal(t, "discardClone", acts.Items[0].Act)

	// One in grace has to be recalled first.
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	last := w.rows(s, "notes")[0].ID
	if _, err = s.Rules.RemoveSnapshot(last); err == nil {
		_, err = s.Clones.MakeClone(api.CloneAsk{Name: "late", Volume: "notes", At: last, Dir: at}, "test")
		require.ErrorContains(t, err, "is in grace")
	}
}

// Several clones at once are numbered and of one snapshot; when one cannot be made none stays.
func TestSeveralClones(t *testing.T) {
	needsRoot(t)
	w := newWorld(t)
	s := w.open("here")
	w.write(w.share(s, "notes"), "poem", "roses")
	w.take(s, "notes")
	ask := api.ClonesAsk{Count: 3, CloneAsk: api.CloneAsk{Name: "try", Volume: "notes",
		Dir: filepath.Join(w.dir, "tries")}}
	made := must(s.Clones.MakeClones(ask, "test"))
	require.Len(t, made, 3)
	for i, c := range made {
		at := ask.Dir + "-" + string(rune('1'+i))
		require.Equal(t, at, c.Dir)
		require.Equal(t, made[0].Snapshot, c.Snapshot)
		got := must(os.ReadFile(filepath.Join(at, "poem")))
		require.Equal(t, "roses", string(got))
		require.NoError(t, os.WriteFile(filepath.Join(at, "poem"), []byte(c.Name), 0o644))
	}
	require.Equal(t, "try-2", string(must(os.ReadFile(filepath.Join(ask.Dir+"-2", "poem")))))
	for _, c := range made {
		must(s.Clones.DiscardClone(c.Name, false))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(ask.Dir+"-3", "occupied"), 0o755))
	_, err := s.Clones.MakeClones(ask, "test")
	require.ErrorContains(t, err, "is not empty")
	require.Empty(t, must(s.Clones.Clones()))
	require.NoFileExists(t, filepath.Join(ask.Dir+"-1", "poem"))
	for _, n := range []int{0, 51} {
		ask.Count = n
		_, err = s.Clones.MakeClones(ask, "test")
		require.ErrorContains(t, err, "give 1 to 50")
	}
}
