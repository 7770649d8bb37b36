package site

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/tree"

	"github.com/stretchr/testify/require"
)

func (w *world) textOf(s *Site, row *catalog.Snapshot, name string) string {
	root, err := s.Rules.RootOf(row)
	require.NoError(w.t, err)
	e, err := tree.Lookup(s.Store.Get, root, name)
	require.NoError(w.t, err)
	var b bytes.Buffer
	require.NoError(w.t, tree.CopyContent(s.Store.Get, &e, &b))
	return b.String()
}

// Two years of a policy, day by day: at every day every moment that the rules promise
// is there, out of grace, and holds what the volume held then.
func TestTwoYearsDayByDay(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, `policy: p
volumes: {k: v}
take: [every 12 hours]
zone: Europe/Lisbon
skip_unchanged: true
keep:
  here: {daily: 6, weekly: 5, monthly: for 400 days}
milestones:
  - {name: quarter, on: monthly on last friday, for: 2 years}
grace: 24 hours
`)
	zone := w.clock.Now().Location()
	type state struct {
		at   time.Time
		text string
	}
	var taken []state
	text := "first"
	check := func(now time.Time) {
		rows := w.rows(s, "notes")
		byTime := map[int64]*catalog.Snapshot{}
		for _, r := range rows {
			byTime[r.Began.UnixNano()] = r
		}
		promised := map[int64]string{}
		promise := func(st state) { promised[st.at.UnixNano()] = st.text }
		days, weeks, months := map[string]bool{}, map[string]bool{}, map[string]bool{}
		for i := len(taken) - 1; i >= 0; i-- {
			at := taken[i].at.In(zone)
			if d := at.Format("2006-01-02"); !days[d] && len(days) < 6 {
				days[d] = true
				promise(taken[i])
			}
			y, k := at.ISOWeek()
			if key := fmt.Sprint(y, " ", k); !weeks[key] && len(weeks) < 5 {
				weeks[key] = true
				promise(taken[i])
			}
			if m := at.Format("2006-01"); !months[m] {
				months[m] = true
				if m >= now.In(zone).AddDate(0, 0, -400).Format("2006-01") {
					promise(taken[i])
				}
			}
		}
		// The milestones: what stood at the end of each last friday, else the first after.
		for day := taken[0].at.In(zone); day.Before(now); day = day.AddDate(0, 0, 1) {
			end := time.Date(day.Year(), day.Month(), day.Day()+1, 0, 0, 0, 0, zone)
			if day.Weekday() != time.Friday || day.AddDate(0, 0, 7).Month() == day.Month() || end.After(now) {
				continue
			}
			stood := taken[0]
			for _, st := range taken {
				if st.at.Before(end) {
					stood = st
				}
			}
			promise(stood)
		}
		for at, want := range promised {
			row := byTime[at]
			require.NotNil(t, row, "%s: the snapshot of %s is promised", now, time.Unix(0, at).In(zone))
			require.True(t, row.GraceUntil.IsZero(), "%s: %s is in grace", now, row.Began.In(zone))
			require.Equal(t, want, w.textOf(s, row, "a"))
		}
	}
	begin := w.clock.Now()
	for day := range 730 {
		for range 2 {
			next, err := s.Step(w.ctx, true)
			require.NoError(t, err)
			w.clock.Set(next)
			if day%3 > 0 || len(taken) == 0 {
				text = fmt.Sprint("day ", day, " ", next)
				w.write(dir, "a", text)
			}
			_, err = s.Step(w.ctx, true)
			require.NoError(t, err)
			if n := len(taken); n == 0 || taken[n-1].text != text {
				taken = append(taken, state{next, text})
			}
		}
		w.done(s)(s.Rules.Prune("", "test"))
		check(w.clock.Now())
	}
	require.InDelta(t, 730, w.clock.Now().Sub(begin).Hours()/24, 2)
	rows := w.rows(s, "notes")
	require.Less(t, len(rows), 60)
	w.done(s)(s.Upkeep.Sweep(true, "test"))
	require.Equal(t, "done", w.done(s)(s.Upkeep.Verify("test")).State)
	report, err := s.Overview.Objectives(w.ctx, begin)
	require.NoError(t, err)
	require.InDelta(t, 100, report.Rows[0].OnTargetPercent, 0.2)
	require.Empty(t, report.Gaps)
}

// A keep mark holds here and wherever the snapshot was carried, until it is let go.
func TestKeepMarksTravel(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 2}\n  there: {newest: "+
		"2}\ngrace: 1 hour\n")
	w.pair(here, there)
	w.route(here, "there")
	turn := func() {
		w.write(dir, "a", w.clock.Now().String())
		w.until(here, w.clock.Now().Add(6*time.Hour))
		_, err := here.Step(w.ctx, true)
		require.NoError(t, err)
		for _, s := range []*Site{here, there} {
			w.done(s)(s.Rules.Prune("", "test"))
		}
	}
	turn()
	turn()
	first := w.rows(here, "notes")[len(w.rows(here, "notes"))-1].ID
	for _, bad := range []api.KeepAsk{{}, {Reason: " "}, {Reason: strings.Repeat("x", 1001)},
		{Reason: "x", Until: &time.Time{}}} {
		_, err := here.Rules.KeepSnapshot(first, bad)
		require.Equal(t, refusal.Misuse, refusal.ClassOf(err))
	}
	_, err := here.Rules.KeepSnapshot(first, api.KeepAsk{Reason: "audit"})
	require.NoError(t, err)
	for range 8 {
		turn()
	}
	for s, v := range map[*Site]string{here: "notes", there: "notes@here"} {
		rows := w.rows(s, v)
		last := rows[len(rows)-1]
		require.Equal(t, first, last.ID, s.Name())
		require.Equal(t, "audit", last.KeepWhy)
		require.True(t, last.GraceUntil.IsZero())
	}
	_, err = there.Rules.RemoveSnapshot(first)
	require.ErrorContains(t, err, "marked to keep: audit")
	// Lost records come back with their marks.
	require.NoError(t, here.Close())
	for _, f := range []string{"catalog.db", "catalog.db-wal", "catalog.db-shm"} {
		os.Remove(filepath.Join(w.dir, "here", f))
	}
	here = w.open("here")
	row, err := here.Catalog.Snapshot(first)
	require.NoError(t, err)
	require.Equal(t, "audit", row.KeepWhy)
	require.NoError(t, here.Upkeep.Release())
	_, err = here.Rules.LetGoSnapshot(first)
	require.NoError(t, err)
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 2}\n  there: {newest: "+
		"2}\ngrace: 1 hour\n")
	w.pair(here, there)
	w.route(here, "there")
	for range 4 {
		turn()
	}
	_, err = here.Catalog.Snapshot(first)
	require.ErrorIs(t, err, catalog.ErrNone)
	_, err = there.Catalog.Snapshot(first)
	require.NoError(t, err, "what is gone here tells nothing there: its mark stays there until let go there")
	_, err = there.Rules.LetGoSnapshot(first)
	require.NoError(t, err)
	turn()
	turn()
	_, err = there.Catalog.Snapshot(first)
	require.ErrorIs(t, err, catalog.ErrNone)
}

// The floor of a place holds against its policies, its people and its peers.
func TestFloor(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	require.NoError(t, s.Close())
	path := filepath.Join(w.dir, "here", "site.yaml")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, append(raw, "floor: 3 days\n"...), 0o600))
	s = w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 1}\ngrace: 1 second\n")
	for n := range 40 {
		w.write(dir, "a", fmt.Sprint(n))
		w.until(s, w.clock.Now().Add(6*time.Hour))
		w.done(s)(s.Rules.Prune("", "test"))
		rows := w.rows(s, "notes")
		require.GreaterOrEqual(t, len(rows), min(n+1, 12), "nothing younger than three days is gone")
	}
	rows := w.rows(s, "notes")
	require.Less(t, len(rows), 16)
	_, err = s.Rules.RemoveSnapshot(rows[3].ID)
	require.ErrorContains(t, err, "the floor of this place is 3 days")
}

// A pause takes nothing and lets nothing go; what came due meanwhile was not missed, nor
// was what a policy would have asked for before it was there.
func TestPauseAndNewPolicies(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.clock.Set(w.clock.Now().Add(30 * 24 * time.Hour))
	body := "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {daily: for 2 days}\ngrace: 1 hour\n"
	w.policy(s, body)
	turn := func(n int) {
		for range n {
			w.write(dir, "a", w.clock.Now().String())
			w.until(s, w.clock.Now().Add(6*time.Hour))
			w.done(s)(s.Rules.Prune("", "test"))
		}
	}
	turn(12)
	require.Empty(t, must(s.Catalog.Gaps("notes", time.Time{}, w.clock.Now())), "a policy that is new has missed nothing")
	before := len(w.rows(s, "notes"))
	for _, pause := range []struct{ begin, end func() error }{
		{func() error {
			_, err := s.Rules.PauseVolume("notes")
			return err
		}, func() error { _, err := s.Rules.ResumeVolume("notes"); return err }},
		{func() error {
			_, err := s.Rules.PutPolicy(body+"paused: true\n", "test", false)
			return err
		}, func() error { _, err := s.Rules.PutPolicy(body, "test", true); return err }},
	} {
		require.NoError(t, pause.begin())
		had := w.rows(s, "notes")
		v := must(s.Overview.Volume("notes"))
		require.Equal(t, "paused", v.Protection)
		require.Nil(t, v.NextDue)
		turn(20)
		now := w.rows(s, "notes")
		require.Len(t, now, len(had), "nothing is taken and nothing goes")
		for _, r := range now {
			require.True(t, r.GraceUntil.IsZero())
		}
		require.NoError(t, pause.end())
		turn(12)
		require.Empty(t, must(s.Catalog.Gaps("notes", time.Time{}, w.clock.Now())))
		require.InDelta(t, before, len(w.rows(s, "notes")), 3)
		require.Equal(t, "on target", must(s.Overview.Volume("notes")).Protection)
	}
	history, err := s.Rules.PolicyHistory("p")
	require.NoError(t, err)
	require.Len(t, history, 3)
	_, err = s.Rules.RemovePolicy("p", "test", false)
	require.NoError(t, err)
	history, err = s.Rules.PolicyHistory("p")
	require.NoError(t, err)
	require.True(t, history[0].Removed)
	w.policy(s, body)
	require.Equal(t, 5, must(s.Rules.Policy("p")).Version, "numbers are not used twice")
}

// Removing a policy asks first when another one is left that keeps less.
func TestRemovingAPolicyAsks(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, "policy: long\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 20}\n")
	w.policy(s, "policy: short\nvolumes: {k: v}\ntake: [every 6 hours]\nkeep:\n  here: {newest: 3}\n")
	for range 8 {
		w.write(dir, "a", w.clock.Now().String())
		w.until(s, w.clock.Now().Add(6*time.Hour))
	}
	_, err := s.Rules.RemovePolicy("long", "test", false)
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
	require.ErrorContains(t, err, "5 snapshots would expire")
	require.Equal(t, "long", must(s.Rules.Policy("long")).Name)
	_, err = s.Rules.RemovePolicy("short", "test", false)
	require.NoError(t, err, "the other keeps all it kept")
	_, err = s.Rules.RemovePolicy("long", "test", false)
	require.NoError(t, err, "without any policy everything stays")
}

// What is foreseen from today is what then happens.
func TestPreviewIsWhatHappens(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	body := "policy: p\nvolumes: {k: v}\ntake: [every 8 hours]\nzone: Europe/Lisbon\nkeep:\n  here: {newest: 2, daily: " +
		"4, weekly: 3}\ngrace: 1 hour\n"
	w.policy(s, body)
	turn := func(days int) {
		for range days * 3 {
			w.write(dir, "a", w.clock.Now().String())
			w.until(s, w.clock.Now().Add(8*time.Hour))
			w.done(s)(s.Rules.Prune("", "test"))
		}
	}
	turn(15)
	p, err := s.Rules.PreviewPolicy(t.Context(), api.PreviewAsk{Name: "p", Days: 30})
	require.NoError(t, err)
	turn(30)
	w.clock.Set(p.To)
	page, err := s.Recovery.Snapshots("notes", catalog.SnapshotFilter{})
	require.NoError(t, err)
	var kept []time.Time
	for _, sn := range page.Items {
		if sn.State == "kept" && len(sn.Reasons) > 0 {
			kept = append(kept, sn.Taken)
		}
	}
	var foreseen []time.Time
	for _, r := range p.Places[0].Ladder {
		foreseen = append(foreseen, r.Taken.UTC())
	}
	require.Equal(t, foreseen, kept)
	_, err = s.Rules.PreviewPolicy(t.Context(), api.PreviewAsk{Name: "none"})
	require.Equal(t, refusal.Missing, refusal.ClassOf(err))
	_, err = s.Rules.PreviewPolicy(t.Context(), api.PreviewAsk{Name: "p", Days: 100_000})
	require.Equal(t, refusal.Misuse, refusal.ClassOf(err))
	_, err = s.Rules.PreviewPolicy(t.Context(), api.PreviewAsk{Body: "policy: p\n"})
	require.Equal(t, refusal.Misuse, refusal.ClassOf(err))
}

// At the start of the service one is taken, once; on change one is taken only when
// something changed, and looking is told as a sighting.
func TestAtStartAndOnChange(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	dir := w.share(s, "notes")
	w.policy(s, "policy: p\nvolumes: {k: v}\ntake: [at service start, 'on change, at most every 10 minutes', "+
		"'RRULE:FREQ=DAILY;BYHOUR=12;BYMINUTE=0']\n")
	w.until(s, w.clock.Now().Add(time.Hour))
	require.Len(t, w.rows(s, "notes"), 1, "the first look finds something new")
	w.until(s, w.clock.Now().Add(90*time.Minute))
	rows := w.rows(s, "notes")
	require.Len(t, rows, 1)
	require.Equal(t, w.clock.Now().UTC(), rows[0].SeenUntil.Time)
	w.write(dir, "a", "changed")
	w.until(s, w.clock.Now().Add(25*time.Minute))
	require.Len(t, w.rows(s, "notes"), 2)
	w.until(s, w.clock.Now().Add(15*time.Minute))
	require.Len(t, w.rows(s, "notes"), 3, "at noon one is taken whether anything changed or not: 11:55 to 12:10")
	require.NoError(t, s.Close())
	w.clock.Set(w.clock.Now().Add(3 * time.Minute))
	s = w.open("here")
	w.until(s, w.clock.Now().Add(5*time.Minute))
	rows = w.rows(s, "notes")
	require.Len(t, rows, 4)
	require.Equal(t, s.Run.Started().UTC(), rows[0].Began.Time)
	_, err := s.Step(w.ctx, true)
	require.NoError(t, err)
	require.Len(t, w.rows(s, "notes"), 4)
	require.Empty(t, must(s.Catalog.Gaps("notes", time.Time{}, w.clock.Now())))
	e, err := s.Overview.Explain("notes", "")
	require.NoError(t, err)
	said := strings.Join(e.Sentences, "\n")
	require.Contains(t, said, "It takes one whenever the service starts.")
	require.Contains(t, said, "Changes are looked for every 10 minutes, because no change journal vouches for it (it "+
		"is turned off in site.yaml)")
}
