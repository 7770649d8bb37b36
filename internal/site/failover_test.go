package site

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"

	"github.com/stretchr/testify/require"
)

// twoSites are a main site and one that may take over from it, with a route between them.
func (w *world) twoSites() (home, dr *Site) {
	w.setup = func(c *datadir.Config) {
		c.Standby = filepath.Join(w.dir, c.Name+"-standby")
		require.NoError(w.t, os.MkdirAll(c.Standby, 0o755))
	}
	home, dr = w.open("home"), w.open("dr")
	w.pair(home, dr)
	for _, g := range []struct{ at, to *Site }{{home, dr}, {dr, home}} {
		_, err := g.at.Pairing.Grant(w.ctx, g.to.Name(), api.GrantAsk{Grants: []string{"take-over", "offer", "see"}})
		require.NoError(w.t, err)
	}
	return home, dr
}

// settles moves the clock until no run of a kind is under way, as what waits for quiet needs.
func (w *world) settles(s *Site, kind string) {
	w.t.Helper()
	for range 400 {
		page := must(s.Run.Runs(catalog.RunFilter{Kind: kind, Limit: 50}))
		if !slices.ContainsFunc(page.Items, func(r api.Run) bool {
			return r.State == api.RunQueued || r.State == api.RunRunning
		}) {
			return
		}
		if slices.ContainsFunc(page.Items, func(r api.Run) bool {
			return strings.HasPrefix(r.Progress.Phase,
				"waiting until")
		}) {
			w.clock.Set(w.clock.Now().Add(31 * time.Second))
		}
		time.Sleep(5 * time.Millisecond)
	}
	for _, r := range must(s.Run.Runs(catalog.RunFilter{Kind: kind, Limit: 3})).Items {
		w.t.Logf("%s: %s %+v %s", s.Name(), r.State, r.Progress, r.Outcome)
	}
	w.t.Fatalf("runs of kind %s do not end", kind)
}

// over waits for the end of a failover and returns it.
func (w *world) over(s *Site) func(f *api.Failover, err error) *api.Failover {
	return func(f *api.Failover, err error) *api.Failover {
		w.t.Helper()
		require.NoError(w.t, err)
		for range 2000 {
			if f, err = s.Failover.Show(f.ID); err != nil || f.State != api.FailoverRunning {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		require.NoError(w.t, err)
		require.Equal(w.t, api.FailoverDone, f.State, "%s %+v", f.Sentence, f.Steps)
		return f
	}
}

// cut has no line lead to or from a site, or again.
func (w *world) cut(down bool, all ...*Site) {
	for _, s := range all {
		s.Pairing.CutLine(down)
	}
}

func (w *world) greet(from *Site, to string) {
	_, _, _, err := from.Pairing.Greet(w.ctx, must(from.Catalog.Peer(to)))
	require.NoError(w.t, err)
}

func (w *world) active(s *Site, volume string) string {
	return must(s.Failover.Authority(volume)).Active
}

const fieldStation = `runbook: field-station
at: dr
bring_up: [notes, store]
paths: {notes: %s}
`

const homeAgain = `runbook: home-again
at: home
bring_up: [notes, store]
`

// The main site is lost, the other takes over, both are written to, the first comes back, and all comes home:
// nothing is
// lost, what had not arrived is left behind, and nobody serves twice.
func TestFailoverAndHome(t *testing.T) {
	w := newWorld(t)
	home, dr := w.twoSites()
	dir := w.share(home, "notes")
	w.disk(home, "store")
	_, err := home.Routes.AddRoute(api.RouteAdd{Name: "to-dr", To: "dr", Names: []string{"notes", "store"},
		Terms: api.RouteTerms{Standby: "exact", When: "on demand"}})
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(1, 2))
	holds := make([]byte, diskSize)
	w.scribble(home, "store", holds, r)
	for _, v := range []string{"notes", "store"} {
		w.take(home, v)
	}
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	w.settles(dr, "standby")
	arrived := slices.Clone(holds)
	w.write(dir, "a", "second, which never arrives")
	w.take(home, "notes")
	w.write(dir, "b", "which no snapshot has")
	w.scribble(home, "store", holds, r)
	lost := slices.Clone(holds)

	// The main site is lost.
	w.cut(true, home, dr)
	at := filepath.Join(w.dir, "notes-at-dr")
	_, err = dr.Failover.PutRunbook(fmt.Sprintf(fieldStation, at), "test")
	require.NoError(t, err)
	_, err = dr.Failover.Failover(w.ctx, "field-station", api.FailoverAsk{}, "test")
	require.NoError(t, err, "it begins, and ends because nobody answers")
	w.settles(dr, "failover")
	require.Equal(t, api.FailoverFailed, must(dr.Failover.Show("field-station")).State)
	dry := must(dr.Failover.Failover(w.ctx, "field-station", api.FailoverAsk{Unplanned: true, DryRun: true}, "test"))
	require.Contains(t, dry.Sentence, "dr would take over 2 volumes from home")
	f := w.over(dr)(dr.Failover.Failover(w.ctx, "field-station", api.FailoverAsk{Unplanned: true}, "test"))
	require.Len(t, f.Volumes, 2)
	require.Equal(t, "dr", w.active(dr, "notes@home"))
	require.Equal(t, "home", w.active(home, "notes"), "it does not know yet")
	require.Equal(t, "first", string(must(os.ReadFile(filepath.Join(at, "a")))))
	require.Equal(t, arrived, w.diskBytes(dr, "store@home"))

	// Both are written to.
	w.write(at, "a", "written at dr")
	w.scribble(dr, "store@home", arrived, r)
	for _, v := range []string{"notes@home", "store@home"} {
		w.take(dr, v)
	}
	w.take(home, "notes")

	// The main site comes back, and stands back.
	w.cut(false, home, dr)
	w.greet(home, "dr")
	require.Equal(t, "dr", w.active(home, "notes"))
	require.False(t, must(home.Disks.Disks())[0].State == api.DiskReady)
	_, err = home.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test")
	require.ErrorContains(t, err, "is active at the site dr")
	w.settles(home, "stand-back")
	back := must(home.Failover.Authority("notes"))
	require.NotNil(t, back.Back.Confirmed, "%+v", back.Back)
	left := must(home.Failover.LeftBehind(""))
	require.Len(t, left, 3, "two snapshots of notes, one of what the disk had: %+v", left)
	require.Equal(t, lost, w.imageOf(home, "store", must(home.Failover.LeftBehind("store"))[0].Snapshot))

	// What is done at dr is carried home, by a route that turned round.
	w.done(dr)(dr.Routes.RunRoute("back-to-home", "test"))
	require.Equal(t, "written at dr", w.textOf(home, must(home.Catalog.LastSnapshot("home",
		must(home.Catalog.Volume("notes")).Lineage)), "a"))

	// All comes home.
	_, err = home.Failover.PutRunbook(homeAgain, "test")
	require.NoError(t, err)
	w.write(at, "c", "the last at dr")
	w.scribble(dr, "store@home", arrived, r)
	f = w.over(home)(home.Failover.Failover(w.ctx, "home-again", api.FailoverAsk{}, "test"))
	require.Equal(t, "planned", f.Kind)
	require.Equal(t, "home", w.active(home, "notes"))
	require.Equal(t, "home", w.active(dr, "notes@home"))
	require.Equal(t, contents{"a": readContents(t, at)["a"], "c": readContents(t, at)["c"]}, readContents(t, dir))
	require.Equal(t, arrived, w.diskBytes(home, "store"))
	w.take(home, "notes")
	w.take(home, "store")
	w.settles(dr, "stand-back")
	require.Len(t, must(home.Failover.LeftBehind("")), 3, "it is still there")
	require.Empty(t, must(dr.Failover.LeftBehind("")), "nothing was lost on the way home")
}

// A runbook has versions, is refused where it names what is not here, and stays while a failover by it is open.
func TestRunbooksAreKept(t *testing.T) {
	w := newWorld(t)
	home, dr := w.twoSites()
	w.share(home, "notes")
	_, err := home.Routes.AddRoute(api.RouteAdd{Name: "to-dr", To: "dr", Names: []string{"notes"}})
	require.NoError(t, err)
	w.take(home, "notes")
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	body := "runbook: r\nat: dr\nbring_up: [notes]\npaths: {notes: " + filepath.Join(w.dir, "up") + "}\n"
	for say, bad := range map[string]string{
		"is for the site home":           strings.Replace(body, "at: dr", "at: home", 1),
		"no volume or group elsewhere":   strings.Replace(body, "[notes]", "[elsewhere]", 1),
		"paths names other":              strings.Replace(body, "{notes:", "{other:", 1),
		"hook start is not in site.yaml": body + "after: [{hook: start}]\n",
	} {
		_, err := dr.Failover.PutRunbook(bad, "test")
		require.ErrorContains(t, err, say)
	}
	require.Empty(t, must(dr.Failover.Runbooks()))
	require.Equal(t, 1, must(dr.Failover.PutRunbook(body, "test")).Version)
	require.Equal(t, 1, must(dr.Failover.PutRunbook(body, "test")).Version, "the same is no new version")
	require.Equal(t, 2, must(dr.Failover.PutRunbook(body+"objectives: {loss: 1 hour}\n", "test")).Version)
	_, err = dr.Failover.Cancel("r")
	require.Error(t, err, "there is nothing to give up")
	_, err = dr.Failover.RemoveRunbook("r", "test")
	require.NoError(t, err)
	versions := must(dr.Failover.RunbookHistory("r"))
	require.Len(t, versions, 3)
	require.Empty(t, versions[0].Body, "that it was removed is one")
	require.Equal(t, body, versions[2].Body)
}
