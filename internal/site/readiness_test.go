package site

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"

	"github.com/stretchr/testify/require"
)

// fault is something for which a runbook would not work, by the code of the reason.
type fault struct {
	code       string
	make, undo func()
}

func (d *drilled) faultsOfPlans() []fault {
	t, hooks := d.t, d.dr.Conf.Hooks
	tell := hooks["tell"]
	grant := func(what string, on bool) func() {
		return func() {
			var err error
			if on {
				_, err = d.home.Pairing.Grant(d.ctx, "dr", api.GrantAsk{Grants: []string{what}})
			} else {
				_, err = d.home.Pairing.Revoke(d.ctx, "dr", []string{what})
			}
			require.NoError(t, err)
			d.greet(d.dr, "home")
		}
	}
	drill := func(failing bool) func() {
		return func() {
			d.clock.Set(d.clock.Now().Add(time.Second))
			if os.RemoveAll(d.hookFails); failing {
				d.write(d.dir, "fails", "")
			}
			d.reaches(must(d.dr.Failover.StartDrill("field-station", api.DrillAsk{}, "test")), api.FailoverDone,
				api.FailoverFailed)
			require.NoError(t, os.RemoveAll(d.hookFails))
		}
	}
	size := func(bytes int64) func() {
		return func() {
			row := *d.rows(d.dr, "docs@home")[0]
			row.Bytes = bytes
			require.NoError(t, d.dr.Catalog.PutSnapshot(&row))
		}
	}
	return []fault{
		{"authority", grant("take-over", false), grant("take-over", true)},
		{"way-back", grant("offer", false), grant("offer", true)},
		{"hook", func() { delete(hooks, "tell") }, func() { hooks["tell"] = tell }},
		{"hook", func() { hooks["tell"] = datadir.Hook{Run: []string{filepath.Join(d.dir, "no-such-program")}} },
			func() { hooks["tell"] = tell }},
		{"place", func() {
			require.NoError(t, os.MkdirAll(d.placeOfDocs, 0o755))
			d.write(d.placeOfDocs, "somebody's", "file")
		}, func() { require.NoError(t, os.RemoveAll(d.placeOfDocs)) }},
		{"fresh", func() { d.clock.Set(d.clock.Now().Add(2 * time.Hour)) }, d.work},
		{"room", size(1 << 60), size(100)},
		{"host", func() { d.dr.Conf.DiskListen = "127.0.0.1:1" }, func() { d.dr.Conf.DiskListen = "" }},
		{"drill", drill(true), drill(false)},
	}
}

// lacks are the codes of what a runbook lacks; an alarm is told exactly when there are any.
func (d *drilled) lacks() (codes []string) {
	d.t.Helper()
	r := must(d.dr.Failover.Runbook("field-station")).Readiness
	for _, c := range r.Checks {
		if !c.OK {
			codes = append(codes, c.Code)
			require.NotEmpty(d.t, c.Text)
		}
	}
	require.Equal(d.t, len(codes) == 0, r.Ready)
	told := 0
	require.NoError(d.t, d.dr.Failover.Sentences(must(d.dr.Catalog.Volumes()), func(x api.Sentence) {
		if x.About == "runbook field-station" && x.Weight == "act" {
			told++
		}
	}))
	require.Equal(d.t, !r.Ready, told == 1)
	return codes
}

// Each reason why a runbook would not work is found, told by an alarm, and gone with its cause; and where none is
// found, a drill goes well, whatever is amiss before.
func TestReadyMeansThatADrillGoesWell(t *testing.T) {
	d := newDrilled(t, "")
	require.Empty(t, d.lacks())
	faults := d.faultsOfPlans()
	for _, f := range faults {
		f.make()
		for _, code := range d.lacks() {
			require.Equal(t, f.code, code)
		}
		require.NotEmpty(t, d.lacks(), f.code)
		f.undo()
		require.Empty(t, d.lacks(), f.code)
	}
	rounds := 12
	if n, err := strconv.Atoi(os.Getenv("CANDID_DRILLS")); err == nil {
		rounds = n
	}
	r := rand.New(rand.NewPCG(7, uint64(rounds)))
	ready := 0
	for range rounds {
		made, was := map[int]bool{}, ""
		for range r.IntN(3) {
			i := r.IntN(len(faults))
			for k := range made {
				if faults[k].code == faults[i].code { // one of a kind, as undoing one would undo the other
					i = k
				}
			}
			if !made[i] {
				made[i] = true
				faults[i].make()
				was += " " + faults[i].code
			}
		}
		for i := range made { // some are mended again
			if r.IntN(2) == 0 {
				faults[i].undo()
				delete(made, i)
				was += " -" + faults[i].code
			}
		}
		lacks := d.lacks()
		require.Equal(t, len(made) == 0, len(lacks) == 0, "%s: %v", was, lacks)
		if len(lacks) == 0 {
			ready++
			d.clock.Set(d.clock.Now().Add(time.Second))
			f := d.reaches(must(d.dr.Failover.StartDrill("field-station", api.DrillAsk{}, "test")), api.FailoverDone,
				api.FailoverFailed)
			require.True(t, f.Drill.Good && f.Drill.WithinLoss && f.Drill.WithinTime, "%s: %s", was, f.Sentence)
		}
		for i := range made {
			faults[i].undo()
		}
		require.Empty(t, d.lacks(), was)
	}
	t.Logf("%d of %d were ready", ready, rounds)
	require.Positive(t, ready)

	// What is damaged beyond mending comes last.
	id := must(object.ParseID(d.rows(d.dr, "notes@home")[0].ID))
	require.NoError(t, d.dr.Store.RemoveRoots(id))
	require.Equal(t, []string{"state"}, d.lacks())
	_, err := d.dr.Failover.Failover(d.ctx, "field-station", api.FailoverAsk{Unplanned: true}, "test")
	require.ErrorContains(t, err,
		"nothing was taken over, because the runbook is not ready: The newest state of notes@home is "+
			"damaged here")
}

// A set of which a part is not here, a volume that is not here any more, and a witness that is silent are told as well.
func TestReadinessOfSetsAndWitnesses(t *testing.T) {
	w := newWorld(t)
	home, dr := w.twoSites()
	third := w.open("third")
	w.pair(dr, third)
	for _, v := range []string{"notes", "docs"} {
		w.share(home, v)
	}
	_, err := home.Capture.PutGroup("books", api.GroupPut{Volumes: []string{"notes", "docs"}})
	require.NoError(t, err)
	_, err = home.Routes.AddRoute(api.RouteAdd{Name: "to-dr", To: "dr", Names: []string{"notes", "docs"},
		Terms: api.RouteTerms{When: "on demand"}})
	require.NoError(t, err)
	w.done(home)(home.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	body := fmt.Sprintf("runbook: r\nat: dr\nwitness: third\nbring_up: [{group: books}]\n"+
		"paths: {notes: %s/n, docs: %[1]s/d}\n", w.dir)
	_, err = dr.Failover.PutRunbook(body, "test")
	require.NoError(t, err)
	lacks := func() (codes []string) {
		for _, c := range must(dr.Failover.Runbook("r")).Readiness.Checks {
			if !c.OK {
				codes = append(codes, c.Code)
			}
		}
		return codes
	}
	require.Empty(t, lacks())
	w.cut(true, third)
	w.clock.Set(w.clock.Now().Add(time.Hour))
	require.Equal(t, []string{"witness"}, lacks())
	w.cut(false, third)
	w.greet(dr, "third")
	require.Empty(t, lacks())

	row := w.rows(dr, "docs@home")[0]
	require.NoError(t, dr.Catalog.ForgetSnapshots("dr", row.ID))
	require.Equal(t, []string{"set"}, lacks(), "what is here is a part of a set, whatever the other part is")
	require.NoError(t, dr.Catalog.PutRunbook(&catalog.Runbook{Name: "r",
		Body: strings.Replace(body, "{group: books}", "notes, gone", 1)}))
	require.Equal(t, []string{"volumes"}, lacks())
}
