package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"candidharbor/internal/service"
	"candidharbor/internal/site"

	"github.com/stretchr/testify/require"
)

// fast is a clock, the same in every process, that runs away from began and goes with the
// host's again at the end of the life that is lived through.
type fast struct {
	Began time.Time
	Times float64       // as fast as the host's
	Lasts time.Duration // by the host's
}

func (c fast) Now() time.Time {
	e := time.Since(c.Began)
	if e > c.Lasts {
		return c.end().Add(e - c.Lasts)
	}
	return c.Began.Add(time.Duration(float64(e) * c.Times))
}

func (c fast) end() time.Time { return c.Began.Add(time.Duration(float64(c.Lasts) * c.Times)) }

func (c fast) Until(t time.Time) <-chan time.Time {
	now, wait := c.Now(), time.Duration(0)
	if now.Before(c.end()) {
		wait = time.Duration(float64(minTime(t, c.end()).Sub(now)) / c.Times)
		now = c.end()
	}
	return time.After(wait + max(0, t.Sub(now)))
}

func minTime(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// serveFast serves a site as candid serve does, by the clock that the environment tells.
func serveFast(args []string) error {
	var c fast
	if err := json.Unmarshal([]byte(os.Getenv("CANDID_E2E_CLOCK")), &c); err != nil {
		return err
	}
	opt := site.Options{Clock: c, Logger: slog.New(slog.NewTextHandler(os.Stderr, nil))}
	flags := flag.NewFlagSet("serve", flag.ContinueOnError)
	flags.StringVar(&opt.Data, "data", "", "")
	flags.StringVar(&opt.Name, "name", "", "")
	flags.StringVar(&opt.Listen, "listen", "", "")
	root := flags.String("root", "", "")
	if err := flags.Parse(args); err != nil {
		return err
	}
	opt.Roots = []string{*root}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	svc, err := service.Start(opt)
	if err != nil {
		return err
	}
	fmt.Printf("console and API   %s\nfor other sites   %s\nsign in with      %s\n", svc.URL, svc.PeerAddress,
		svc.FirstToken.Text)
	svc.Work()
	select {
	case <-ctx.Done():
	case err = <-svc.Failed:
	}
	svc.Stop()
	return err
}

// byRules is what a place is to hold of all that was ever taken, reckoned apart from the
// program: the newest ones, and the last of each of the newest hours that have any.
func byRules(ever map[string]snap, newest, hours int) []string {
	all := slices.SortedFunc(maps.Values(ever), func(a, b snap) int { return b.Taken.Compare(a.Taken) })
	keep, seen := map[string]bool{}, map[time.Time]bool{}
	for i, s := range all {
		hour := s.Taken.UTC().Truncate(time.Hour)
		if i < newest || !seen[hour] && len(seen) < hours {
			keep[s.ID] = true
		}
		seen[hour] = true
	}
	return slices.Sorted(maps.Keys(keep))
}

// Three sites live by their rules for hours, by clocks that run 600 times as fast: one
// takes snapshots and pushes, one receives, one pulls. Lines break at any byte, sites are
// killed. In the end each place holds exactly what its rules say of all that was ever
// taken, and the same snapshot is the same, bit for bit, wherever it is. CANDID_LIFE_ROUNDS
// sets how many hours.
func TestLifeByRules(t *testing.T) {
	hours, rng := chance(t, "CANDID_LIFE", 3)
	base := t.TempDir()
	src := filepath.Join(base, "share")
	require.NoError(t, os.Mkdir(src, 0o755))
	churn(t, rng, src, 60)
	self, err := os.Executable()
	require.NoError(t, err)
	sites := map[string]*proc{}
	ever := map[string]snap{}
	toB, toA := newWire(t, 0), newWire(t, 0)
	for name, w := range map[string]*wire{"larkfield": toA, "stonewick": toB, "mereside": nil} {
		p := serve(t, filepath.Join(base, name), name, base)
		p.stop()
		fixPorts(t, p)
		if w != nil {
			setting(t, p, "peer_addresses", fmt.Sprintf("[%q]", w.addr()))
			at := peerPort(t, p)
			w.to.Store(&at)
		}
		p.server, sites[name] = self, p
	}
	t.Cleanup(func() {
		if t.Failed() {
			for name, p := range sites {
				p.kill()
				t.Logf("%s said:\n%s%s", name, p.before.String(), p.out.String())
			}
			for id, s := range ever {
				t.Log(id, s.Taken)
			}
		}
	})
	life := fast{Began: time.Now(), Times: 600, Lasts: time.Duration(hours) * 6 * time.Second}
	clock, err := json.Marshal(life)
	require.NoError(t, err)
	t.Setenv("CANDID_E2E_CLOCK", string(clock))
	for _, p := range sites {
		p.start()
	}
	a, b, c := sites["larkfield"], sites["stonewick"], sites["mereside"]
	a.run("volume", "add", "share", "--path", src, "--label", "k=v")
	a.run("site", "pair", strings.TrimSpace(b.run("site", "invite")))
	c.run("site", "pair", strings.TrimSpace(a.run("site", "invite", "--grant", "read", "--grant", "see")), "--grant",
		"nothing")
	a.run("route", "add", "west", "--to", "stonewick", "--volumes", "k=v")
	c.run("route", "add", "in", "--from", "larkfield", "--volumes", "k=v", "--when", "every 30 minutes")
	rules := filepath.Join(base, "p.yaml")
	require.NoError(t, os.WriteFile(rules, []byte("policy: p\nvolumes: {k: v}\ntake: [every 10 minutes]\nzone: "+
		"UTC\ngrace: 1 second\nkeep:\n"+
		"  larkfield: {newest: 3}\n  stonewick: {newest: 4, hourly: 3}\n  mereside: {hourly: 100}\n"), 0o600))
	a.run("policy", "put", rules)
	c.run("route", "run", "in") // from now on what it keeps is owed to it

	look := func() {
		var list []snap
		if out, err := a.try("snapshot", "list", "share", "--json"); err == nil && json.Unmarshal([]byte(out), &list) == nil {
			for _, s := range list {
				ever[s.ID] = s
			}
		}
	}
	var writing sync.WaitGroup
	writing.Go(func() {
		dice := rand.New(rand.NewPCG(1, 1))
		for n := 0; time.Since(life.Began) < life.Lasts; n++ {
			name := filepath.Join(src, fmt.Sprint("live", dice.IntN(40)))
			err := os.WriteFile(name+"~", fmt.Appendf(nil, "%d %x", n, dice.Uint64()), 0o644)
			if err := errors.Join(err, os.Rename(name+"~", name)); err != nil {
				t.Error(err)
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	names := []string{"larkfield", "stonewick", "mereside"}
	for time.Since(life.Began) < life.Lasts {
		for _, w := range []*wire{toB, toA} {
			w.left.Store(int64(rng.IntN(300_000)))
		}
		time.Sleep(time.Duration(rng.IntN(300)) * time.Millisecond)
		look()
		if rng.IntN(4) == 0 {
			p := sites[names[rng.IntN(3)]]
			p.kill()
			p.start()
		}
		look()
		if rng.IntN(3) == 0 {
			sites[names[rng.IntN(3)]].try("store", "sweep", "--settle")
		}
		look()
	}
	writing.Wait()
	look()
	for _, w := range []*wire{toB, toA} {
		w.left.Store(-1)
	}
	a.run("route", "run", "west")
	c.run("route", "run", "in")
	t.Logf("%d snapshots in %d hours", len(ever), hours)
	require.Greater(t, len(ever), 2*hours) // less than the clock would let it, where the host is slow
	far := "share@larkfield"
	for p, rule := range map[*proc][2]int{a: {3, 0}, b: {4, 3}, c: {0, 100}} {
		v := far
		if p == a {
			v = "share"
		}
		var have, want []string
		for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline) &&
			(have == nil || !slices.Equal(have, want)); {
			p.run("prune")
			look() // the last one may have been taken as the life ended
			a.run("route", "run", "west")
			c.run("route", "run", "in")
			want, have = byRules(ever, rule[0], rule[1]), nil
			for _, s := range p.snapshots(v) {
				if s.State == "kept" {
					have = append(have, s.ID)
				}
			}
			slices.Sort(have)
		}
		require.Equal(t, want, have, p.dir)
		p.run("store", "sweep")
		require.Contains(t, p.run("store", "verify", "--strict"), "all as written")
		proveStores(t, p)
	}
	digests := map[string]string{}
	for p, v := range map[*proc]string{a: "share", b: far, c: far} {
		for _, s := range p.snapshots(v) {
			to := filepath.Join(base, "back")
			p.run("restore", v, "--at", s.ID, "--to", to)
			d := digest(t, to)
			require.Equal(t, d, cmpOr(digests, s.ID, d), "snapshot %s at %s", s.ID, p.dir)
			require.NoError(t, os.RemoveAll(to))
		}
	}
}

// cmpOr returns what is under a key, which is put there when nothing is.
func cmpOr(m map[string]string, key, value string) string {
	if was, is := m[key]; is {
		return was
	}
	m[key] = value
	return value
}
