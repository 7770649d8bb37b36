package site

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"

	"github.com/stretchr/testify/require"
)

// contents is what a directory holds: path to kind, mode and bytes.
type contents map[string]string

func readContents(t testing.TB, dir string) contents {
	c := contents{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || path == dir {
			return err
		}
		rel, _ := filepath.Rel(dir, path)
		info, err := d.Info()
		if err != nil {
			return err
		}
		switch {
		case d.IsDir():
			c[rel] = "dir " + info.Mode().Perm().String()
		case d.Type() == fs.ModeSymlink:
			to, err := os.Readlink(path)
			c[rel] = "link " + to
			return err
		default:
			b, err := os.ReadFile(path)
			c[rel] = fmt.Sprintf("file %s %d %s", info.Mode().Perm(), info.ModTime().UnixNano(), b)
			return err
		}
		return nil
	})
	require.NoError(t, err)
	return c
}

// line is a TCP proxy before a site; it can cut connections after some bytes.
type line struct {
	l      net.Listener
	target atomic.Pointer[string]
	left   atomic.Int64 // bytes until the cut; negative: never
}

func newLine(t *testing.T) *line {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &line{l: l}
	p.left.Store(-1)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go p.serve(in)
		}
	}()
	return p
}

func (p *line) serve(in net.Conn) {
	defer in.Close()
	out, err := net.Dial("tcp", *p.target.Load())
	if err != nil {
		return
	}
	defer out.Close()
	go func() { io.Copy(in, out); in.Close() }()
	buf := make([]byte, 8<<10)
	for {
		n, err := in.Read(buf)
		if left := p.left.Load(); left >= 0 {
			if p.left.Add(-int64(n)) <= 0 {
				p.left.Store(0)
				return
			}
		}
		if n > 0 {
			if _, err := out.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// model is two sites, what was done to them, and what must therefore be restorable.
type model struct {
	*world
	rng         *rand.Rand
	line        *line
	here, there *Site
	dir         string
	at          map[string]contents // by snapshot: what the volume held
	graced      map[string]bool     // site and snapshot: was seen in grace, so may go
	gone        map[string]bool     // site and snapshot: was there before
	log         []string
	next        int
}

func (m *model) openThere() {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(m.t, err)
	to := l.Addr().String()
	m.line.target.Store(&to)
	m.there, err = Open(Options{Data: filepath.Join(m.world.dir, "there"), Name: "there", Roots: []string{m.world.dir},
		Clock:  m.clock,
		Listen: "127.0.0.1:0"})
	require.NoError(m.t, err)
	m.there.Conf.PeerAddresses = []string{m.line.l.Addr().String()}
	go m.there.Pairing.ServePeers(l)
}

func (m *model) openHere() {
	var err error
	m.here, err = Open(Options{Data: filepath.Join(m.world.dir, "here"), Name: "here", Roots: []string{m.world.dir},
		Clock: m.clock, Listen: "127.0.0.1:0"})
	require.NoError(m.t, err)
}

func newModel(t *testing.T, seed uint64) *model {
	m := &model{world: newWorld(t), rng: rand.New(rand.NewPCG(seed, 1)), line: newLine(t), at: map[string]contents{},
		graced: map[string]bool{}, gone: map[string]bool{}}
	m.openHere()
	m.openThere()
	t.Cleanup(func() { m.here.Close(); m.there.Close() })
	m.dir = m.share(m.here, "notes")
	m.policy(m.here, everySix)
	inv, err := m.there.Pairing.Invite(nil)
	require.NoError(t, err)
	_, err = m.here.Pairing.Pair(m.ctx, inv.Text, nil)
	require.NoError(t, err)
	_, err = m.here.Routes.AddRoute(api.RouteAdd{Name: "r", To: "there", Labels: map[string]string{"k": "v"}})
	require.NoError(t, err)
	return m
}

func (m *model) text() string {
	n := []int{0, 5, 300, 40_000, 700_000}[m.rng.IntN(5)]
	if m.rng.IntN(3) > 0 { // repeats what others hold, so that snapshots and files share objects
		return strings.Repeat(fmt.Sprint("page ", m.rng.IntN(6), " "), n/7)
	}
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(m.rng.Uint32())
	}
	return string(b)
}

// write changes the live volume at random.
func (m *model) write() {
	for range 1 + m.rng.IntN(5) {
		name := fmt.Sprintf("d%d/e%d/f%d", m.rng.IntN(3), m.rng.IntN(2), m.rng.IntN(4))
		path := filepath.Join(m.dir, name)
		switch m.rng.IntN(7) {
		case 0:
			require.NoError(m.t, os.RemoveAll(filepath.Join(m.dir, name[:2])))
		case 1:
			os.Remove(path)
		case 2:
			require.NoError(m.t, os.MkdirAll(filepath.Dir(path), 0o755))
			os.Remove(path)
			require.NoError(m.t, os.Symlink(fmt.Sprint("to/", m.rng.IntN(9)), path))
		case 3:
			to := filepath.Join(m.dir, fmt.Sprintf("d%d", m.rng.IntN(3)))
			if _, err := os.Lstat(to); errors.Is(err, fs.ErrNotExist) {
				os.Rename(filepath.Join(m.dir, name[:2]), to)
			}
		default:
			require.NoError(m.t, os.MkdirAll(filepath.Dir(path), 0o755))
			os.Remove(path)
			require.NoError(m.t, os.WriteFile(path, []byte(m.text()), 0o600|fs.FileMode(m.rng.IntN(64))))
		}
	}
}

// learn notes what appeared since, and checks that nothing went that was not let go.
func (m *model) learn() {
	live := readContents(m.t, m.dir)
	for _, side := range []struct {
		s      *Site
		volume string
	}{{m.here, "notes"}, {m.there, "notes@here"}} {
		have := map[string]bool{}
		for i, r := range m.rows(side.s, side.volume) {
			key := side.s.Name() + " " + r.ID
			have[key] = true
			if _, known := m.at[r.ID]; !known {
				require.Same(m.t, m.here, side.s, "a snapshot nobody took appeared there")
				m.at[r.ID] = live
			}
			m.gone[key] = true
			m.graced[key] = !r.GraceUntil.IsZero()
			require.False(m.t, m.graced[key] && i == 0 && r.LetGo != rules.RemovedByHand, "the newest is in grace")
		}
		for key := range m.gone {
			if strings.HasPrefix(key, side.s.Name()+" ") && !have[key] {
				require.True(m.t, m.graced[key], "%s went without grace", key)
				delete(m.gone, key)
			}
		}
	}
}

// same restores a snapshot at a site and compares with what was there when it was taken.
func (m *model) same(s *Site, volume, id string) {
	m.next++
	to := filepath.Join(m.world.dir, "out", strconv.Itoa(m.next))
	m.done(s)(s.Recovery.Restore(context.Background(), api.RestoreAsk{Volume: volume, At: id, To: to}, "model"))
	want, got := m.at[id], readContents(m.t, to)
	if !maps.Equal(want, got) {
		require.Equal(m.t, slices.Sorted(maps.Keys(want)), slices.Sorted(maps.Keys(got)), "names of %s at %s", id[:12],
			s.Name())
		for k := range want {
			require.Equal(m.t, want[k], got[k], "%s of %s at %s", k, id[:12], s.Name())
		}
	}
	require.NoError(m.t, os.RemoveAll(to))
}

// checkSome restores one random snapshot of either site, or all of them.
func (m *model) checkSome(all bool) {
	for s, v := range map[*Site]string{m.here: "notes", m.there: "notes@here"} {
		rows := m.rows(s, v)
		if len(rows) == 0 {
			continue
		}
		if !all {
			rows = []*catalog.Snapshot{rows[m.rng.IntN(len(rows))]}
		}
		for _, r := range rows {
			m.same(s, v, r.ID)
		}
	}
}

// crash replaces a site by what its directory held at an instant, without a stop.
func (m *model) crash(s **Site, open func(), lose string) {
	dir := (*s).Path
	require.NoError(m.t, exec.Command("cp", "-a", dir, dir+".image").Run())
	require.NoError(m.t, (*s).Close())
	require.NoError(m.t, os.RemoveAll(dir))
	require.NoError(m.t, os.Rename(dir+".image", dir))
	for _, p := range strings.Fields(lose) {
		require.NoError(m.t, os.RemoveAll(filepath.Join(dir, p)))
	}
	open()
}

func (m *model) either() *Site {
	if m.rng.IntN(2) == 0 {
		return m.here
	}
	return m.there
}

func (m *model) wait(s *Site, r api.Run, err error) api.Run {
	require.NoError(m.t, err)
	r, err = s.Run.Wait(m.ctx, r.ID)
	require.NoError(m.t, err)
	return r
}

func (m *model) step() {
	acts := []struct {
		name   string
		weight int
		do     func()
	}{
		{"write", 8, m.write},
		{"due", 8, func() {
			next, err := m.here.Step(m.ctx, true)
			require.NoError(m.t, err)
			m.learn()
			m.clock.Set(next)
			_, err = m.here.Step(m.ctx, true)
			require.NoError(m.t, err)
			m.learn()
			_, err = m.here.Step(m.ctx, true) // carries what was taken
			require.NoError(m.t, err)
		}},
		{"by hand", 2, func() {
			m.clock.Set(m.clock.Now().Add(time.Minute))
			m.done(m.here)(m.here.Capture.TakeSnapshot("notes", api.SnapshotTake{Note: "n", Labels: map[string]string{"a": "b"}},
				"model"))
		}},
		{"prune", 4, func() { s := m.either(); m.done(s)(s.Rules.Prune("", "model")) }},
		{"sweep", 4, func() { s := m.either(); m.done(s)(s.Upkeep.Sweep(m.rng.IntN(2) == 0, "model")) }},
		{"days pass", 2, func() { m.clock.Set(m.clock.Now().Add(time.Duration(10+m.rng.IntN(50)) * time.Hour)) }},
		{"carry", 2, func() {
			m.line.left.Store(-1)
			r, err := m.here.Routes.RunRoute("r", "model")
			r = m.wait(m.here, r, err)
			require.Equal(m.t, "done", r.State, r.Outcome)
			work, err := m.here.Routes.RouteWork(must(m.here.Catalog.Route("r")))
			require.NoError(m.t, err)
			require.Empty(m.t, work[0].Want)
		}},
		{"cut", 4, func() {
			m.line.left.Store(int64(m.rng.IntN(200_000)))
			m.here.Pairing.CutLine(true) // a connection from before the cut would not feel it
			m.here.Pairing.CutLine(false)
			m.write()
			m.clock.Set(m.clock.Now().Add(time.Minute))
			m.done(m.here)(m.here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "model"))
			m.learn()
			r, err := m.here.Routes.RunRoute("r", "model")
			m.wait(m.here, r, err)
			m.line.left.Store(-1)
		}},
		{"crash here", 2, func() { m.crash(&m.here, m.openHere, "") }},
		{"crash there", 2, func() { m.crash(&m.there, m.openThere, "") }},
		{"lose index there", 1, func() { m.crash(&m.there, m.openThere, "store/index store/census") }},
		{"lose ordinals and census here", 1, func() { m.crash(&m.here, m.openHere, "store/census scan") }},
		{"stop during work", 3, func() {
			m.write()
			_, err := m.here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "model")
			require.NoError(m.t, err)
			_, err = m.here.Routes.RunRoute("r", "model")
			require.NoError(m.t, err)
			_, err = m.there.Upkeep.Sweep(true, "model")
			require.NoError(m.t, err)
			if m.rng.IntN(2) == 0 {
				require.NoError(m.t, m.there.Close())
				m.openThere()
			}
			require.NoError(m.t, m.here.Close())
			m.openHere()
		}},
		{"remove by hand", 2, func() {
			s := m.here
			rows := m.rows(s, "notes")
			if len(rows) < 2 {
				return
			}
			row := rows[1+m.rng.IntN(len(rows)-1)]
			if !row.GraceUntil.IsZero() {
				_, err := s.Rules.RecallSnapshot(row.ID)
				require.NoError(m.t, err)
				return
			}
			_, err := s.Rules.RemoveSnapshot(row.ID)
			require.NoError(m.t, err)
		}},
		{"remove at once", 2, func() {
			s := m.either()
			name := "notes"
			if s == m.there {
				name = "notes@here"
			}
			rows := m.rows(s, name)
			if len(rows) == 0 {
				return
			}
			row := rows[m.rng.IntN(len(rows))]
			done, err := s.Rules.RemoveAtOnce(api.RemoveAtOnce{Snapshots: []string{row.ID}, Type: name}, "model")
			if err != nil {
				require.Equal(m.t, refusal.Conflict, refusal.ClassOf(err), err)
				return
			}
			require.Len(m.t, done.Going, 1)
			require.False(m.t, s.Store.HasRoot(must(object.ParseID(row.ID))))
			m.graced[s.Name()+" "+row.ID] = true // this alone may be gone
			for _, r := range m.rows(s, name) {
				require.NotEqual(m.t, row.ID, r.ID)
			}
		}},
		{"restore in place", 2, func() {
			rows := m.rows(m.here, "notes")
			if len(rows) == 0 {
				return
			}
			row := rows[m.rng.IntN(len(rows))]
			before := readContents(m.t, m.dir)
			m.clock.Set(m.clock.Now().Add(time.Minute))
			m.done(m.here)(m.here.Recovery.Restore(context.Background(), api.RestoreAsk{Volume: "notes", At: row.ID,
				InPlace: true}, "model"))
			for _, r := range m.rows(m.here, "notes") {
				if _, known := m.at[r.ID]; !known {
					require.Equal(m.t, "safety", r.Cause)
					m.at[r.ID] = before
				}
			}
			require.Equal(m.t, m.at[row.ID], readContents(m.t, m.dir), "in place it is as it was")
		}},
		{"verify", 1, func() {
			s := m.either()
			require.Equal(m.t, "done", m.done(s)(s.Upkeep.Verify("model")).State)
		}},
	}
	total := 0
	for _, a := range acts {
		total += a.weight
	}
	pick := m.rng.IntN(total)
	for _, a := range acts {
		if pick -= a.weight; pick < 0 {
			m.log = append(m.log, a.name)
			a.do()
			m.learn()
			m.checkSome(false)
			looksAlike(m.t, m.here)
			looksAlike(m.t, m.there)
			return
		}
	}
}

// looksAlike asks how all stands, with what is kept of looks before, and anew: whatever changed was told.
func looksAlike(t testing.TB, s *Site) {
	t.Helper()
	events, end := s.Run.Subscribe()
	defer end()
	kept := must(s.Overview.Status())
	anew := must(s.Overview.StatusAnew())
	if reflect.DeepEqual(anew.Volumes, kept.Volumes) && reflect.DeepEqual(anew.Routes, kept.Routes) {
		return
	}
	late := time.After(5 * time.Second)
	for {
		select {
		case e := <-events: // something changed between the two looks
			if slices.Contains([]string{"snapshots", "volumes", "routes", "policies", "groups"}, e.Topic) {
				return
			}
		case <-late:
			require.Equal(t, anew.Volumes, kept.Volumes)
			require.Equal(t, anew.Routes, kept.Routes)
		}
	}
}

// Whatever happens to two sites in whatever order, what they list can be restored bit
// for bit as it was when it was taken, and nothing goes that was not in grace before.
func TestModelOfBothSites(t *testing.T) {
	seeds, steps := 6, 60
	if n, err := strconv.Atoi(os.Getenv("CANDID_MODEL_ROUNDS")); err == nil {
		seeds = n
	}
	for seed := range seeds {
		t.Run(strconv.Itoa(seed), func(t *testing.T) {
			m := newModel(t, uint64(seed))
			defer func() {
				if t.Failed() {
					t.Logf("steps: %s", strings.Join(m.log, ", "))
				}
			}()
			for range steps {
				m.step()
			}
			m.line.left.Store(-1)
			r, err := m.here.Routes.RunRoute("r", "model")
			require.Equal(t, "done", m.wait(m.here, r, err).State)
			m.checkSome(true)
			for _, s := range []*Site{m.here, m.there} {
				require.Equal(t, "done", m.done(s)(s.Upkeep.Verify("model")).State)
			}
		})
	}
}
