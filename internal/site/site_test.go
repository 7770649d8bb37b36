package site

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/clock"
	"candidharbor/internal/datadir"
	"candidharbor/internal/refusal"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// world is one or two sites with a clock that only the test moves.
type world struct {
	t       testing.TB
	dir     string
	clock   *clock.Moved
	ctx     context.Context
	journal bool // which works as root only
	setup   func(*datadir.Config)
}

func newWorld(t testing.TB) *world {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	return &world{t: t, dir: memoryDir(t), clock: clock.NewMoved(time.Date(2026, 3, 2, 9, 0, 0, 0, zone)),
		ctx: context.Background()}
}

// memoryDir is a directory in memory where there is one: a test's fsyncs then cost nothing.
func memoryDir(t testing.TB) string {
	base := ""
	if _, err := os.Stat("/dev/shm"); err == nil {
		base = "/dev/shm"
	}
	dir, err := os.MkdirTemp(base, "site")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func (w *world) open(name string) *Site { return w.openAt(name, "127.0.0.1:0") }

// openAt opens a site that others reach where they did before.
func (w *world) openAt(name, address string) *Site {
	l, err := net.Listen("tcp", address)
	for range 200 { // a connection that goes out may have its port for a while
		if err == nil || !errors.Is(err, unix.EADDRINUSE) {
			break
		}
		time.Sleep(25 * time.Millisecond)
		l, err = net.Listen("tcp", address)
	}
	require.NoError(w.t, err)
	s, err := Open(Options{Data: filepath.Join(w.dir, name), Name: name, Roots: []string{w.dir}, Setup: w.settle,
		Clock: w.clock, Listen: "127.0.0.1:0", PeerListen: l.Addr().String()})
	require.NoError(w.t, err)
	go s.Pairing.ServePeers(l)
	w.t.Cleanup(func() { s.Close() })
	return s
}

// settle sets what a new site's site.yaml says.
func (w *world) settle(c *datadir.Config) {
	c.Journal = &w.journal
	if w.setup != nil {
		w.setup(c)
	}
}

func (w *world) share(s *Site, name string) string {
	dir := filepath.Join(w.dir, "shares", name)
	require.NoError(w.t, os.MkdirAll(dir, 0o755))
	w.write(dir, "a", "first")
	_, err := s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: name, Path: dir, Labels: map[string]string{"k": "v"}})
	require.NoError(w.t, err)
	return dir
}

// empty removes all that is in a directory.
func (w *world) empty(dir string) {
	for _, e := range must(os.ReadDir(dir)) {
		require.NoError(w.t, os.RemoveAll(filepath.Join(dir, e.Name())))
	}
}

func (w *world) write(dir, name, text string) {
	require.NoError(w.t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
}

func (w *world) policy(s *Site, body string) {
	_, err := s.Rules.PutPolicy(body, "test", true)
	require.NoError(w.t, err)
}

// until moves the clock from due time to due time.
func (w *world) until(s *Site, to time.Time) {
	for {
		next, err := s.Step(w.ctx, true)
		require.NoError(w.t, err)
		if next.IsZero() || next.After(to) {
			w.clock.Set(to)
			return
		}
		w.clock.Set(next)
	}
}

func (w *world) done(s *Site) func(r api.Run, err error) api.Run {
	return func(r api.Run, err error) api.Run {
		w.t.Helper()
		require.NoError(w.t, err)
		r, err = s.Run.Wait(w.ctx, r.ID)
		require.NoError(w.t, err)
		require.Contains(w.t, []string{"done", "done with remarks"}, r.State, r.Outcome)
		return r
	}
}

func (w *world) rows(s *Site, volume string) []*catalog.Snapshot {
	rows, err := s.Catalog.Snapshots(s.Place(), volume, catalog.SnapshotFilter{})
	require.NoError(w.t, err)
	return rows
}

const everySix = "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nzone: Europe/Lisbon\nskip_unchanged: " +
	"true\nkeep:\n  here: {daily: 3}\n  there: {daily: 5, weekly: 2}\ngrace: 24 hours\n"

// What did not change is seen, not taken again; what changed is taken; a stopped
// service leaves gaps with their cause and one catch-up.
func TestScheduleSightingsAndGaps(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, everySix)
	begin := w.clock.Now()
	w.until(s, begin.Add(24*time.Hour))
	rows := w.rows(s, "notes")
	require.Len(t, rows, 1, "nothing changed")
	require.Equal(t, begin.Add(3*time.Hour).UTC(), rows[0].Began.Time)
	require.Equal(t, begin.Add(21*time.Hour).UTC(), rows[0].SeenUntil.Time)
	w.write(dir, "a", "second")
	w.until(s, begin.Add(30*time.Hour))
	require.Len(t, w.rows(s, "notes"), 2)

	b, err := s.Recovery.Browse("notes", begin.Add(20*time.Hour).Format(time.RFC3339), "", "")
	require.NoError(t, err)
	require.Contains(t, b.Answer, "unchanged when looked at")
	require.EqualValues(t, 5, b.Entries[0].Size)
	b, err = s.Recovery.Browse("notes", begin.Add(23*time.Hour).Format(time.RFC3339), "", "")
	require.NoError(t, err)
	require.Contains(t, b.Answer, "nearest before")
	require.Contains(t, b.Answer, "2 hours older")

	require.NoError(t, s.Close())
	w.clock.Set(begin.Add(60 * time.Hour))
	s = w.open("here")
	w.write(dir, "a", "third")
	_, err = s.Step(w.ctx, true)
	require.NoError(t, err)
	require.Len(t, w.rows(s, "notes"), 3, "one catch-up")
	gaps, err := s.Catalog.Gaps("notes", begin, w.clock.Now())
	require.NoError(t, err)
	require.Len(t, gaps, 5)
	require.Equal(t, "the service was not running", gaps[0].Cause)
	tl, err := s.Recovery.Timeline("notes", begin, w.clock.Now().Add(48*time.Hour))
	require.NoError(t, err)
	require.Len(t, tl.Gaps, 1)
	require.Equal(t, 5, tl.Gaps[0].Count)
	require.Len(t, tl.Planned, 8)
}

// Expired snapshots enter grace, can be recalled, and go after it; figures are exact.
func TestPruneGraceRecall(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, everySix)
	for day := range 6 {
		w.write(dir, fmt.Sprint("day", day), strings.Repeat(fmt.Sprint("text of day ", day), 2000))
		require.NoError(t, os.RemoveAll(filepath.Join(dir, fmt.Sprint("day", day-1))))
		w.until(s, w.clock.Now().Add(24*time.Hour))
	}
	require.Len(t, w.rows(s, "notes"), 6)
	plan, err := s.Rules.PlanPrune(t.Context(), "notes")
	require.NoError(t, err)
	require.Equal(t, 3, plan.EnterGrace)
	require.Equal(t, "no longer within daily 3", plan.Going[0].Why)
	w.done(s)(s.Rules.Prune("", "test"))
	page, err := s.Recovery.Snapshots("notes", catalog.SnapshotFilter{Limit: 100})
	require.NoError(t, err)
	require.Equal(t, "in grace", page.Items[5].State)
	require.Equal(t, "kept", page.Items[0].State)
	back, err := s.Rules.RecallSnapshot(page.Items[5].ID[:12])
	require.NoError(t, err)
	require.Equal(t, []string{"recalled from grace"}, back.Reasons)
	_, err = s.Rules.RecallSnapshot(page.Items[0].ID)
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))

	w.clock.Set(w.clock.Now().Add(25 * time.Hour))
	plan, err = s.Rules.PlanPrune(t.Context(), "")
	require.NoError(t, err)
	require.Equal(t, 2, plan.Removed)
	require.Positive(t, plan.RemovedBytes)
	w.done(s)(s.Rules.Prune("", "test"))
	require.Len(t, w.rows(s, "notes"), 4)
	before, err := s.Upkeep.Usage()
	require.NoError(t, err)
	res := w.done(s)(s.Upkeep.Sweep(false, "test"))
	require.Contains(t, res.Outcome, "given back")
	after, err := s.Upkeep.Usage()
	require.NoError(t, err)
	// What the plan promised is what the store no longer holds.
	require.Equal(t, before.Volumes[0].Unique, after.Volumes[0].Unique)
	require.GreaterOrEqual(t, before.StoredBytes-after.StoredBytes, plan.RemovedBytes)

	// By hand: a snapshot with an end of its own stays until then.
	end := w.clock.Now().Add(10 * 24 * time.Hour)
	w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{Note: "mine", KeepUntil: &end}, "test"))
	w.write(dir, "more", "text")
	w.until(s, end.Add(-time.Hour))
	d, err := s.Rules.Decide(must(s.Catalog.Volume("notes")))
	require.NoError(t, err)
	for i, r := range d.Rows {
		if r.Note == "mine" {
			require.True(t, d.Verdicts[i].Kept())
			w.clock.Set(end.Add(time.Hour))
			d2, err := s.Rules.DecideWith(must(s.Catalog.Volume("notes")),
				must(s.Rules.RulesFor(must(s.Catalog.Volume("notes")))), w.clock.Now())
			require.NoError(t, err)
			require.False(t, d2.Verdicts[i].Kept())
			require.Equal(t, "made by hand, its end has passed", d2.Verdicts[i].LetGo)
		}
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// Two sites: what the far rules want is owed until it is there; the far place applies
// its own rules; an outage is told, waited out and caught up, the newest first.
func TestRouteOwedAndFarRules(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.policy(here, everySix)
	inv, err := there.Pairing.Invite(nil)
	require.NoError(t, err)
	_, err = here.Pairing.Pair(w.ctx, inv.Text, nil)
	require.NoError(t, err)
	_, err = here.Routes.AddRoute(api.RouteAdd{Name: "r", To: "there", Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	day := func(n int) {
		w.write(dir, "a", fmt.Sprint("day ", n, w.clock.Now()))
		w.until(here, w.clock.Now().Add(24*time.Hour))
		w.done(here)(here.Rules.Prune("", "test"))
		w.done(there)(there.Rules.Prune("", "test"))
	}
	for n := range 3 {
		day(n)
	}
	require.Len(t, w.rows(there, "notes@here"), 3)
	v, err := there.Overview.Volume("notes@here")
	require.NoError(t, err)
	require.Equal(t, []string{"p (proposed by here)"}, v.Policies)

	here.Pairing.CutLine(true)
	for n := range 5 {
		day(10 + n)
	}
	r, err := here.Routes.Route("r")
	require.NoError(t, err)
	require.Equal(t, "no line", r.State)
	require.Equal(t, 5, r.Volumes[0].Backlog)
	// Here only three days are kept, but what there would keep is owed and stays.
	owed := 0
	page, err := here.Recovery.Snapshots("notes", catalog.SnapshotFilter{Limit: 100})
	require.NoError(t, err)
	for _, s := range page.Items {
		if strings.Contains(strings.Join(s.Reasons, ";"), "owed to there") {
			owed++
		}
	}
	require.Equal(t, 5, owed)
	here.Pairing.CutLine(false)
	w.done(here)(here.Routes.RunRoute("r", "test"))
	r, err = here.Routes.Route("r")
	require.NoError(t, err)
	require.Equal(t, "current", r.State)
	carried, err := here.Catalog.CarriedBy("r", "here", "notes")
	require.NoError(t, err)
	rows := w.rows(there, "notes@here")
	require.GreaterOrEqual(t, len(carried), 5)
	for range 3 {
		w.clock.Set(w.clock.Now().Add(26 * time.Hour))
		w.done(there)(there.Rules.Prune("", "test"))
	}
	// There five days and two weeks are kept; the week before is among those days' own
	// representatives only when it ended within them.
	v2 := must(there.Catalog.Volume("notes@here"))
	d, err := there.Rules.Decide(v2)
	require.NoError(t, err)
	rules := must(there.Rules.RulesFor(v2)).Keep["there"]
	require.Len(t, rules, 1, "the rules that came along")
	for i, row := range d.Rows {
		require.Equal(t, d.Verdicts[i].Kept(), row.GraceUntil.IsZero())
	}
	require.Less(t, len(d.Rows), len(rows), "what no rule keeps went after its grace")

	// Only its own volumes may a peer bring, and only with the paired key.
	require.NoError(t, here.Close())
	require.NoError(t, os.Remove(filepath.Join(w.dir, "here", "keys", "site.pem")))
	here = w.open("here")
	_, err = here.Pairing.CheckPeer(w.ctx, "there")
	require.ErrorContains(t, err, "pair first")
}

// A restore in place takes a safety snapshot, is exact, and leads back.
func TestRestoreInPlaceAndBack(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.write(dir, "b", "stays")
	first := w.done(s)(s.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	w.clock.Set(w.clock.Now().Add(time.Hour))
	w.write(dir, "a", "changed")
	w.write(dir, "new", "made since")
	plan, err := s.Recovery.PlanRestore(w.ctx, api.RestoreAsk{Volume: "notes",
		At: w.clock.Now().Add(-30 * time.Minute).Format(time.RFC3339), InPlace: true})
	require.NoError(t, err)
	require.EqualValues(t, 1, plan.Replaced)
	require.EqualValues(t, 1, plan.Removed)
	require.Len(t, w.rows(s, "notes"), 1, "a plan changes nothing")
	r := w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes",
		At: w.clock.Now().Add(-30 * time.Minute).Format(time.RFC3339), InPlace: true}, "test"))
	got, err := os.ReadFile(filepath.Join(dir, "a"))
	require.NoError(t, err)
	require.Equal(t, "first", string(got))
	require.NoFileExists(t, filepath.Join(dir, "new"))
	rows := w.rows(s, "notes")
	require.Equal(t, "safety", rows[0].Cause)
	require.Contains(t, r.Outcome, rows[0].ID[:12])
	w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: "notes", At: rows[0].ID, InPlace: true}, "test"))
	got, err = os.ReadFile(filepath.Join(dir, "new"))
	require.NoError(t, err)
	require.Equal(t, "made since", string(got))
	require.NotEmpty(t, first.Outcome)
}

// A policy says what it would let go before it is stored.
func TestPolicyCheckListsWhatGoes(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, strings.Replace(everySix, "daily: 3}", "daily: 30}", 1))
	for n := range 5 {
		w.write(dir, "a", fmt.Sprint(n))
		w.until(s, w.clock.Now().Add(24*time.Hour))
	}
	check, err := s.Rules.CheckPolicy(t.Context(), everySix)
	require.NoError(t, err)
	require.Len(t, check.Letting, 2)
	check, err = s.Rules.CheckPolicy(t.Context(), strings.Replace(everySix, "k: v", "other: v", 1))
	require.NoError(t, err)
	require.Empty(t, check.Letting, "without rules everything stays")
	check, err = s.Rules.CheckPolicy(t.Context(), "policy: p\nvolumes: {k: v}\ntake: [now and then]\n")
	require.NoError(t, err)
	require.Equal(t, 3, check.Problems[0].Line)
	st, err := s.Overview.Status()
	require.NoError(t, err)
	require.Equal(t, "The one volume is on target.", st.Sentences[0].Text)
	out, err := s.Rules.RemovePolicy("p", "test", false)
	require.NoError(t, err)
	require.Contains(t, out, "No policy chooses notes")
	st, err = s.Overview.Status()
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(st.Sentences, func(x api.Sentence) bool {
		return strings.HasPrefix(x.Text, "notes is unprotected")
	}))
}
