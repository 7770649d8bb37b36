package site

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

// twoEnds are a site and one that its snapshots are carried to, with images of either.
type twoEnds struct {
	*world
	here, there *Site
	dir         string
}

func newEnds(t *testing.T) *twoEnds {
	w := &twoEnds{world: newWorld(t)}
	w.here, w.there = w.open("here"), w.open("there")
	w.dir = w.share(w.here, "notes")
	w.pair(w.here, w.there)
	w.policy(w.here, "policy: p\nvolumes: {names: [notes]}\ntake: [daily at 03:00]\nkeep: {here: {newest: 100}, there: "+
		"{newest: 100}}\n")
	w.route(w.here, "there")
	return w
}

func (w *twoEnds) again(name string, s **Site) {
	*s = w.open(name)
	for _, p := range []*Site{w.here, w.there} {
		for _, row := range must(p.Catalog.Peers()) {
			row.Addresses.V = map[string]*Site{"here": w.here, "there": w.there}[row.Name].Pairing.Addresses()
			require.NoError(w.t, p.Catalog.PutPeer(row))
		}
	}
}

func (w *twoEnds) takeAndCarry(texts ...string) {
	for _, text := range texts {
		w.write(w.dir, "a", text)
		w.clock.Set(w.clock.Now().Add(time.Hour))
		w.take(w.here, "notes")
		must(w.here.Run.Wait(w.ctx, must(w.here.Routes.RunRoute("to-there", "test")).ID))
	}
}

func (w *twoEnds) image(name string, s **Site) {
	require.NoError(w.t, (*s).Close())
	require.NoError(w.t, exec.Command("cp", "-a", filepath.Join(w.world.dir, name), filepath.Join(w.world.dir, name+
		".image")).Run())
	w.again(name, s)
}

func (w *twoEnds) putBack(name string, s **Site) {
	require.NoError(w.t, (*s).Close())
	require.NoError(w.t, os.RemoveAll(filepath.Join(w.world.dir, name)))
	require.NoError(w.t, os.Rename(filepath.Join(w.world.dir, name+".image"), filepath.Join(w.world.dir, name)))
	w.again(name, s)
}

// A receiver that was put back to an earlier state is noticed with the next run of the route,
// even if there is nothing new to carry: what it lacks is carried again, and that is told.
func TestReceiverPutBack(t *testing.T) {
	w := newEnds(t)
	w.takeAndCarry("one", "two")
	w.image("there", &w.there)
	w.takeAndCarry("three", "four")
	require.Len(t, w.rows(w.there, "notes@here"), 4)
	w.putBack("there", &w.there)
	require.Len(t, w.rows(w.there, "notes@here"), 2)
	run := must(w.here.Run.Wait(w.ctx, must(w.here.Routes.RunRoute("to-there", "test")).ID))
	require.Equal(t, "done with remarks", run.State, run.Outcome)
	require.Len(t, w.rows(w.there, "notes@here"), 4)
	require.Contains(t, fmt.Sprint(must(w.here.Overview.Status()).Sentences), "there was put back to an earlier state")
	require.Contains(t, fmt.Sprint(must(w.here.Overview.Status()).Sentences),
		"2 snapshots that were carried there are not there any more")
	require.Contains(t, fmt.Sprint(must(w.there.Overview.Status()).Sentences),
		"This site was put back to an earlier state")
	for _, s := range []*Site{w.here, w.there} {
		require.NoError(t, s.Upkeep.Release())
		require.NotContains(t, fmt.Sprint(must(s.Overview.Status()).Sentences), "put back")
	}
	run = w.done(w.here)(w.here.Routes.RunRoute("to-there", "test"))
	require.Contains(t, run.Outcome, "nothing new to carry")
}

// A source that was put back goes on in a term of its own: no state that was ever carried is
// displaced, the newest state is the newest everywhere, and both ends tell of it.
func TestSourcePutBack(t *testing.T) {
	w := newEnds(t)
	w.takeAndCarry("one", "two")
	w.image("here", &w.here)
	w.takeAndCarry("three", "four", "five", "six")
	w.putBack("here", &w.here)
	w.write(w.dir, "a", "before it was known")
	w.clock.Set(w.clock.Now().Add(time.Hour))
	w.take(w.here, "notes") // in the place that "three" has
	w.write(w.dir, "a", "nor was this")
	w.take(w.here, "notes")
	w.takeAndCarry("newest")
	rows := w.rows(w.there, "notes@here")
	require.Len(t, rows, 9)
	branches := map[string]int{}
	for _, row := range must(w.there.Catalog.OutOfTurn("there", "notes@here")) {
		name, _, _ := strings.Cut(row.Branch, " ")
		branches[name]++
	}
	require.Len(t, branches, 1, "what was taken before it was known is one branch")
	texts := map[string]bool{}
	for _, row := range rows {
		texts[w.textOf(w.there, row, "a")] = true
	}
	require.Equal(t, map[string]bool{"one": true, "two": true, "three": true, "four": true, "five": true, "six": true,
		"before it was known": true, "nor was this": true, "newest": true}, texts)
	w.takeAndCarry("and on")
	latest := must(w.there.Catalog.LastSnapshot("there", rows[0].Lineage))
	require.Equal(t, "and on", w.textOf(w.there, latest, "a"))
	require.EqualValues(t, 2, latest.Term)
	require.Contains(t, fmt.Sprint(must(w.here.Overview.Status()).Sentences), "This site was put back to an earlier state")
	require.Contains(t, fmt.Sprint(must(w.there.Overview.Status()).Sentences), "here was put back to an earlier state")
	require.Contains(t, fmt.Sprint(must(w.there.Overview.Status()).Sentences), "arrived out of turn")
}

// Two sites that go on from one image are told apart, and neither brings anything any more
// until a person has said that only one is left.
func TestTwoSitesOfOneImage(t *testing.T) {
	w := newEnds(t)
	w.takeAndCarry("common")
	w.image("here", &w.here)
	w.takeAndCarry("of the first")
	require.NoError(t, os.Rename(filepath.Join(w.world.dir, "here.image"), filepath.Join(w.world.dir, "second")))
	second, err := Open(Options{Data: filepath.Join(w.world.dir, "second"), Name: "here", Roots: []string{w.world.dir},
		Clock: w.clock})
	require.NoError(t, err)
	t.Cleanup(func() { second.Close() })
	for _, row := range must(second.Catalog.Peers()) {
		row.Addresses.V = w.there.Pairing.Addresses()
		require.NoError(t, second.Catalog.PutPeer(row))
	}
	carry := func(s *Site, text string) api.Run {
		w.write(w.dir, "a", text)
		w.clock.Set(w.clock.Now().Add(time.Hour))
		w.take(s, "notes")
		return must(s.Run.Wait(w.ctx, must(s.Routes.RunRoute("to-there", "test")).ID))
	}
	carry(second, "of the second")
	stopped := 0
	for range 2 {
		for _, s := range []*Site{w.here, second} {
			if run := carry(s, fmt.Sprint(s.Path, w.clock.Now())); run.State == "failed" {
				require.Contains(t, run.Outcome, "two sites show the key of here")
				stopped++
			}
		}
	}
	require.GreaterOrEqual(t, stopped, 3)
	n := len(w.rows(w.there, "notes@here"))
	carry(w.here, "more")
	require.Len(t, w.rows(w.there, "notes@here"), n)
	require.Contains(t, fmt.Sprint(must(w.there.Overview.Status()).Sentences), "Two sites show the key of here")
	require.NoError(t, second.Close())
	must(w.there.Pairing.ConfirmPeer("here"))
	carry(w.here, "the only one")
	require.Greater(t, len(w.rows(w.there, "notes@here")), n)
	require.NotContains(t, fmt.Sprint(must(w.there.Overview.Status()).Sentences), "Two sites")
}
