package site

import (
	"net"
	"sync"
	"sync/atomic"
	"testing"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

// relay is another way to a site: what comes in at its address goes on there, and is counted.
type relay struct {
	l       net.Listener
	to      string
	carried atomic.Int64
	mu      sync.Mutex
	open    []net.Conn
	all     sync.WaitGroup
}

func newRelay(t *testing.T, to string) *relay {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	r := &relay{l: l, to: to}
	r.all.Go(func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				continue
			}
			r.mu.Lock()
			r.open = append(r.open, in, out)
			r.mu.Unlock()
			r.all.Go(func() { r.pass(out, in) })
			r.all.Go(func() { r.pass(in, out) })
		}
	})
	t.Cleanup(r.end)
	return r
}

func (r *relay) pass(to, from net.Conn) {
	defer to.Close()
	buf := make([]byte, 32<<10)
	for {
		n, err := from.Read(buf)
		r.carried.Add(int64(n))
		if _, werr := to.Write(buf[:n]); err != nil || werr != nil {
			return
		}
	}
}

func (r *relay) end() {
	r.l.Close()
	r.mu.Lock()
	for _, c := range r.open {
		c.Close()
	}
	r.mu.Unlock()
	r.all.Wait()
}

// A site is reached by several ways: the one in use is told, a route goes by the one that is chosen for it and by no
// other, and a way that is down holds up only what goes by it.
func TestAddressesOfASite(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.pair(here, there)
	w.greet(here, "there")
	direct := there.Pairing.PeerAddress()
	slow, dead := newRelay(t, direct), newRelay(t, direct)
	dead.end()
	by := func(name, address string) error {
		_, err := here.Routes.AddRoute(api.RouteAdd{Name: name, To: "there", Labels: map[string]string{"k": "v"},
			Terms: api.RouteTerms{By: address, Carry: "all"}})
		return err
	}
	set := func(own ...string) error { _, err := here.Pairing.SetAddresses("there", own); return err }

	require.ErrorContains(t, by("bulk", slow.l.Addr().String()), "candid site addresses there --add")
	require.ErrorContains(t, by("bulk", "there"), "host:port")
	require.ErrorContains(t, set("10.2.0.2"), "host:port")
	require.ErrorContains(t, set(direct, direct), "twice")
	require.NoError(t, set(slow.l.Addr().String(), dead.l.Addr().String()))
	require.Equal(t, direct, must(here.Pairing.Peers())[0].Line.Address, "the line that stands is left alone")
	all := must(here.Pairing.AddressesOf(w.ctx, "there"))
	require.Len(t, all, 3)
	require.Empty(t, all[0].Trouble)
	require.Contains(t, all[1].Trouble, "refused")
	require.Equal(t, []bool{true, true, false}, []bool{all[0].Own, all[1].Own, all[2].Own})
	require.Equal(t, []bool{false, false, true}, []bool{all[0].InUse, all[1].InUse, all[2].InUse})

	// What is big goes by the way of its route alone.
	require.NoError(t, by("bulk", slow.l.Addr().String()))
	require.NoError(t, by("never", dead.l.Addr().String()))
	w.noise(dir, "a", 1, 3<<20)
	w.take(here, "notes")
	before := slow.carried.Load()
	w.done(here)(here.Routes.RunRoute("bulk", "test"))
	require.Len(t, w.rows(there, "notes@here"), 1)
	require.Greater(t, slow.carried.Load()-before, int64(3<<20))
	require.Equal(t, direct, must(here.Pairing.Peers())[0].Line.Address)
	require.Equal(t, []string{"bulk"}, must(here.Pairing.AddressesOf(w.ctx, "there"))[0].Routes)
	r, err := here.Routes.RunRoute("never", "test")
	require.NoError(t, err)
	_, err = here.Run.Wait(w.ctx, r.ID)
	require.NoError(t, err)
	never := must(here.Routes.Route("never"))
	require.Equal(t, "no line", never.State)
	require.Contains(t, never.LastError, "by "+dead.l.Addr().String()+" alone")

	// By any way, it goes. The first of them is tried first when there is no line.
	_, err = here.Routes.EditRoute("never", api.RouteEdit{Terms: &api.RouteTerms{By: "any"}})
	require.NoError(t, err)
	w.write(dir, "b", "2")
	w.take(here, "notes")
	here.Pairing.CutLine(true)
	here.Pairing.CutLine(false)
	w.done(here)(here.Routes.RunRoute("never", "test"))
	require.Len(t, w.rows(there, "notes@here"), 2)
	require.Equal(t, slow.l.Addr().String(), must(here.Pairing.Peers())[0].Line.Address)

	// A site that takes may choose too.
	_, err = there.Pairing.SetAddresses("here", []string{newRelay(t, here.Pairing.PeerAddress()).l.Addr().String()})
	require.NoError(t, err)
	_, err = here.Pairing.Grant(w.ctx, "there", api.GrantAsk{Grants: []string{"read"}})
	require.NoError(t, err)
	way := must(there.Pairing.AddressesOf(w.ctx, "here"))[0].Address
	_, err = there.Routes.AddRoute(api.RouteAdd{Name: "in", From: "here", Labels: map[string]string{"k": "v"},
		Terms: api.RouteTerms{By: way}})
	require.NoError(t, err)
	w.write(dir, "b", "3")
	w.take(here, "notes")
	w.done(there)(there.Routes.RunRoute("in", "test"))
	require.Len(t, w.rows(there, "notes@here"), 3)

	// What a route goes by is not taken away under it; with the pairing all of it ends.
	require.ErrorContains(t, set(), "route bulk goes by")
	_, err = here.Routes.EditRoute("bulk", api.RouteEdit{Terms: &api.RouteTerms{}})
	require.NoError(t, err)
	require.NoError(t, set())
	require.Len(t, must(here.Pairing.AddressesOf(w.ctx, "there")), 1)
}
