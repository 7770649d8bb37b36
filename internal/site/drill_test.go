package site

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/datadir"
	"candidharbor/internal/netns"

	"github.com/stretchr/testify/require"
)

// A hook of drills runs this test in a process of its own, which listens until it is ended.
func TestListens(t *testing.T) {
	at := os.Getenv("CANDID_TEST_LISTEN")
	if at == "" {
		return
	}
	l, err := net.Listen("tcp", at)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(os.Getenv("CANDID_TEST_PID"), []byte(fmt.Sprint(os.Getpid())), 0o600))
	for {
		c, err := l.Accept()
		require.NoError(t, err)
		c.Close()
	}
}

// drilled are two sites of which one drills to take over two directories, one of them laid out, and a disk. What a hook
// of the drill starts listens at the address of what is production here.
type drilled struct {
	*world
	home, dr    *Site
	holds       []byte
	dirs        map[string]string // at home
	random      *rand.Rand
	address     string
	pid, heard  string // files that hooks write
	production  net.Listener
	hookFails   string // a file that has the hook fail while it is there
	placeOfDocs string
}

const drillBook = `runbook: field-station
at: dr
bring_up:
  - [notes, store]
  - {hook: start}
  - {check: {tcp: "%s"}, within: 20 seconds}
  - docs
  - {check: {file: %s/a}, within: 1 second}
after: [{hook: tell}]
paths: {docs: %[2]s}
objectives: {loss: 1 hour, time: 30 minutes}
drill: {keep: none%s}
`

func newDrilled(t *testing.T, more string) *drilled {
	n, err := netns.New()
	if err != nil {
		t.Skip("this host gives no network apart: ", err)
	}
	require.NoError(t, n.Close())
	w := newWorld(t)
	d := &drilled{world: w, random: rand.New(rand.NewPCG(5, 6)), holds: make([]byte, diskSize), dirs: map[string]string{},
		pid: filepath.Join(w.dir, "pid"), heard: filepath.Join(w.dir, "heard"), hookFails: filepath.Join(w.dir, "fails"),
		placeOfDocs: filepath.Join(w.dir, "docs-at-dr")}
	d.production, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { d.production.Close() })
	d.address = d.production.Addr().String()
	d.home, d.dr = w.twoSites()
	d.dr.Conf.Hooks = map[string]datadir.Hook{
		"start": {Run: []string{"sh", "-c", fmt.Sprintf(`test ! -e %s || exit 1
			env CANDID_TEST_LISTEN=%s CANDID_TEST_PID=%s setsid %s -test.run '^TestListens$' >/dev/null 2>&1 &`, d.hookFails,
			d.address, d.pid, os.Args[0])}},
		"tell": {Run: []string{"sh", "-c", fmt.Sprintf(
			`echo "$CANDID_DRILL $CANDID_EXPORTS" >%s; echo "$CANDID_PATHS" | while read p; do
				test -z "$p" || echo drilled >"$p/by-drill"; done`, d.heard)}}}
	for _, name := range []string{"notes", "docs"} {
		d.dirs[name] = w.share(d.home, name)
	}
	w.disk(d.home, "store")
	for route, terms := range map[string]api.RouteTerms{"laid": {Standby: "exact", When: "on demand"},
		"plain": {When: "on demand"}} {
		names := []string{"notes", "store"}
		if route == "plain" {
			names = []string{"docs"}
		}
		_, err := d.home.Routes.AddRoute(api.RouteAdd{Name: route, To: "dr", Names: names, Terms: terms})
		require.NoError(t, err)
	}
	d.work()
	_, err = d.dr.Failover.PutRunbook(fmt.Sprintf(drillBook, d.address, d.placeOfDocs, more), "test")
	require.NoError(t, err)
	return d
}

// work has something written, taken and carried.
func (d *drilled) work() {
	for name, dir := range d.dirs {
		d.write(dir, "a", fmt.Sprint(name, " ", d.random.Uint64()))
		d.take(d.home, name)
	}
	d.scribble(d.home, "store", d.holds, d.random)
	d.take(d.home, "store")
	for _, r := range []string{"laid", "plain"} {
		d.done(d.home)(d.home.Routes.RunRoute(r, "test"))
	}
	d.settles(d.dr, "standby")
}

// untouched is what a drill must not change.
func (d *drilled) untouched() []string {
	var b strings.Builder
	for _, s := range []*Site{d.home, d.dr} {
		for _, v := range must(s.Catalog.Volumes()) {
			fmt.Fprintf(&b, "%s %s active %s standby %s %q\n", s.Name(), v.Name, v.Active, v.StandbyDir, v.StandbyError)
			for _, r := range d.rows(s, v.Name) {
				fmt.Fprintf(&b, "  %s %s\n", r.ID, r.GraceUntil)
			}
			if v.StandbyDir != "" && s == d.dr {
				fmt.Fprintln(&b, readContents(d.t, v.StandbyDir))
			}
		}
		for _, r := range must(s.Routes.Routes()) {
			fmt.Fprintln(&b, s.Name(), r.Name, r.State, r.SentBytes)
		}
	}
	for _, name := range []string{"notes", "docs"} {
		fmt.Fprintln(&b, readContents(d.t, d.dirs[name]))
	}
	fmt.Fprintf(&b, "%x", sha256.Sum256(d.diskBytes(d.home, "store")))
	return strings.Split(b.String(), "\n")
}

// ends waits until a drill is at its end and returns it.
func (d *drilled) reaches(f *api.Failover, states ...string) *api.Failover {
	d.t.Helper()
	for range 4000 {
		f = must(d.dr.Failover.Drill(f.ID))
		for _, s := range states {
			if f.State == s {
				return f
			}
		}
		time.Sleep(5 * time.Millisecond)
	}
	d.t.Fatalf("the drill is %s: %s %+v", f.State, f.Sentence, f.Steps)
	return nil
}

// nothingIsLeft looks for whatever a drill could leave.
func (d *drilled) nothingIsLeft() {
	d.t.Helper()
	mounts := string(must(os.ReadFile("/proc/self/mountinfo")))
	require.NotContains(d.t, mounts, d.dr.Path)
	require.NoDirExists(d.t, filepath.Join(d.dr.Path, "drills"))
	require.Empty(d.t, must(d.dr.Catalog.Clones()))
	if left, err := os.ReadDir(filepath.Join(d.dr.Path, "clones")); err == nil {
		require.Empty(d.t, left)
	}
	for _, x := range must(d.dr.Disks.Disks()) {
		require.NotContains(d.t, x.Name, "drill")
	}
	for _, fd := range must(os.ReadDir("/proc/self/fd")) {
		to, _ := os.Readlink("/proc/self/fd/" + fd.Name())
		require.NotContains(d.t, to, "net:[")
	}
	pid := string(must(os.ReadFile(d.pid)))
	if stat, err := os.ReadFile("/proc/" + pid + "/stat"); err == nil { // it may wait to be reaped
		require.Contains(d.t, string(stat), ") Z ")
	}
}

// What a hook mounts in a drill is unmounted with it, and nothing of it is removed.
func TestDrillRemovesNothingThatIsMounted(t *testing.T) {
	d := newDrilled(t, "")
	shared := filepath.Join(d.dir, "shared")
	require.NoError(t, os.Mkdir(shared, 0o755))
	d.write(shared, "everybody's", "file")
	d.dr.Conf.Hooks["start"] = datadir.Hook{Run: []string{"sh", "-c", fmt.Sprintf(`set -e
		echo "$CANDID_PATHS" | while read p; do test -z "$p" || { mkdir -p "$p/shared"; mount --bind %s "$p/shared"; }; done
		mkdir "$(dirname "$(echo "$CANDID_PATHS" | head -n 1)")/beside"
		mount --bind %[1]s "$(dirname "$(echo "$CANDID_PATHS" | head -n 1)")/beside"; env CANDID_TEST_LISTEN=%s \
		CANDID_TEST_PID=%s setsid %s -test.run '^TestListens$' >/dev/null 2>&1 &`, shared, d.address, d.pid, os.Args[0])}}
	f := d.reaches(must(d.dr.Failover.StartDrill("field-station", api.DrillAsk{}, "test")), api.FailoverDone,
		api.FailoverFailed)
	require.Equal(t, api.FailoverDone, f.State, "%s %+v", f.Sentence, f.Steps)
	d.nothingIsLeft()
	require.Equal(t, "file", string(must(os.ReadFile(filepath.Join(shared, "everybody's")))))
}

// A drill brings all up apart, with work going on, and changes nothing: neither what is production nor what is carried,
// laid out and listed. Afterwards nothing of it is left, however often.
func TestDrillChangesNothing(t *testing.T) {
	d := newDrilled(t, "")
	keep := int64(3600)
	before := d.untouched()
	was := bytes.Clone(d.holds)
	f := d.reaches(must(d.dr.Failover.StartDrill("field-station", api.DrillAsk{KeepSeconds: &keep}, "test")),
		api.FailoverUp, api.FailoverFailed)
	require.Equal(t, api.FailoverUp, f.State, "%s %+v", f.Sentence, f.Steps)
	require.True(t, f.Drill.Good && f.Drill.WithinLoss && f.Drill.WithinTime, "%+v", f.Drill)
	require.Equal(t, api.NetworkOwn, f.Drill.Network)
	require.Equal(t, before, d.untouched(), "production is as it was while the drill is up")
	place := map[string]string{}
	for _, v := range f.Volumes {
		place[v.Volume] = v.Place
	}
	require.Equal(t, was, d.diskBytes(d.dr, place["store@home"]))
	require.Contains(t, string(must(os.ReadFile(d.heard))), "1 \n"+place["store@home"])
	for _, name := range []string{"notes", "docs"} {
		at := place[name+"@home"]
		require.Equal(t, must(os.ReadFile(filepath.Join(d.dirs[name], "a"))), must(os.ReadFile(filepath.Join(at, "a"))))
		require.Equal(t, "drilled\n", string(must(os.ReadFile(filepath.Join(at, "by-drill")))))
		d.write(at, "a", "written in the drill")
	}
	d.scribble(d.dr, place["store@home"], make([]byte, diskSize), d.random)
	require.Equal(t, before, d.untouched(), "what is written in it is its own")
	_, err := d.dr.Failover.StartDrill("field-station", api.DrillAsk{}, "test")
	require.ErrorContains(t, err, "is up already")
	_, err = d.dr.Clones.DiscardClone(place["store@home"], true)
	require.ErrorContains(t, err, "belongs to the drill")

	// Work goes on, is carried and laid out as if there were no drill.
	d.clock.Set(d.clock.Now().Add(10 * time.Minute))
	d.work()
	for _, name := range []string{"notes", "docs", "store"} {
		home, dr := d.rows(d.home, name), d.rows(d.dr, name+"@home")
		require.Equal(t, home[0].ID, dr[0].ID)
	}
	laid := must(d.dr.Catalog.Volume("notes@home")).StandbyDir
	require.Equal(t, readContents(t, d.dirs["notes"]), readContents(t, laid))
	require.Equal(t, "written in the drill", string(must(os.ReadFile(filepath.Join(place["notes@home"], "a")))))

	d.clock.Set(d.clock.Now().Add(time.Hour))
	f = d.reaches(f, api.FailoverDone)
	require.Contains(t, f.Sentence, "All of it was taken away")
	d.nothingIsLeft()
	after := d.untouched()
	many := 10
	if n, err := strconv.Atoi(os.Getenv("CANDID_DRILLS")); err == nil {
		many = n
	}
	began := time.Now()
	for range many {
		f = d.reaches(must(d.dr.Failover.StartDrill("field-station", api.DrillAsk{}, "test")), api.FailoverDone,
			api.FailoverFailed)
		require.Equal(t, api.FailoverDone, f.State, "%s %+v", f.Sentence, f.Steps)
	}
	t.Logf("%d drills: %s", many, time.Since(began).Round(time.Millisecond))
	d.nothingIsLeft()
	require.Equal(t, after, d.untouched())
	require.Len(t, must(d.dr.Failover.Drills()), many+1)
}

// A drill that does not come to its end is taken away too: at a step that fails, by a person, by a failover, and when
// the service ends. What failed is a reason why the runbook would not work, until a drill has gone well.
func TestDrillsThatEndEarly(t *testing.T) {
	d := newDrilled(t, "")
	keep := int64(3600)
	start := func() *api.Failover {
		d.clock.Set(d.clock.Now().Add(time.Second)) // so that it is the last one
		return must(d.dr.Failover.StartDrill("field-station", api.DrillAsk{KeepSeconds: &keep}, "test"))
	}
	ready := func() *api.Readiness { return must(d.dr.Failover.Runbook("field-station")).Readiness }
	require.True(t, ready().Ready, ready().Sentence)
	d.write(d.dir, "fails", "")
	f := d.reaches(start(), api.FailoverFailed)
	require.Contains(t, f.Sentence, "Hook start: hook start failed: exit status 1. All of it was taken away")
	require.Zero(t, f.Drill.TimeSeconds)
	require.Contains(t, ready().Sentence, "failed. Hook start")
	var said []string
	hear := func(x api.Sentence) { said = append(said, x.Text) }
	require.NoError(t, d.dr.Failover.Sentences(must(d.dr.Catalog.Volumes()), hear))
	require.Contains(t, strings.Join(said, "\n"), "The runbook field-station would not work now: The drill of")
	require.NoError(t, os.Remove(d.hookFails))

	f = d.reaches(start(), api.FailoverUp)
	require.True(t, ready().Ready, ready().Sentence)
	_, err := d.dr.Failover.EndDrill("field-station", "test")
	require.NoError(t, err)
	f = d.reaches(f, api.FailoverDone)
	d.nothingIsLeft()
	_, err = d.dr.Failover.EndDrill(f.ID, "test")
	require.ErrorContains(t, err, "is over and taken away")

	// The service ends while it is up, and while it is brought up.
	f = d.reaches(start(), api.FailoverUp)
	address := d.dr.Pairing.PeerAddress()
	hooks := d.dr.Conf.Hooks
	require.NoError(t, d.dr.Close())
	d.dr = d.openAt("dr", address)
	d.dr.Conf.Hooks = hooks
	f = d.reaches(f, api.FailoverDone)
	require.True(t, f.Drill.Good)
	d.nothingIsLeft()
	d.dr.Conf.Hooks["start"] = datadir.Hook{Run: []string{"sleep", "100"}, Timeout: "200 seconds"}
	f = start()
	for range 2000 {
		if f = must(d.dr.Failover.Drill(f.ID)); f.Steps[3].State == api.StepRunning {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	require.NoError(t, d.dr.Close())
	d.dr = d.openAt("dr", address)
	f = d.reaches(f, api.FailoverFailed)
	require.Contains(t, f.Sentence, "the service ended before all was up")
	d.nothingIsLeft()
	d.dr.Conf.Hooks = hooks
	hooks["start"] = datadir.Hook{Run: []string{"sleep", "100"}, Timeout: "200 seconds"}
	f = start()
	_, err = d.dr.Failover.EndDrill(f.ID, "test")
	require.NoError(t, err)
	require.Equal(t, "It was ended before all was up, and taken away.", d.reaches(f, api.FailoverCancelled).Sentence)

	// A failover makes way for itself.
	hooks["start"] = datadir.Hook{Run: []string{"true"}}
	_, err = d.dr.Failover.PutRunbook("runbook: short\nat: dr\nbring_up: [store]\n", "test")
	require.NoError(t, err)
	f = must(d.dr.Failover.StartDrill("short", api.DrillAsk{KeepSeconds: &keep}, "test"))
	d.reaches(f, api.FailoverUp)
	d.cut(true, d.home, d.dr)
	moved := d.over(d.dr)(d.dr.Failover.Failover(d.ctx, "short", api.FailoverAsk{Unplanned: true}, "test"))
	d.reaches(f, api.FailoverDone)
	d.nothingIsLeft()
	require.Equal(t, moved.ID, must(d.dr.Failover.Show("short")).ID, "by the runbook's name it is the failover")
}

// Drills are held by their cadence without anybody there, and as of any moment.
func TestDrillsByCadenceAndOfAMoment(t *testing.T) {
	d := newDrilled(t, ", when: daily at 05:00, zone: UTC")
	_, err := d.dr.Failover.PutRunbook(strings.Replace(must(d.dr.Failover.Runbook("field-station")).Body, "  - docs\n",
		"  - docs\n  - {pause: {say: Look, person: administrator}}\n", 1), "test")
	require.NoError(t, err)
	early := d.clock.Now()
	first := must(os.ReadFile(filepath.Join(d.dirs["docs"], "a")))
	d.until(d.dr, early.Add(20*time.Hour))
	all := must(d.dr.Failover.Drills())
	require.Len(t, all, 1)
	f := d.reaches(&all[0], api.FailoverDone)
	require.True(t, f.Drill.Cadence && f.Drill.Good, "%s %+v", f.Sentence, f.Steps)
	require.False(t, f.Drill.WithinLoss, "nothing was carried since")
	rows := must(d.dr.Overview.Objectives(d.ctx, early)).Drills
	require.Len(t, rows, 3)
	require.Equal(t, 1, rows[0].Drills)
	require.InDelta(t, f.Drill.LossSeconds, rows[0].WorstLoss, 1)
	require.EqualValues(t, 3600, rows[0].LossObjective)
	require.Contains(t, f.Sentence, "That loses more than the 1 hour of the objective")
	d.work()
	before := early.Add(-time.Hour)
	_, err = d.dr.Failover.StartDrill("field-station", api.DrillAsk{At: &before}, "test")
	require.ErrorContains(t, err, "nothing is known of")
	require.Len(t, must(d.dr.Failover.Drills()), 1)
	keep := int64(60)
	f = must(d.dr.Failover.StartDrill("field-station", api.DrillAsk{At: &early, KeepSeconds: &keep}, "test"))
	f = d.reaches(f, api.FailoverWaiting)
	_, err = d.dr.Failover.Answer("field-station", "operator", "op")
	require.ErrorContains(t, err, "waits for an administrator")
	_, err = d.dr.Failover.Answer("field-station", "administrator", "ad")
	require.NoError(t, err)
	f = d.reaches(f, api.FailoverUp)
	for _, v := range f.Volumes {
		if v.Volume == "docs@home" {
			require.Equal(t, first, must(os.ReadFile(filepath.Join(v.Place, "a"))))
		}
	}
	require.True(t, f.Drill.WithinLoss, "a moment was asked for")
	_, err = d.dr.Failover.RemoveRunbook("field-station", "test")
	require.ErrorContains(t, err, "a drill by the runbook field-station is not at its end")
	d.clock.Set(d.clock.Now().Add(time.Minute))
	d.reaches(f, api.FailoverDone)
	d.nothingIsLeft()
}

// Several people begin and end drills at once while work is carried: of each runbook one is up, and nothing is left.
func TestDrillsSideBySide(t *testing.T) {
	d := newDrilled(t, "")
	for _, name := range []string{"one", "two"} {
		_, err := d.dr.Failover.PutRunbook("runbook: "+name+"\nat: dr\nbring_up: [[store, notes]]\n", "test")
		require.NoError(t, err)
	}
	keep := int64(3600)
	names := []string{"one", "two", "field-station"}
	before := d.untouched()
	for range 2 {
		var all sync.WaitGroup
		var mu sync.Mutex
		begun := map[string]*api.Failover{}
		for i := range 9 {
			all.Go(func() {
				name := names[i%len(names)]
				f, err := d.dr.Failover.StartDrill(name, api.DrillAsk{KeepSeconds: &keep}, "test")
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					require.Nil(t, begun[name], "two drills by one runbook")
					begun[name] = f
				}
			})
		}
		all.Wait()
		require.Len(t, begun, len(names))
		for _, f := range begun {
			f = d.reaches(f, api.FailoverUp, api.FailoverFailed)
			require.Equal(t, api.FailoverUp, f.State, "%s %+v", f.Sentence, f.Steps)
		}
		require.Equal(t, before, d.untouched())
		for i := range 6 {
			all.Go(func() { _, _ = d.dr.Failover.EndDrill(names[i%len(names)], "test") }) // the second may find it over
		}
		all.Wait()
		for _, f := range begun {
			d.reaches(f, api.FailoverDone)
		}
		d.nothingIsLeft()
		d.work()
		before = d.untouched()
	}
}
