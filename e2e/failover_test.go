package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// moving are two sites as processes, of which one is active of a directory and a disk, and lines that break.
type moving struct {
	t     testing.TB
	rng   *rand.Rand
	base  string
	sites map[string]*proc
	wires map[string]*wire
	known map[string]string // what snapshots hold that were acknowledged, by snapshot
	taker map[string]string
	disks map[string]bool
	was   map[string]bool // states that were there, as acknowledged to who wrote
	n     int
}

func (m *moving) name(site, volume string) string {
	if site == "larkfield" {
		return volume
	}
	return volume + "@larkfield"
}

func (m *moving) dir(site string) string {
	if site == "larkfield" {
		return filepath.Join(m.base, "share")
	}
	return filepath.Join(m.base, "up")
}

const movingDisk = 8 << 20

func newMoving(t *testing.T, rng *rand.Rand) *moving {
	base := t.TempDir()
	m := &moving{t: t, rng: rng, base: base, sites: map[string]*proc{}, wires: map[string]*wire{},
		known: map[string]string{},
		taker: map[string]string{}, disks: map[string]bool{}, was: map[string]bool{}}
	require.NoError(t, os.Mkdir(filepath.Join(base, "share"), 0o755))
	churn(t, rng, filepath.Join(base, "share"), 40)
	for _, name := range []string{"larkfield", "stonewick"} {
		p := serve(t, filepath.Join(base, name), name, base)
		p.stop()
		fixPorts(t, p)
		m.wires[name] = newWire(t, 0)
		setting(t, p, "peer_addresses", fmt.Sprintf("[%q]", m.wires[name].addr()))
		p.start()
		m.wires[name].mend(peerPort(t, p))
		m.sites[name] = p
	}
	a, b := m.sites["larkfield"], m.sites["stonewick"]
	a.run("volume", "add", "notes", "--path", filepath.Join(base, "share"), "--label", "k=v")
	a.run("volume", "add", "db", "--size", "8MiB", "--label", "k=v")
	pair(t, a, b, "k=v")
	a.run("site", "grant", "stonewick", "take-over")
	for site, p := range m.sites {
		body := fmt.Sprintf("runbook: to-%s\nat: %s\nbring_up: [notes, db]\npaths: {notes: %s}\n", site, site, m.dir(site))
		file := filepath.Join(base, site+".yaml")
		require.NoError(t, os.WriteFile(file, []byte(body), 0o600))
		if site == "larkfield" {
			p.run("runbook", "put", file)
			continue
		}
		m.write("larkfield")
		m.take("larkfield")
		a.run("route", "run", "to-dr")
		p.run("runbook", "put", file)
	}
	return m
}

// state is what a site serves: the digest of the directory, and of the disk.
func (m *moving) state(site string) string {
	c, err := dialNBD(filepath.Join(m.sites[site].dir, "nbd.sock"), m.name(site, "db"))
	require.NoError(m.t, err)
	defer c.leave()
	p := make([]byte, movingDisk)
	require.NoError(m.t, c.read(p, 0))
	sum := sha256.Sum256(p)
	return digestOf(m.t, m.dir(site)) + " " + hex.EncodeToString(sum[:])
}

func digestOf(t testing.TB, dir string) string {
	sum, _, _ := strings.Cut(digest(t, dir), " ")
	return sum
}

// write changes both at the active site.
func (m *moving) write(site string) {
	m.n++
	churn(m.t, m.rng, m.dir(site), 5)
	c, err := dialNBD(filepath.Join(m.sites[site].dir, "nbd.sock"), m.name(site, "db"))
	require.NoError(m.t, err)
	for range 8 {
		p := make([]byte, 4096*(1+m.rng.IntN(4)))
		for i := range p {
			p[i] = byte(m.n)
		}
		require.NoError(m.t, c.write(p, int64(m.rng.IntN(movingDisk/4096-4))*4096))
	}
	require.NoError(m.t, c.flush())
	c.leave()
	m.was[m.state(site)] = true
}

func (m *moving) take(site string) {
	p := m.sites[site]
	for _, v := range []string{"notes", "db"} {
		out := p.run("snapshot", "take", m.name(site, v), "--json")
		id := out[strings.Index(out, `"id": "`)+7:][:64]
		parts := strings.Fields(m.state(site))
		m.known[id], m.taker[id] = parts[0], site
		if v == "db" {
			m.known[id], m.disks[id] = parts[1], true
		}
	}
}

// active is the one site that is active by what both say.
func (m *moving) active() string {
	var all []string
	for site, p := range m.sites {
		var a struct{ Active string }
		p.json(&a, "authority", "show", m.name(site, "notes"))
		var d struct{ Active string }
		p.json(&d, "authority", "show", m.name(site, "db"))
		require.Equal(m.t, a.Active, d.Active, "at %s", site)
		all = append(all, a.Active)
	}
	require.Equal(m.t, all[0], all[1], "who is active")
	return all[0]
}

// heal has all lines whole, and what was begun come to its end.
func (m *moving) heal() {
	for site, p := range m.sites {
		m.wires[site].mend(peerPort(m.t, p))
	}
	for i := range 3 {
		for site, p := range m.sites {
			other := map[string]string{"larkfield": "stonewick", "stonewick": "larkfield"}[site]
			if _, err := p.try("site", "check", other); err != nil {
				require.Less(m.t, i, 2, "%s", err)
			}
		}
	}
	for site, p := range m.sites {
		for tries := 0; ; tries++ {
			var all []struct{ State, Kind, Sentence string }
			p.json(&all, "failover", "list")
			open := ""
			for _, f := range all {
				if f.State == "running" || f.State == "waiting" || f.State == "stopped" {
					open = f.State + " " + f.Kind + ": " + f.Sentence
				}
				if f.State == "stopped" {
					p.try("failover", "to-"+site, "--"+f.Kind, "--yes", "--anyway")
				}
			}
			if open == "" {
				break
			}
			require.Less(m.t, tries, 600, "at %s: %s", site, open)
			time.Sleep(50 * time.Millisecond)
		}
	}
	for site, p := range m.sites { // what the last of it told
		other := map[string]string{"larkfield": "stonewick", "stonewick": "larkfield"}[site]
		p.run("site", "check", other)
	}
}

// Two sites move a directory and a disk between them, with and without the other one's help, while either is killed and
// lines break at random. In the end one is active, it serves a state that was there, and all that was
// acknowledged can be
// brought back. CANDID_MOVE_ROUNDS sets how often.
func TestMoves(t *testing.T) {
	rounds, rng := chance(t, "CANDID_MOVE", 20)
	m := newMoving(t, rng)
	for round := range rounds {
		at := m.active()
		other := map[string]string{"larkfield": "stonewick", "stonewick": "larkfield"}[at]
		m.write(at)
		if rng.IntN(2) == 0 {
			m.take(at)
		}
		m.write(at)
		seed := fmt.Sprint(rng.Uint32())
		m.fio(at, seed, "--do_verify=0", "--end_fsync=1")
		m.was[m.state(at)] = true
		how := []string{"--planned", "--planned", "--unplanned", "--unplanned", "drill"}[rng.IntN(5)]
		trouble := []string{"none", "kill " + at, "kill " + other, "cut", "cut"}[rng.IntN(5)]
		if how == "--unplanned" && trouble == "none" {
			trouble = "kill " + at
		}
		loaded := how != "--unplanned" && rng.IntN(2) == 0
		t.Logf("round %d: %s from %s to %s, %s, load %t", round, how, at, other, trouble, loaded)
		if trouble == "cut" {
			for _, w := range m.wires {
				w.breakAfter(int64(rng.IntN(60 << 10)))
			}
		}
		var load *diskLoad
		if loaded {
			load = m.load(at)
		}
		done, began := make(chan string, 1), time.Now()
		go func() {
			act := []string{"failover", "to-" + other, how, "--yes", "--anyway"}
			if how == "drill" {
				act = []string{"drill", "start", "to-" + other, "--keep", "none"}
			}
			out, err := m.sites[other].try(act...)
			done <- fmt.Sprint(out, err)
		}()
		said := ""
		if victim, kill := strings.CutPrefix(trouble, "kill "); kill {
			select {
			case <-time.After(time.Duration(rng.IntN(600)) * time.Millisecond):
			case said = <-done:
			}
			m.sites[victim].kill()
			if said == "" {
				if victim == at {
					m.sites[victim].start()
				}
				said = <-done
			}
			if m.sites[victim].cmd == nil {
				m.sites[victim].start()
			}
		} else if trouble == "cut" {
			select {
			case <-time.After(time.Duration(rng.IntN(3000)) * time.Millisecond):
			case said = <-done:
			}
			for site, p := range m.sites {
				m.wires[site].mend(peerPort(t, p))
			}
			if said == "" {
				said = <-done
			}
		} else {
			said = <-done
		}
		moved := time.Since(began)
		m.heal()
		t.Logf("  %s, healed in %s: %s", moved.Round(time.Millisecond), (time.Since(began) - moved).Round(time.Millisecond),
			strings.ReplaceAll(said, "\n", "; "))
		now := m.active()
		if loaded {
			load.holds(m, now)
		}
		m.drilled(t, other)
		if how == "drill" {
			require.Equal(t, at, now, "a drill moves nothing")
		}
		if how != "--unplanned" && !loaded {
			m.fio(now, seed, "--verify_only")
		}
		state := m.state(now)
		if how != "--unplanned" && !loaded && !m.was[state] {
			require.Fail(t, "it serves what was never there", "%s at %s: %s", trouble, now, said)
		}
		if how == "--planned" && trouble == "none" {
			require.Equal(t, other, now, said)
		}
		m.write(now)
		m.take(now)
	}
	for id, holds := range m.known {
		site := m.taker[id]
		to := filepath.Join(m.base, "back-"+id[:12])
		if m.disks[id] {
			m.sites[site].run("restore", m.name(site, "db"), "--at", id, "--to", to)
			raw, err := os.ReadFile(to)
			require.NoError(t, err)
			sum := sha256.Sum256(raw)
			require.Equal(t, holds, hex.EncodeToString(sum[:]))
		} else {
			m.sites[site].run("restore", m.name(site, "notes"), "--at", id, "--to", to)
			require.Equal(t, holds, digestOf(t, to))
		}
		require.NoError(t, os.RemoveAll(to))
	}
}
