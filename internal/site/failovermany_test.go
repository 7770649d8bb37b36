package site

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

// Many volumes are taken over and come home: all of them are up, and what is carried home is what changed. How long it
// took, step by step, is in the log.
func TestFailoverOfMany(t *testing.T) {
	many := 6
	if n, err := strconv.Atoi(os.Getenv("CANDID_MANY")); err == nil {
		many = n
	}
	w := newWorld(t)
	home, dr := w.twoSites()
	var names, paths []string
	random := rand.New(rand.NewPCG(3, 4))
	noise := func(n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(random.Uint32())
		}
		return string(b)
	}
	for i := range many {
		dir := w.share(home, fmt.Sprint("tree-", i))
		for k := range 20 {
			w.write(dir, fmt.Sprint("f", k), noise(8<<10))
		}
		name := fmt.Sprint("disk-", i)
		w.disk(home, name)
		d := must(home.Disks.Disk(name))
		require.NoError(t, d.WriteAt(w.ctx, []byte(noise(64<<10)), 4096, true))
		names = append(names, fmt.Sprint("tree-", i), name)
		paths = append(paths, fmt.Sprintf("tree-%d: %s", i, filepath.Join(w.dir, "up", fmt.Sprint(i))))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "up"), 0o755))
	_, err := home.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "large", SizeBytes: 100 << 30})
	require.NoError(t, err)
	names = append(names, "large")
	_, err = home.Routes.AddRoute(api.RouteAdd{Name: "to-dr", To: "dr", Names: names,
		Terms: api.RouteTerms{When: "on demand", Standby: "exact"}})
	require.NoError(t, err)
	for _, n := range names {
		w.done(home)(home.Capture.TakeSnapshot(n, api.SnapshotTake{}, "test"))
	}
	w.done(home)(home.Routes.RunRoute("to-dr", "test"))
	w.settles(dr, "standby")
	_, err = dr.Failover.PutRunbook(fmt.Sprintf("runbook: all\nat: dr\nbring_up: [[%s], large]\npaths: {%s}\n",
		strings.Join(names[:len(names)-1], ", "), strings.Join(paths, ", ")), "test")
	require.NoError(t, err)
	took := func(what string, began time.Time, f *api.Failover) {
		t.Logf("%s: %s", what, time.Since(began).Round(time.Millisecond))
		for _, st := range f.Steps {
			t.Logf("  %s: %s", st.Text[:min(len(st.Text), 60)], st.Said)
		}
	}
	w.cut(true, home, dr)
	began := time.Now()
	took("unplanned", began, w.over(dr)(dr.Failover.Failover(w.ctx, "all", api.FailoverAsk{Unplanned: true}, "test")))
	for i := range many {
		require.Len(t, readContents(t, filepath.Join(w.dir, "up", fmt.Sprint(i))), 21)
		require.True(t, dr.Disks.IsOpen(fmt.Sprintf("disk-%d@home", i)))
	}
	require.EqualValues(t, 100<<30, must(dr.Disks.Disk("large@home")).Size())

	// A tenth changes while away.
	changed := int64(0)
	for i := range many {
		w.write(filepath.Join(w.dir, "up", fmt.Sprint(i)), "f3", noise(16<<10))
		d := must(dr.Disks.Disk(fmt.Sprintf("disk-%d@home", i)))
		require.NoError(t, d.WriteAt(w.ctx, []byte(noise(16<<10)), 64<<10, true))
		changed += 32 << 10
	}
	w.cut(false, home, dr)
	w.greet(home, "dr")
	w.settles(home, "stand-back")
	var holds [][]byte
	for i := range many {
		holds = append(holds, w.diskBytes(dr, fmt.Sprintf("disk-%d@home", i)))
	}
	began = time.Now()
	took("home again", began, w.over(home)(home.Failover.Failback(w.ctx, "all", api.FailoverAsk{}, "test")))
	r := must(dr.Routes.Route("back-to-home"))
	t.Logf("changed %d bytes, carried %d", changed, r.SentBytes)
	require.Less(t, float64(r.SentBytes), 1.1*float64(changed))
	for i := range many {
		require.Equal(t, readContents(t, filepath.Join(w.dir, "up", fmt.Sprint(i))),
			readContents(t, filepath.Join(w.dir, "shares", fmt.Sprint("tree-", i))))
		require.True(t, bytes.Equal(holds[i], w.diskBytes(home, fmt.Sprint("disk-", i))))
	}
}
