package catalog

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func openTest(t *testing.T) *Catalog {
	c, err := Open(filepath.Join(t.TempDir(), "catalog.db"))
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func snapshotID(n int) string { return fmt.Sprintf("%064x", uint64(n)*0x9e3779b97f4a7c15) }

func row(volume string, n int, began time.Time) *Snapshot {
	return &Snapshot{ID: snapshotID(n), Place: "here", Volume: volume, Lineage: "lineage of " + volume, Origin: "here",
		Term: 1, Sequence: int64(n), Began: At(began), Ended: At(began),
		Labels: JSON[Labels]{V: Labels{"n": fmt.Sprint(n)}}}
}

// Pages of any size, with any bounds, give exactly what a sorted list holds: nothing
// twice, nothing left out, also when many were taken at one instant.
func TestSnapshotPages(t *testing.T) {
	base := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		c, err := Open(filepath.Join(dir, "c.db"))
		require.NoError(rt, err)
		defer c.Close()
		minutes := rapid.SliceOfN(rapid.IntRange(0, 20), 0, 60).Draw(rt, "minutes")
		var all []*Snapshot
		for i, m := range minutes {
			all = append(all, row("v", i+1, base.Add(time.Duration(m)*time.Minute)))
		}
		require.NoError(rt, c.PutSnapshots(append(all, row("other", 999, base))))
		f := SnapshotFilter{Limit: rapid.IntRange(1, 9).Draw(rt, "limit")}
		if rapid.Bool().Draw(rt, "from") {
			f.From = base.Add(time.Duration(rapid.IntRange(0, 20).Draw(rt, "from minute")) * time.Minute)
		}
		if rapid.Bool().Draw(rt, "to") {
			f.To = base.Add(time.Duration(rapid.IntRange(0, 20).Draw(rt, "to minute")) * time.Minute)
		}
		want := slices.DeleteFunc(slices.Clone(all), func(s *Snapshot) bool {
			return (!f.From.IsZero() && s.Began.Before(f.From)) || (!f.To.IsZero() && s.Began.After(f.To))
		})
		slices.SortFunc(want, func(a, b *Snapshot) int {
			return cmp.Or(b.Began.Compare(a.Began.Time), strings.Compare(a.ID, b.ID))
		})
		var got []*Snapshot
		for {
			page, err := c.Snapshots("here", "v", f)
			require.NoError(rt, err)
			require.LessOrEqual(rt, len(page), f.Limit)
			got = append(got, page...)
			if len(page) < f.Limit {
				break
			}
			f.After = page[len(page)-1].Cursor()
		}
		require.Equal(rt, len(want), len(got))
		for i := range want {
			require.Equal(rt, want[i].ID, got[i].ID)
		}
		if len(all) > 0 {
			last, err := c.LastSnapshot("here", "lineage of v")
			require.NoError(rt, err)
			require.EqualValues(rt, len(all), last.Sequence)
		}
	})
}

// A row comes back as it was written, whatever its columns hold; changing one thing of
// it leaves the rest.
func TestSnapshotRow(t *testing.T) {
	c := openTest(t)
	at := time.Date(2026, 3, 4, 13, 45, 0, 123456789, time.UTC)
	want := &Snapshot{ID: snapshotID(1), Place: "here", Volume: "v@larkfield", Lineage: "aa", Origin: "larkfield", Term: 3,
		Sequence: 9, Began: At(at), Ended: At(at.Add(1)), SeenUntil: At(at.Add(2)),
		Cause: "by hand", Consistency: "spread", Files: 1, Dirs: 2, Others: 3, Bytes: 1 << 50, Stored: 5, Remarks: 6,
		Note: "it's \"quoted\" – ü", Labels: JSON[Labels]{V: Labels{"k": "v'; --"}},
		OwnEnd: At(at.Add(3)), RecalledUntil: At(at.Add(4)), Arrived: At(at.Add(5)), GraceUntil: At(at.Add(6)),
		LetGo: "no longer within daily 3"}
	require.NoError(t, c.PutSnapshot(want))
	got, err := c.Snapshot(want.ID)
	require.NoError(t, err)
	require.Equal(t, want, got)

	require.NoError(t, c.Sighted("here", want.ID, at.Add(time.Hour), at.Add(time.Minute)))
	require.NoError(t, c.Sighted("here", want.ID, at.Add(time.Hour), time.Time{}))
	want.SeenUntil, want.WatchedUntil = At(at.Add(time.Hour)), At(at.Add(time.Minute))
	got, err = c.Snapshot(want.ID)
	require.NoError(t, err)
	require.Equal(t, want, got, "a sighting changes nothing else, such as a grace that began meanwhile")

	require.NoError(t, c.PutSnapshots([]*Snapshot{row("v", 2, at), row("v", 3, at)}))
	counts, err := c.Counts("here")
	require.NoError(t, err)
	require.Equal(t, map[string][2]int{"v@larkfield": {0, 1}, "v": {2, 0}}, counts)
}

// An id may be shortened to six digits while it names one snapshot.
func TestSnapshotByShortID(t *testing.T) {
	c := openTest(t)
	a, b := row("v", 1, time.Unix(1, 0)), row("v", 2, time.Unix(2, 0))
	a.ID, b.ID = strings.Repeat("ab", 32), "abababab"+strings.Repeat("cd", 28)
	far := *a
	far.Place = "shelf"
	require.NoError(t, c.PutSnapshots([]*Snapshot{a, b, &far}))
	for id, say := range map[string]string{"ababab": "ambiguous", "abababab": "ambiguous", "ffffff": "not found",
		"abcde": "six hexadecimal", "": "six hexadecimal", "ababag": "six hexadecimal",
		"AAAAAA": "six hexadecimal", "ab' OR 1=1": "six hexadecimal"} {
		_, err := c.Snapshot(id)
		require.ErrorContains(t, err, say, id)
	}
	got, err := c.Snapshot("ababababc")
	require.NoError(t, err)
	require.Equal(t, b.ID, got.ID)
	got, err = c.Snapshot("abababababab")
	require.NoError(t, err, "copies of one snapshot at two places are no ambiguity")
	require.Equal(t, a.ID, got.ID)
	_, err = c.Snapshots("here", "v", SnapshotFilter{After: "yesterday"})
	require.ErrorContains(t, err, "not one that a list gave")
	require.NoError(t, c.PutCarried("r", Carried{Snapshot: a.ID, At: At(time.Unix(5, 0))}))
	require.NoError(t, c.ForgetSnapshots("here", a.ID))
	carried, err := c.CarriedBy("r", "here", "v")
	require.NoError(t, err)
	require.Empty(t, carried)
}

// Runs are listed newest first by state and subject; a stopped service's are ended; old
// ones go with their logs.
func TestRuns(t *testing.T) {
	c := openTest(t)
	at := time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)
	states := []string{"queued", "running", "done", "failed", "done with remarks", "cancelled"}
	for i := range 30 {
		r := &Run{Kind: "snapshot", Subject: fmt.Sprint("v", i%3), State: states[i%6], Queued: At(at), AskedBy: "x"}
		if i%6 > 1 {
			r.Ended = At(at.Add(time.Duration(i) * time.Hour))
		}
		require.NoError(t, c.AddRun(r))
		require.EqualValues(t, i+1, r.ID)
		require.NoError(t, c.AddLog(r.ID, at, "began"))
		require.NoError(t, c.AddLog(r.ID, at.Add(time.Second), "went on"))
	}
	page, err := c.Runs(RunFilter{States: []string{"failed", "cancelled"}, Limit: 4})
	require.NoError(t, err)
	var ids []int64
	for _, r := range page {
		ids = append(ids, r.ID)
	}
	require.Equal(t, []int64{30, 28, 24, 22}, ids)
	page, err = c.Runs(RunFilter{States: []string{"failed", "cancelled"}, Limit: 100, Before: 22})
	require.NoError(t, err)
	require.Len(t, page, 6)
	page, err = c.Runs(RunFilter{Subject: "v1", Limit: 100})
	require.NoError(t, err)
	require.Len(t, page, 10)

	n, err := c.FailUnfinished(at.Add(time.Hour), "the service stopped")
	require.NoError(t, err)
	require.EqualValues(t, 10, n)
	r, err := c.Run(1)
	require.NoError(t, err)
	require.Equal(t, "failed", r.State)
	require.Equal(t, "the service stopped", r.Outcome)
	require.NoError(t, c.ForgetRuns(RunsBefore{Before: at.Add(10 * time.Hour)}))
	_, err = c.Run(1)
	require.ErrorIs(t, err, ErrNone)
	lines, err := c.Log(1)
	require.NoError(t, err)
	require.Empty(t, lines)
	lines, err = c.Log(30)
	require.NoError(t, err)
	require.Equal(t, "went on", lines[1].Text)
	next := &Run{Kind: "prune", State: "queued", Queued: At(at)}
	require.NoError(t, c.AddRun(next))
	require.EqualValues(t, 31, next.ID, "numbers are not used twice")
}

// An invitation is used once, in time, whoever tries at the same moment.
func TestInvitationOnce(t *testing.T) {
	c := openTest(t)
	now := time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)
	require.NoError(t, c.PutInvitation("h", now, now.Add(time.Hour), Grants{}))
	require.NoError(t, c.PutInvitation("late", now, now.Add(time.Minute), Grants{}))
	_, err := c.UseInvitation("other", "x", now)
	require.ErrorIs(t, err, ErrInvitationUnknown)
	_, err = c.UseInvitation("late", "x", now.Add(2*time.Minute))
	require.ErrorIs(t, err, ErrInvitationLate)
	var wg sync.WaitGroup
	errs := make([]error, 16)
	for i := range errs {
		wg.Go(func() { _, errs[i] = c.UseInvitation("h", fmt.Sprint("site", i), now) })
	}
	wg.Wait()
	used := 0
	for _, err := range errs {
		if err == nil {
			used++
		} else {
			require.ErrorIs(t, err, ErrInvitationUsed)
		}
	}
	require.Equal(t, 1, used)
}

// Named records: what is not there is said so by kind and name; what is removed is gone.
func TestNamedRecords(t *testing.T) {
	c := openTest(t)
	at := At(time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC))
	_, verr := c.Volume("x")
	_, perr := c.Policy("x")
	_, rerr := c.Route("x")
	_, serr := c.Peer("x")
	for what, err := range map[string]error{"volume": verr, "policy": perr, "route": rerr, "site": serr,
		"token": c.RemoveToken("x")} {
		require.ErrorIs(t, err, ErrNone, what)
		require.ErrorContains(t, err, what+` "x"`)
	}
	p := &Policy{Name: "p", Body: "one", Changed: at, ChangedBy: "first"}
	require.NoError(t, c.PutPolicy(p))
	p.Body = "two"
	require.NoError(t, c.PutPolicy(p))
	p, err := c.Policy("p")
	require.NoError(t, err)
	require.Equal(t, 2, p.Version)
	v := &Volume{Name: "v", Lineage: "aa", Kind: "tree", Origin: "here", Path: "/p",
		Labels: JSON[Labels]{V: Labels{"a": "b", "c": "d"}}, Excludes: JSON[[]string]{V: []string{"*.tmp"}}, Added: at,
		Protected: true}
	require.NoError(t, c.PutVolume(v))
	other := *v
	other.Name = "w"
	require.Error(t, c.PutVolume(&other), "a lineage belongs to one volume")
	got, err := c.VolumeOfLineage("aa")
	require.NoError(t, err)
	require.Equal(t, v, got)
	for _, x := range []struct {
		s     Selection
		holds bool
	}{{Selection{Labels: Labels{"a": "b"}}, true}, {Selection{Labels: Labels{"a": "b", "c": "x"}}, false},
		{Selection{Names: []string{"u", "v"}}, true}, {Selection{Names: []string{"u"}}, false}, {Selection{}, false}} {
		require.Equal(t, x.holds, x.s.Holds(v), x.s)
	}
	require.NoError(t, c.Scheduled("v", at.Add(time.Minute)))
	require.NoError(t, c.PutGaps([]Gap{{Volume: "v", Due: at, Cause: "first"}, {Volume: "v", Due: at, Cause: "told again"},
		{Volume: "v", Due: At(at.Add(time.Hour)), Cause: "x"}}))
	gaps, err := c.Gaps("v", at.Time, at.Add(time.Minute))
	require.NoError(t, err)
	require.Len(t, gaps, 1)
	r := &Route{Name: "r", Peer: "there", Volumes: JSON[Selection]{V: Selection{Labels: Labels{"a": "b"}}}, Made: at}
	require.NoError(t, c.PutRoute(r))
	require.NoError(t, c.PutCarried("r", Carried{Snapshot: snapshotID(1), At: at, SeenUntil: at}))
	require.NoError(t, c.PutCarried("r", Carried{Snapshot: snapshotID(1), At: at, SeenUntil: At(at.Add(time.Hour))}))
	require.NoError(t, c.PutSnapshot(row("v", 1, at.Time)))
	carried, err := c.CarriedBy("r", "here", "v")
	require.NoError(t, err)
	require.Equal(t, at.Add(time.Hour), carried[snapshotID(1)].SeenUntil.Time)
	require.NoError(t, c.RemoveRoute("r"))
	carried, err = c.CarriedBy("r", "here", "v")
	require.NoError(t, err)
	require.Empty(t, carried)
	require.NoError(t, c.Set("k", "v"))
	require.NoError(t, c.Set("k", ""))
	value, err := c.Setting("k")
	require.NoError(t, err)
	require.Empty(t, value)
	require.NoError(t, c.PutAnswer(&Answer{Key: "a", At: at, Status: 200, Kind: "application/json", Body: []byte("{}")}))
	require.NoError(t, c.PutAnswer(&Answer{Key: "b", At: At(at.Add(25 * time.Hour)), Body: []byte{}}))
	a, err := c.Answer("a")
	require.NoError(t, err)
	require.Nil(t, a, "answers are kept for a day")
}

// A file that is no catalogue is refused with the way out, and is left as it is.
func TestDamagedFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "catalog.db")
	junk := bytes.Repeat([]byte("not a database "), 1000)
	require.NoError(t, os.WriteFile(path, junk, 0o600))
	_, err := Open(path)
	require.ErrorContains(t, err, "rebuild it from the store")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, junk, raw)
	require.False(t, errors.Is(err, ErrNone))
}

// What the lists ask is answered from an index, so that a page costs the same however
// many snapshots there are.
func TestListsUseIndexes(t *testing.T) {
	c := openTest(t)
	for q, index := range map[string]string{
		`SELECT * FROM snapshots WHERE volume='v' AND place='here' AND began<=1 AND (began<1 OR id>'x')
			ORDER BY began DESC, id LIMIT 50`: "snapshots_by_volume (volume=? AND place=? AND began<?)",
		`SELECT * FROM snapshots WHERE place='here' AND lineage='l'
			ORDER BY term DESC, sequence DESC LIMIT 1`: "snapshots_by_position (lineage=? AND place=?)",
		`SELECT DISTINCT id FROM snapshots WHERE id>='a' AND id<'b'
			ORDER BY id LIMIT 2`: "snapshots_by_id (id>? AND id<?)",
		`SELECT volume, SUM(grace_until=0), SUM(grace_until>0) FROM snapshots
			WHERE place='here' GROUP BY volume`: "COVERING INDEX snapshots_by_state",
	} {
		rows, err := c.db.Query("EXPLAIN QUERY PLAN " + q)
		require.NoError(t, err)
		plan := ""
		for rows.Next() {
			var a, b, d int
			var detail string
			require.NoError(t, rows.Scan(&a, &b, &d, &detail))
			plan += detail + "\n"
		}
		require.NoError(t, rows.Close())
		require.Contains(t, plan, index)
		require.NotContains(t, plan, "TEMP B-TREE")
	}
}

// Only the service reads the database, whatever the directory and who made the file allow.
func TestOwnFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "catalog.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	c, err := Open(path)
	require.NoError(t, err)
	require.NoError(t, c.Set("a", "b"))
	files, err := filepath.Glob(path + "*")
	require.NoError(t, err)
	require.Greater(t, len(files), 1)
	for _, f := range files {
		st, err := os.Stat(f)
		require.NoError(t, err)
		require.Zero(t, st.Mode().Perm()&0o077, f)
	}
	require.NoError(t, c.Close())
}

// What is done atomically is there whole or not at all, also what does several things itself.
func TestAtomically(t *testing.T) {
	c, err := Open(filepath.Join(t.TempDir(), "catalog.db"))
	require.NoError(t, err)
	defer c.Close()
	act := func(fails error) error {
		return c.Atomically(func(c *Catalog) error {
			return errors.Join(c.Set("a", "1"), c.Set("b", "2"),
				c.PutPolicy(&Policy{Name: "p", Body: "policy: p"}),
				c.AddEntry(&Entry{Act: "acted"}), fails)
		})
	}
	refused := errors.New("refused")
	require.ErrorIs(t, act(refused), refused)
	value, err := c.Setting("a")
	require.NoError(t, err)
	require.Empty(t, value)
	policies, err := c.Policies()
	require.NoError(t, err)
	require.Empty(t, policies)
	require.NoError(t, act(nil))
	require.NoError(t, act(nil))
	value, err = c.Setting("b")
	require.NoError(t, err)
	require.Equal(t, "2", value)
	policies, err = c.Policies()
	require.NoError(t, err)
	require.Len(t, policies, 1)
	require.EqualValues(t, 2, policies[0].Version, "counted within the transaction")
	entries, err := c.Entries(EntryFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, entries, 2)
	require.EqualValues(t, []int64{2, 1}, []int64{entries[0].N, entries[1].N})
}
