package site

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"candidharbor/api"
	"candidharbor/internal/catalog"
)

// hold checks what holds always: of two that serve, one does not know of the other.
func (m *moves) hold() {
	tops := map[string]string{}
	for _, n := range moveSites {
		s := m.sites[n]
		if s == nil {
			continue
		}
		for _, name := range []string{"notes", "store"} {
			v := m.volume(s, name)
			if !v.ActiveAt(n) {
				continue
			}
			a := must(s.Failover.Authority(v.Name))
			if a.Active != n { // it learns it at this very moment
				require.Eventually(m.t, func() bool { return !m.volume(s, name).ActiveAt(n) }, 5*time.Second, time.Millisecond)
				continue
			}
			top := ""
			if len(a.Records) > 0 {
				top = a.Records[0].ID
			}
			other, has := tops[name+top]
			require.False(m.t, has, "%s and %s are active of %s and know the same", other, n, name)
			tops[name+top] = n
		}
	}
}

// heal has all sites on and in touch, until all that is to be done is done.
func (m *moves) heal() {
	for _, n := range moveSites {
		m.down[n] = false
		m.on(n)
		m.cut(false, m.sites[n])
	}
	for i := range 4 { // who came back is elsewhere, and tells it first
		for _, a := range moveSites {
			for _, b := range moveSites {
				if a == b {
					continue
				}
				_, _, _, err := m.sites[a].Pairing.Greet(m.ctx, must(m.sites[a].Catalog.Peer(b)))
				require.True(m.t, i == 0 || err == nil, "%v", err)
			}
			if i == 2 { // a person says it where nobody knows; the others learn it
				m.goOn(a)
			}
		}
	}
	for _, n := range moveSites {
		for _, kind := range []string{"failover", "hand-over", "stand-back"} {
			m.settles(m.sites[n], kind)
		}
	}
}

// agree checks that all say the same, that one is active, and that all that was acknowledged is there.
func (m *moves) agree() {
	active := map[string]string{}
	for _, name := range []string{"notes", "store"} {
		for _, n := range moveSites {
			s := m.sites[n]
			v := m.volume(s, name)
			a := must(s.Failover.Authority(v.Name))
			if was, has := active[name]; has {
				require.Equal(m.t, was, a.Active, "who is active of %s at %s", name, n)
			}
			active[name] = a.Active
			rows, err := s.Catalog.Snapshots(n, v.Name, catalog.SnapshotFilter{})
			require.NoError(m.t, err)
			for _, row := range rows {
				d, err := s.Capture.LeftBehind(row)
				require.NoError(m.t, err)
				require.Equal(m.t, d.Cause != "", !row.LeftUntil.IsZero(), "%s (%d.%d by %s, %s) of %s at %s: %s",
					row.ID[:12], row.Term, row.Sequence, row.Taker(), row.Cause, name, n, d.Text)
			}
		}
	}
	for _, n := range moveSites {
		if a := active["notes"]; a != active["store"] {
			m.say("notes at %s, store at %s", a, active["store"])
		} else if a == n && !m.serves(n) { // it was put back to before it served that
			m.goOn(n)
			if !m.serves(n) {
				require.True(m.t, slices.ContainsFunc(must(m.sites[n].Overview.Status()).Sentences, func(x api.Sentence) bool {
					return strings.HasPrefix(x.Command, "candid failover to-"+n)
				}))
				up := m.volume(m.sites[n], "notes").Protected
				if _, err := os.Stat(m.path(n)); err == nil && !up { // nobody knows whose that is: it is moved out of the way
					m.n++
					require.NoError(m.t, os.Rename(m.path(n), fmt.Sprint(m.path(n), "-aside-", m.n)))
					delete(m.strays, n)
				}
				m.takeOver(n, true)
			}
			require.True(m.t, m.serves(n))
		}
	}
	for site, text := range m.strays { // it lies there, or is kept as left behind
		s := m.sites[site]
		kept := string(must(os.ReadFile(filepath.Join(m.path(site), "a")))) == text
		for _, l := range must(s.Failover.LeftBehind(m.volume(s, "notes").Name)) {
			kept = kept || m.textOf(s, must(s.Catalog.Snapshot(l.Snapshot)), "a") == text
		}
		require.True(m.t, kept, "%q was laid over and is nowhere", text)
	}
	for id, st := range m.taken {
		s := m.sites[m.by[id]]
		row, err := s.Catalog.Snapshot(id)
		require.NoError(m.t, err, "what %s took and acknowledged", m.by[id])
		if row.Volume == "notes" || row.Volume == "notes@home" {
			require.Equal(m.t, st.text, m.textOf(s, row, "a"))
		} else {
			require.True(m.t, bytes.Equal(st.disk, m.imageOf(s, row.Volume, id)))
		}
	}
}
