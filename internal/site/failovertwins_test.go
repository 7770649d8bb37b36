package site

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/nbd"

	"github.com/stretchr/testify/require"
)

// image copies a site's data directory while it is off for a moment.
func (m *moves) image(site string) {
	if m.sites[site] == nil {
		return
	}
	m.off(site)
	require.NoError(m.t, copyDir(filepath.Join(m.dir, site), filepath.Join(m.dir, "image-"+site)))
	m.images[site] = true
	m.on(site)
}

// putBack has a site start from its image: what it alone has from since then is gone.
func (m *moves) putBack(site string) {
	if !m.images[site] {
		return
	}
	m.off(site)
	require.NoError(m.t, copyDir(filepath.Join(m.dir, "image-"+site), filepath.Join(m.dir, site)))
	m.on(site)
	s := m.sites[site]
	for id := range m.taken {
		if m.by[id] != site || m.has(s, id) {
			continue
		}
		delete(m.by, id)
		for _, n := range moveSites {
			if m.has(m.sites[n], id) {
				m.by[id] = n
			}
		}
		if m.by[id] == "" {
			delete(m.taken, id)
		}
	}
	if a, err := os.ReadFile(filepath.Join(m.path(site), "a")); err != nil || string(a) != m.strays[site] {
		delete(m.strays, site) // it was stored since then
	}
	m.looked(site)
}

func (m *moves) has(s *Site, id string) bool {
	if s == nil {
		return false
	}
	_, err := s.Catalog.Snapshot(id)
	require.True(m.t, err == nil || errors.Is(err, catalog.ErrNone), "%v", err)
	return err == nil
}

// looked finds what lies at a site that serves, whatever it has taken over from.
func (m *moves) looked(site string) {
	m.at[site] = state{}
	s := m.sites[site]
	notes, store := m.volume(s, "notes"), m.volume(s, "store")
	if acts := must(s.Catalog.Failovers(nil, []string{api.FailoverRunning, api.FailoverStopped}, 1)); len(acts) > 0 {
		return // it is not all up
	}
	if notes.ActiveAt(site) && store.ActiveAt(site) && notes.Protected && store.Protected && s.Disks.IsOpen(store.Name) {
		m.at[site] = state{string(must(os.ReadFile(filepath.Join(m.path(site), "a")))), m.diskBytes(s, store.Name)}
	}
}

// twin starts a copy of a site beside it. Neither serves what another site may take over once that one has seen both.
func (m *moves) twin(site string) {
	to := moveSites[m.rng.IntN(len(moveSites))]
	if to == site || m.sites[site] == nil || m.sites[to] == nil || m.down[site] || m.down[to] {
		return
	}
	at := filepath.Join(m.dir, "twin")
	m.off(site)
	require.NoError(m.t, copyDir(filepath.Join(m.dir, site), at))
	m.on(site)
	early := m.serves(site) && m.rng.IntN(2) == 0
	for _, n := range moveSites { // nobody answers the twin when it starts, so that it serves on
		if early && n != site && m.sites[n] != nil {
			m.cut(true, m.sites[n])
		}
	}
	twin, err := Open(Options{Data: at, Clock: m.clock, Listen: "127.0.0.1:0"})
	require.NoError(m.t, err)
	if m.serves(site) {
		require.True(m.t, m.writable(m.sites[site]))
	}
	if early {
		m.alike(twin, site, to)
		m.write(site)
		m.take(site)
	}
	both := []*Site{m.sites[site], twin}
	for range 3 {
		for _, s := range both {
			if _, _, _, err := s.Pairing.Greet(m.ctx, must(s.Catalog.Peer(to))); err != nil {
				m.say("  %s is not reached: %v", to, err) // it is elsewhere since its last start
				require.NoError(m.t, twin.Close())
				return
			}
		}
	}
	for _, s := range both {
		for _, name := range []string{"notes", "store"} {
			require.False(m.t, m.volume(s, name).ActiveAt(site), "%s at one of two that are %s", name, site)
		}
		require.False(m.t, m.writable(s))
		_, err := s.Capture.TakeSnapshot(m.volume(s, "notes").Name, api.SnapshotTake{}, "test")
		require.Error(m.t, err)
	}
	require.NoError(m.t, twin.Close())
	m.at[site] = state{}
}

// alike has a twin take what it serves and carry it, as the site does that it is a copy of: what arrives is kept.
func (m *moves) alike(twin *Site, site, to string) {
	m.n++
	m.world.write(m.path(site), "a", fmt.Sprintf("twin of %s %d", site, m.n))
	_, err := twin.Disks.OpenDisk(m.ctx, m.volume(twin, "store").Name, true) // its image lies elsewhere
	require.NoError(m.t, err)
	st := state{string(must(os.ReadFile(filepath.Join(m.path(site), "a")))),
		m.diskBytes(twin, m.volume(twin, "store").Name)}
	m.at[site] = state{st.text, m.at[site].disk}
	var ids []string
	for _, name := range []string{"notes", "store"} {
		r, err := twin.Capture.TakeSnapshot(m.volume(twin, name).Name, api.SnapshotTake{}, "test")
		require.NoError(m.t, err)
		r, err = twin.Run.Wait(m.ctx, r.ID)
		require.NoError(m.t, err)
		if row := must(twin.Catalog.LastSnapshot(site, m.volume(twin, name).Lineage)); row != nil {
			ids = append(ids, row.ID)
		}
	}
	for _, n := range moveSites {
		if n != site && m.sites[n] != nil {
			m.cut(m.down[n], m.sites[n])
		}
	}
	for _, r := range must(twin.Catalog.Routes()) {
		j, err := twin.Routes.RunRoute(r.Name, "test")
		require.NoError(m.t, err)
		_, err = twin.Run.Wait(m.ctx, j.ID)
		require.NoError(m.t, err)
	}
	for _, id := range ids {
		if m.has(m.sites[to], id) {
			m.say("  the twin's %.12s has arrived", id)
			m.taken[id], m.by[id] = st, to
		}
	}
}

// writable reports whether a client may write to the disk at a site.
func (m *moves) writable(s *Site) bool {
	l, err := net.Listen("unix", filepath.Join(m.dir, "clients.sock"))
	require.NoError(m.t, err)
	ctx, cancel := context.WithCancel(m.ctx)
	ended := make(chan error, 1)
	go func() { ended <- s.Disks.Serve(ctx, l) }()
	defer func() {
		cancel()
		_ = l.Close()
		<-ended
	}()
	conn, err := net.Dial("unix", l.Addr().String())
	require.NoError(m.t, err)
	defer conn.Close()
	r, err := nbd.OpenRemote(m.ctx, conn, m.volume(s, "store").Name)
	if err != nil {
		return false
	}
	require.NoError(m.t, r.Close())
	return !r.ReadOnly()
}

// goOn is a person's word that a site is one alone, and goes on where it is not known who is active.
func (m *moves) goOn(site string) {
	s := m.sites[site]
	if s == nil {
		return
	}
	for _, n := range moveSites {
		if o := m.sites[n]; o != nil && o.Pairing.TwoSites(site) != nil && n != site {
			_, err := o.Pairing.ConfirmPeer(site)
			require.NoError(m.t, err)
		}
	}
	said := false
	for _, name := range []string{"notes", "store"} {
		v := m.volume(s, name)
		if s.Authority.Doubt(v) != "" {
			a, err := s.Failover.GoOn(v.Name, "test")
			require.NoError(m.t, err)
			m.say("  %s goes on at %s: %s", name, site, a.Sentence)
		} else if m.serves(site) || !v.ActiveAt(site) {
			continue
		}
		said = true
		if v = m.volume(s, name); v.IsDisk() && v.Protected && !s.Disks.IsOpen(v.Name) { // its image was put back too
			_, err := s.Disks.OpenDisk(m.ctx, v.Name, true)
			require.NoError(m.t, err)
		}
	}
	if said {
		delete(m.strays, site) // it is what it goes on from
		m.looked(site)
	}
}

// copyDir copies a data directory of a site that is off.
func copyDir(from, to string) error {
	return errors.Join(os.RemoveAll(to), exec.Command("cp", "-a", from, to).Run())
}
