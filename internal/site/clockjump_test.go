package site

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/internal/clock"

	"github.com/stretchr/testify/require"
)

// setClock is a host's clock that somebody may set.
type setClock struct {
	*clock.Moved
	up   time.Duration
	boot string
}

func (c *setClock) SinceBoot() (time.Duration, string) { return c.up, c.boot }

func (c *setClock) pass(d time.Duration) {
	c.Set(c.Now().Add(d))
	c.up += d
}

// A clock that was set ahead or back removes nothing, says so, and goes on when a person
// has released it; time that only passed, with the service or the host off, holds nothing.
func TestClockJumpsHoldRemoval(t *testing.T) {
	w := newWorld(t)
	c := &setClock{Moved: w.clock, up: time.Hour, boot: "one"}
	open := func() *Site {
		s, err := Open(Options{Data: filepath.Join(w.dir, "here"), Name: "here", Roots: []string{w.dir}, Clock: c,
			Listen: "127.0.0.1:0"})
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		return s
	}
	s := open()
	dir := w.share(s, "notes")
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {daily: for 3 days}\ngrace: 1 hour\n")
	days := func(n int) {
		for i := range n * 4 {
			w.write(dir, "a", fmt.Sprint(i, c.Now()))
			c.pass(6 * time.Hour)
			_, err := s.Step(w.ctx, true)
			require.NoError(t, err)
			w.done(s)(s.Rules.Prune("", "test"))
		}
	}
	days(6)
	normal := len(w.rows(s, "notes"))
	require.Less(t, normal, 10)
	held := func(says string) {
		t.Helper()
		before := len(w.rows(s, "notes"))
		r := w.done(s)(s.Rules.Prune("", "test"))
		require.Contains(t, r.Outcome, "nothing is removed: ")
		require.Contains(t, r.Outcome, says)
		c.pass(2 * time.Hour)
		w.done(s)(s.Rules.Prune("", "test"))
		require.Len(t, w.rows(s, "notes"), before)
		st, err := s.Overview.Status()
		require.NoError(t, err)
		require.Contains(t, st.Sentences[1].Text, "Nothing is removed at present: the clock of this host was set")
	}
	free := func() {
		t.Helper()
		before := len(w.rows(s, "notes"))
		r := w.done(s)(s.Rules.Prune("", "test"))
		require.NotContains(t, r.Outcome, "nothing is removed: ", "%d before", before)
	}
	right := c.Now()
	c.Set(right.AddDate(1, 0, 0)) // set ahead by a year
	held("set ahead by 365 days")
	c.Set(right.Add(2 * time.Hour)) // and right again
	require.NoError(t, s.Upkeep.Release())
	held("set back by 365 days")
	require.NoError(t, s.Upkeep.Release())
	free()
	c.Set(c.Now().Add(-24 * time.Hour))
	held("set back by 1 day")
	require.NoError(t, s.Upkeep.Release())
	days(4)

	require.NoError(t, s.Close())
	c.pass(50 * time.Hour) // the service was off
	s = open()
	free()
	require.NoError(t, s.Close())
	c.Set(c.Now().Add(200 * time.Hour)) // the host was off
	c.up, c.boot = time.Minute, "two"
	s = open()
	free()
	require.NoError(t, s.Close())
	c.Set(c.Now().AddDate(-5, 0, 0)) // its battery is flat
	c.up, c.boot = time.Minute, "three"
	s = open()
	held("set back by")
}
