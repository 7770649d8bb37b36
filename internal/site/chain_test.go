package site

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/rules"

	"github.com/stretchr/testify/require"
)

// chain is three sites: a carries to b and to c, and b carries on to c what a brought.
type chain struct {
	*world
	rng   *rand.Rand
	sites map[string]*Site
	lines map[string]*line
	dir   string
	at    map[string]contents // by snapshot: what the volume held
	there map[string]string   // site and snapshot: when it was seen there last, in grace or not
	log   []string
	next  int
}

var chainVolume = map[string]string{"a": "notes", "b": "notes@a", "c": "notes@a"}

const chainKeep = "keep:\n  a: {newest: 2, daily: 2}\n  b: {newest: 1, daily: 3}\n  c: {daily: 6, weekly: " +
	"3}\ngrace: 12 hours\n"

func (c *chain) start(name string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(c.t, err)
	to := l.Addr().String()
	c.lines[name].target.Store(&to)
	s, err := Open(Options{Data: filepath.Join(c.world.dir, name), Name: name, Roots: []string{c.world.dir},
		Setup: c.settle, Clock: c.clock, Listen: "127.0.0.1:0"})
	require.NoError(c.t, err)
	s.Conf.PeerAddresses = []string{c.lines[name].l.Addr().String()}
	go s.Pairing.ServePeers(l)
	c.sites[name] = s
}

func newChain(t *testing.T, seed uint64) *chain {
	c := &chain{world: newWorld(t), rng: rand.New(rand.NewPCG(seed, 3)), sites: map[string]*Site{},
		lines: map[string]*line{}, at: map[string]contents{}, there: map[string]string{}}
	for name := range chainVolume {
		c.lines[name] = newLine(t)
		c.start(name)
	}
	t.Cleanup(func() {
		for _, s := range c.sites {
			s.Close()
		}
	})
	c.dir = c.share(c.sites["a"], "notes")
	c.policy(c.sites["a"], "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\n"+chainKeep)
	for _, pair := range []string{"ab", "bc", "ac"} {
		c.pair(c.sites[pair[:1]], c.sites[pair[1:]])
	}
	c.routeTo("a", "b")
	c.routeTo("a", "c")
	c.write(c.dir, "a", "begun")
	c.take()
	c.carry("a", "b")
	c.routeTo("b", "c")
	return c
}

func (c *chain) routeTo(from, to string) {
	_, err := c.sites[from].Routes.AddRoute(api.RouteAdd{Name: "to-" + to, To: to, Names: []string{chainVolume[from]}})
	require.NoError(c.t, err)
}

func (c *chain) take() {
	c.clock.Set(c.clock.Now().Add(time.Minute))
	c.done(c.sites["a"])(c.sites["a"].Capture.TakeSnapshot("notes", api.SnapshotTake{}, "model"))
	c.learn()
}

// carry runs a route, and says whether it could.
func (c *chain) carry(from, to string) bool {
	r, err := c.sites[from].Routes.RunRoute("to-"+to, "model")
	require.NoError(c.t, err)
	r, err = c.sites[from].Run.Wait(c.ctx, r.ID)
	require.NoError(c.t, err)
	c.learn()
	return r.State == "done"
}

// learn notes what appeared, and checks that nothing went that was not let go before.
func (c *chain) learn() {
	live := readContents(c.t, c.dir)
	for _, name := range []string{"a", "b", "c"} {
		have, s := map[string]bool{}, c.sites[name]
		for i, r := range c.rows(s, chainVolume[name]) {
			if _, known := c.at[r.ID]; !known {
				require.Equal(c.t, "a", name, "a snapshot nobody took appeared")
				c.at[r.ID] = live
			}
			key := name + " " + r.ID
			have[key] = true
			c.there[key] = "kept"
			if !r.GraceUntil.IsZero() {
				c.there[key] = "in grace"
				require.True(c.t, i > 0 || r.LetGo == rules.RemovedByHand, "the newest at %s is in grace: %s", name, r.LetGo)
			}
		}
		for key, was := range c.there {
			if strings.HasPrefix(key, name+" ") && !have[key] {
				require.Equal(c.t, "in grace", was, "%s went without grace", key)
				delete(c.there, key)
			}
		}
	}
}

// check restores snapshots at every site, a random one each or all, and compares.
func (c *chain) check(all bool) {
	for name, s := range c.sites {
		rows := slices.DeleteFunc(c.rows(s, chainVolume[name]), func(r *catalog.Snapshot) bool {
			return !r.GraceUntil.IsZero() && !c.clock.Now().Before(r.GraceUntil.Time) // the schedule may be removing it
		})
		if len(rows) > 0 && !all {
			i := c.rng.IntN(len(rows))
			rows = rows[i : i+1]
		}
		for _, r := range rows {
			c.next++
			to := filepath.Join(c.world.dir, "out", strconv.Itoa(c.next))
			c.done(s)(s.Recovery.Restore(context.Background(), api.RestoreAsk{Volume: chainVolume[name], At: r.ID, To: to},
				"model"))
			require.True(c.t, maps.Equal(c.at[r.ID], readContents(c.t, to)), "%s at %s is not as it was", r.ID[:12], name)
			require.NoError(c.t, os.RemoveAll(to))
		}
	}
}

func (c *chain) step() {
	names := []string{"a", "b", "c"}
	any := names[c.rng.IntN(3)]
	s := c.sites[any]
	pairs := []string{"ab", "bc", "ac"}
	pair := pairs[c.rng.IntN(3)]
	from, to := pair[:1], pair[1:]
	acts := []struct {
		name string
		do   func()
	}{
		{"write and take", func() {
			c.write(c.dir, fmt.Sprint("f", c.rng.IntN(6)), strings.Repeat(fmt.Sprint("text ", c.rng.IntN(1000)),
				1+c.rng.IntN(3000)))
			c.take()
		}},
		{"carry " + pair, func() { c.carry(from, to) }},
		{"carry both ways at once", func() {
			for _, p := range pairs {
				_, err := c.sites[p[:1]].Routes.RunRoute("to-"+p[1:], "model")
				require.NoError(c.t, err)
			}
			c.take()
		}},
		{"six hours pass", func() { c.until(c.sites["a"], c.clock.Now().Add(6*time.Hour)) }},
		{"days pass", func() { c.clock.Set(c.clock.Now().Add(time.Duration(10+c.rng.IntN(40)) * time.Hour)) }},
		{"prune " + any, func() { c.done(s)(s.Rules.Prune("", "model")) }},
		{"sweep " + any, func() { c.done(s)(s.Upkeep.Sweep(c.rng.IntN(2) == 0, "model")) }},
		{"prune and sweep in the middle", func() {
			c.done(c.sites["b"])(c.sites["b"].Rules.Prune("", "model"))
			c.learn()
			c.clock.Set(c.clock.Now().Add(13 * time.Hour))
			c.done(c.sites["b"])(c.sites["b"].Rules.Prune("", "model"))
			c.done(c.sites["b"])(c.sites["b"].Upkeep.Sweep(false, "model"))
		}},
		{"remove by hand at " + any, func() {
			rows := c.rows(s, chainVolume[any])
			if len(rows) == 0 {
				return
			}
			if row := rows[c.rng.IntN(len(rows))]; row.GraceUntil.IsZero() {
				_, err := s.Rules.RemoveSnapshot(row.ID)
				require.NoError(c.t, err)
			}
		}},
		{"new key of " + any + " beside a carry", func() {
			r, err := c.sites[from].Routes.RunRoute("to-"+to, "model")
			require.NoError(c.t, err)
			_, err = s.Pairing.Rotate(c.ctx, false)
			require.NoError(c.t, err)
			_, err = c.sites[from].Run.Wait(c.ctx, r.ID)
			require.NoError(c.t, err)
		}},
		{"restart " + any, func() {
			require.NoError(c.t, s.Close())
			c.start(any)
		}},
		{"another policy", func() {
			a := c.sites["a"]
			body := "policy: q\nvolumes: {other: v}\ntake: [every 6 hours]\n" + strings.Replace(chainKeep, "daily: 6",
				"daily: 4", 1)
			c.policy(a, body)
			labels := []map[string]string{{"k": "v"}, {"other": "v"}, {"k": "v", "other": "v"}}[c.rng.IntN(3)]
			_, err := a.Capture.SetLabels("notes", api.LabelsPut{Labels: labels, Accept: true})
			require.NoError(c.t, err)
		}},
		{"route " + pair + " anew", func() {
			_, err := c.sites[from].Routes.RemoveRoute("to-" + to)
			require.NoError(c.t, err)
			c.routeTo(from, to)
		}},
		{"cut to " + to, func() {
			c.lines[to].left.Store(int64(c.rng.IntN(60_000)))
			for _, x := range c.sites {
				x.Pairing.CutLine(true)
				x.Pairing.CutLine(false)
			}
			c.carry(from, to)
			c.lines[to].left.Store(-1)
		}},
	}
	act := acts[c.rng.IntN(len(acts))]
	c.log = append(c.log, act.name)
	act.do()
	c.learn()
	c.check(false)
}

// Whatever three sites do beside each other, what each lists restores as it was and goes only
// after grace; and in the end each has all that its rules ask for of what its sources have.
func TestModelOfThreeSites(t *testing.T) {
	seeds := 6
	if n, err := strconv.Atoi(os.Getenv("CANDID_MODEL_ROUNDS")); err == nil {
		seeds = n
	}
	for seed := range seeds {
		t.Run(strconv.Itoa(seed), func(t *testing.T) {
			c := newChain(t, uint64(seed))
			defer func() {
				if t.Failed() {
					t.Logf("steps: %s", strings.Join(c.log, ", "))
				}
			}()
			for range 50 {
				c.step()
			}
			c.write(c.dir, "a", "last")
			c.take()
			for _, pair := range []string{"ac", "ab", "bc"} {
				require.True(t, c.carry(pair[:1], pair[1:]), pair)
				for _, w := range must(c.sites[pair[:1]].Routes.RouteWork(must(c.sites[pair[:1]].Catalog.Route("to-" +
					pair[1:])))) {
					require.Empty(t, w.Want, pair)
				}
			}
			newest := c.rows(c.sites["a"], "notes")[0].ID
			for _, name := range []string{"b", "c"} {
				require.Equal(t, newest, c.rows(c.sites[name], "notes@a")[0].ID, "at %s", name)
			}
			c.check(true)
			for _, name := range slices.Sorted(maps.Keys(c.sites)) {
				require.Equal(t, "done", c.done(c.sites[name])(c.sites[name].Upkeep.Verify("model")).State, name)
			}
		})
	}
}
