package site

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"

	"github.com/stretchr/testify/require"
)

// moves are three sites, of which each may take over from the others, what was done to them, and what must therefore
// hold.
type moves struct {
	*world
	rng    *rand.Rand
	sites  map[string]*Site // nil: it is off
	down   map[string]bool
	taken  map[string]state  // by snapshot
	at     map[string]state  // what lies at each site that serves
	by     map[string]string // who took each snapshot
	n      int
	told   []string
	where  map[string]string // others reach each site
	strays map[string]string // what was written last at a site that is not active, by who did not know
	images map[string]bool   // an image of the site's data directory was made
}

// state is what a directory and a disk hold.
type state struct {
	text string
	disk []byte
}

var moveSites = []string{"home", "dr", "vault"}

func newMoves(t *testing.T, seed uint64) *moves {
	m := &moves{world: newWorld(t), rng: rand.New(rand.NewPCG(seed, 17)), sites: map[string]*Site{},
		down: map[string]bool{}, taken: map[string]state{}, at: map[string]state{}, by: map[string]string{},
		where: map[string]string{}, strays: map[string]string{}, images: map[string]bool{}}
	for _, n := range moveSites {
		m.sites[n] = m.open(n)
		m.where[n] = m.sites[n].Pairing.PeerAddress()
	}
	m.share(m.sites["home"], "notes")
	m.disk(m.sites["home"], "store")
	for i, a := range moveSites {
		for _, b := range moveSites[i+1:] {
			m.pair(m.sites[a], m.sites[b])
		}
	}
	for _, a := range moveSites {
		for _, b := range moveSites {
			if a != b {
				_, err := m.sites[a].Pairing.Grant(m.ctx, b, api.GrantAsk{Grants: []string{"take-over", "offer", "see"}})
				require.NoError(t, err)
			}
		}
	}
	for _, to := range []string{"dr", "vault"} {
		_, err := m.sites["home"].Routes.AddRoute(api.RouteAdd{Name: "to-" + to, To: to, Names: []string{"notes", "store"},
			Terms: api.RouteTerms{When: "on demand"}})
		require.NoError(t, err)
	}
	m.at["home"] = state{"first", make([]byte, diskSize)}
	m.take("home")
	m.carry("home")
	for _, n := range moveSites {
		_, err := m.sites[n].Failover.PutRunbook(fmt.Sprintf("runbook: to-%s\nat: %s\nbring_up: [[notes, store]]\n"+
			"paths: {notes: %s}\n", n, n, m.path(n)), "test")
		require.NoError(t, err)
	}
	return m
}

func (m *moves) path(site string) string {
	if site == "home" {
		return filepath.Join(m.dir, "shares", "notes")
	}
	return filepath.Join(m.dir, "at-"+site)
}

func (m *moves) volume(s *Site, name string) *catalog.Volume {
	if s.Name() != "home" {
		name += "@home"
	}
	return must(s.Catalog.Volume(name))
}

// serves reports whether a site that is on serves both volumes.
func (m *moves) serves(site string) bool {
	s := m.sites[site]
	return s != nil && m.volume(s, "notes").ActiveAt(site) && s.Disks.IsOpen(m.volume(s, "store").Name) &&
		m.at[site].disk != nil
}

func (m *moves) say(format string, args ...any) {
	m.told = append(m.told, fmt.Sprintf(format, args...))
}

func (m *moves) write(site string) {
	if !m.serves(site) {
		return
	}
	m.n++
	st := state{fmt.Sprintf("%s %d", site, m.n), slices.Clone(m.at[site].disk)}
	s := m.sites[site]
	d, err := s.Disks.Disk(m.volume(s, "store").Name)
	if err != nil { // it has just learnt that another one is active
		require.False(m.t, m.serves(site), "%v", err)
		return
	}
	m.world.write(m.path(site), "a", st.text)
	off := m.rng.IntN(diskSize - 5000)
	p := bytes.Repeat([]byte{byte(m.n)}, 1+m.rng.IntN(5000))
	require.NoError(m.t, d.WriteAt(m.ctx, p, int64(off), true))
	copy(st.disk[off:], p)
	m.at[site] = st
}

// stray writes where the volume lay, at a site that stood back.
func (m *moves) stray(site string) {
	_, err := os.Stat(filepath.Join(m.path(site), "a"))
	if m.sites[site] == nil || err != nil || m.volume(m.sites[site], "notes").ActiveAt(site) {
		return
	}
	m.n++
	m.strays[site] = fmt.Sprintf("stray at %s %d", site, m.n)
	m.world.write(m.path(site), "a", m.strays[site])
}

func (m *moves) take(site string) {
	if !m.serves(site) {
		return
	}
	s := m.sites[site]
	for _, name := range []string{"notes", "store"} {
		st := m.at[site]
		r, err := s.Capture.TakeSnapshot(m.volume(s, name).Name, api.SnapshotTake{}, "test")
		if err == nil {
			r, err = s.Run.Wait(m.ctx, r.ID)
			require.NoError(m.t, err)
		}
		if err != nil || r.State == api.RunFailed {
			require.False(m.t, m.serves(site), "%v %s", err, r.Outcome) // it has just learnt that another one is active
			return
		}
		row := must(s.Catalog.LastTakenBy(site, m.volume(s, name).Lineage, site))
		if last := must(s.Catalog.LastSnapshot(site, m.volume(s, name).Lineage)); last != nil && row == nil {
			row = last
		}
		m.taken[row.ID], m.by[row.ID] = st, site
	}
}

func (m *moves) carry(site string) {
	s := m.sites[site]
	if s == nil {
		return
	}
	for _, r := range must(s.Catalog.Routes()) {
		j, err := s.Routes.RunRoute(r.Name, "test")
		require.NoError(m.t, err)
		_, err = s.Run.Wait(m.ctx, j.ID)
		require.NoError(m.t, err)
	}
}

// doubt reports whether a site does not know if it is the active one.
func (m *moves) doubt(s *Site) bool {
	return s.Authority.Doubt(m.volume(s, "notes"))+s.Authority.Doubt(m.volume(s, "store")) != ""
}

// takeOver has a site take over, and finds what it serves then.
func (m *moves) takeOver(site string, unplanned bool) {
	s := m.sites[site]
	if s == nil {
		return
	}
	doubt := m.doubt(s)
	f, err := s.Failover.Failover(m.ctx, "to-"+site, api.FailoverAsk{Unplanned: unplanned, Anyway: true}, "test")
	if err != nil {
		m.say("  refused: %s", err)
		return
	}
	for range 4000 {
		if f, err = s.Failover.Show(f.ID); err != nil || f.State != api.FailoverRunning {
			break
		}
		time.Sleep(2 * time.Millisecond)
	}
	require.NoError(m.t, err)
	m.say("  %s: %s", f.State, f.Sentence)
	for _, st := range f.Steps {
		m.say("    %s: %s", st.Text, st.Said)
	}
	for _, v := range f.Volumes {
		m.say("    %s from %.12s", v.Volume, v.From)
	}
	if doubt || m.doubt(s) { // it goes on with what lies here; or two were seen, and nobody has said that one is no more
		m.looked(site)
		return
	}
	if unplanned {
		require.Equal(m.t, api.FailoverDone, f.State, "%s %+v", f.Sentence, f.Steps)
	}
	m.found(site)
}

// drill has a site rehearse, where it can: nothing of what it serves or holds changes, and nothing is left.
func (m *moves) drill(site string) {
	s := m.sites[site]
	if s == nil {
		return
	}
	ask := api.DrillAsk{KeepSeconds: new(int64)}
	f, err := s.Failover.StartDrill("to-"+site, ask, "test")
	if err != nil {
		m.say("  refused: %s", err)
		return
	}
	for range 4000 {
		if f = must(s.Failover.Drill(f.ID)); f.Ended != nil {
			break
		}
		time.Sleep(2 * time.Millisecond)
	}
	m.say("  %s: %s", f.State, f.Sentence)
	require.Equal(m.t, api.FailoverDone, f.State, "%s %+v", f.Sentence, f.Steps)
	require.Empty(m.t, must(s.Catalog.Clones()))
	if at := m.at[site]; at.disk != nil && m.serves(site) {
		require.Equal(m.t, at.text, string(must(os.ReadFile(filepath.Join(m.path(site), "a")))))
		require.True(m.t, bytes.Equal(at.disk, m.diskBytes(s, m.volume(s, "store").Name)))
	}
}

// found looks what a site serves that has taken over: what the snapshots have from which it goes on.
func (m *moves) found(site string) {
	s := m.sites[site]
	m.at[site] = state{}
	if s == nil {
		return
	}
	rows, err := s.Catalog.Failovers(nil, []string{api.FailoverDone}, 1)
	require.NoError(m.t, err)
	if len(rows) == 0 || rows[0].Kind == "hand-over" || !m.volume(s, "notes").ActiveAt(site) {
		return
	}
	if v := m.volume(s, "store"); !v.Protected || !s.Disks.IsOpen(v.Name) {
		return // it was put back to before it served that, or nobody said yet that the image is that of the disk
	}
	f := must(s.Failover.Show(rows[0].ID))
	from := map[string]string{}
	for _, v := range f.Volumes {
		from[v.Volume] = v.From
	}
	notes, store := m.taken[from[m.volume(s, "notes").Name]], m.taken[from[m.volume(s, "store").Name]]
	st := state{string(must(os.ReadFile(filepath.Join(m.path(site), "a")))), m.diskBytes(s, m.volume(s, "store").Name)}
	if notes.disk != nil { // else it was taken by the other site while it handed over
		require.Equal(m.t, notes.text, st.text)
	}
	if store.disk != nil {
		require.True(m.t, bytes.Equal(store.disk, st.disk), "the disk is as the snapshot has it")
	}
	m.at[site] = st
}

func (m *moves) off(site string) {
	if s := m.sites[site]; s != nil {
		require.NoError(m.t, s.Close())
		m.sites[site] = nil
	}
}

func (m *moves) on(site string) {
	if m.sites[site] == nil {
		m.sites[site] = m.openAt(site, m.where[site])
		m.cut(m.down[site], m.sites[site])
	}
}

// Three sites take over from each other in all orders, are cut off, go off and come back. Never are two active
// that know
// of each other; in the end one is; and nothing that was acknowledged is lost.
func TestMovesOfThreeSites(t *testing.T) {
	seeds := 12
	if n, err := strconv.Atoi(os.Getenv("CANDID_MOVES")); err == nil {
		seeds = n
	}
	first, _ := strconv.ParseUint(os.Getenv("CANDID_MOVES_SEED"), 10, 64)
	for i := range uint64(seeds) {
		seed := first + i
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			m := newMoves(t, seed)
			defer func() {
				if t.Failed() {
					for _, s := range m.told {
						t.Log(s)
					}
				}
			}()
			for range 30 {
				m.step()
				m.hold()
			}
			m.say("heal")
			m.heal()
			m.hold()
			m.agree()
		})
	}
}

func (m *moves) step() {
	m.clock.Set(m.clock.Now().Add(time.Second))
	site := moveSites[m.rng.IntN(len(moveSites))]
	acts := []struct {
		weight int
		name   string
		do     func()
	}{
		{6, "write", func() { m.write(site) }},
		{2, "stray", func() { m.stray(site) }},
		{5, "take", func() { m.take(site) }},
		{5, "carry", func() { m.carry(site) }},
		{2, "unplanned", func() { m.takeOver(site, true) }},
		{3, "planned", func() { m.takeOver(site, false) }},
		{1, "drill", func() { m.drill(site) }},
		{3, "cut", func() {
			m.down[site] = !m.down[site]
			if m.sites[site] != nil {
				m.cut(m.down[site], m.sites[site])
			}
		}},
		{2, "off", func() { m.off(site) }},
		{4, "on", func() { m.on(site) }},
		{3, "greet", func() {
			to := moveSites[m.rng.IntN(len(moveSites))]
			if s := m.sites[site]; s != nil && to != site {
				_, _, _, err := s.Pairing.Greet(m.ctx, must(s.Catalog.Peer(to)))
				m.say("  greets %s: %v", to, err)
			}
		}},
		{1, "image", func() { m.image(site) }},
		{1, "put back", func() { m.putBack(site) }},
		{1, "twin", func() { m.twin(site) }},
		{2, "go on", func() { m.goOn(site) }},
		{2, "settle", func() {
			if s := m.sites[site]; s != nil {
				m.settles(s, "stand-back")
			}
		}},
	}
	sum := 0
	for _, a := range acts {
		sum += a.weight
	}
	pick := m.rng.IntN(sum)
	for _, a := range acts {
		if pick -= a.weight; pick < 0 {
			m.say("%s %s", a.name, site)
			a.do()
			for _, s := range m.sites {
				if s != nil {
					looksAlike(m.t, s)
				}
			}
			return
		}
	}
}
