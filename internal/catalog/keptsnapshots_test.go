package catalog

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What is kept of snapshots is what the database holds, in its order, whoever changed it, never what was taken back.
func TestKeptSnapshots(t *testing.T) {
	defer func(n int) { worthKeeping = n }(worthKeeping)
	worthKeeping = 1
	one, two := openTwice(t)
	base := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	snapshot := func(rt *rapid.T, volume string) *Snapshot {
		s := row(volume, rapid.IntRange(1, 40).Draw(rt, "id"),
			base.Add(time.Duration(rapid.IntRange(0, 20).Draw(rt, "minute"))*time.Minute))
		s.Hidden, s.SetID = rapid.IntRange(0, 5).Draw(rt, "hidden") == 0, "set"
		return s
	}
	undone := errors.New("undone")
	change := func(rt *rapid.T, c *Catalog) error {
		volume := rapid.SampledFrom([]string{"v", "v", "w"}).Draw(rt, "volume") // a row may go to another volume
		s := snapshot(rt, volume)
		switch rapid.IntRange(0, 8).Draw(rt, "change") {
		case 0:
			return c.ForgetSnapshots("here", s.ID, snapshotID(rapid.IntRange(1, 40).Draw(rt, "gone")))
		case 1:
			s.GraceUntil, s.LetGo = At(base.Add(time.Hour)), "why"
			return c.SetGrace(s)
		case 2:
			_, err := c.db.Exec(`UPDATE snapshots SET seen_until=? WHERE place='here' AND id=?`, At(base), s.ID)
			return err
		case 3:
			_, err := c.db.Exec(`UPDATE snapshots SET volume='w' WHERE place='here' AND id=?`, s.ID)
			return err
		case 4:
			_, err := c.db.Exec(`UPDATE snapshots SET hidden=0 WHERE place='here' AND set_id='set'`)
			return err
		default:
			return c.PutSnapshots([]*Snapshot{s, snapshot(rt, volume)})
		}
	}
	rapid.Check(t, func(rt *rapid.T) {
		var all []*Snapshot
		for n := range 40 {
			if rapid.Bool().Draw(rt, "at first") {
				all = append(all, row("v", n+1, base.Add(time.Duration(n%7)*time.Minute)))
			}
		}
		require.NoError(rt, two.PutSnapshots(all))
		for range rapid.IntRange(1, 25).Draw(rt, "steps") {
			writer, reader := one, one
			if rapid.Bool().Draw(rt, "by another") {
				writer = two
			}
			if rapid.Bool().Draw(rt, "read by another") {
				reader = two
			}
			if rapid.IntRange(0, 3).Draw(rt, "as") == 0 {
				err := writer.Atomically(func(c *Catalog) error {
					return errors.Join(change(rt, c), change(rt, c), undone)
				})
				require.ErrorIs(rt, err, undone)
			} else {
				require.NoError(rt, change(rt, writer))
			}
			for _, volume := range []string{"v", "w"} {
				want, err := reader.Snapshots("here", volume, SnapshotFilter{})
				require.NoError(rt, err)
				got, err := reader.KeptSnapshots("here", volume)
				require.NoError(rt, err)
				require.Equal(rt, want, got)
			}
		}
	})
}

// Who has not seen more changes than are held reads all rows.
func TestKeptSnapshotsOfLongAgo(t *testing.T) {
	c := openTest(t)
	base := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	var all []*Snapshot
	for n := range 5_000 {
		all = append(all, row("v", n, base.Add(time.Duration(n)*time.Minute)))
	}
	require.NoError(t, c.PutSnapshots(all))
	_, err := c.KeptSnapshots("here", "v")
	require.NoError(t, err)
	require.Len(t, c.snaps.lists, 1)
	require.NoError(t, c.ForgetSnapshots("here", all[7].ID))
	for range 5 {
		_, err := c.db.Exec(`UPDATE snapshots SET note=note||'.'`)
		require.NoError(t, err)
	}
	var held int
	require.NoError(t, c.db.Get(&held, `SELECT COUNT(*) FROM snapshot_changes`))
	require.InDelta(t, 20_500, held, 500)
	want, err := c.Snapshots("here", "v", SnapshotFilter{})
	require.NoError(t, err)
	got, err := c.KeptSnapshots("here", "v")
	require.NoError(t, err)
	require.Equal(t, want, got)
}

// No more rows are held than there is room for; those asked for last stay.
func TestKeptSnapshotsHaveBounds(t *testing.T) {
	var k keptSnapshots
	rows := make([]*Snapshot, mostKept/3)
	for _, v := range []string{"a", "b", "c", "b", "d", "e"} {
		k.keep(&keptList{place: "here", volume: v, rows: rows})
	}
	var names []string
	for _, l := range k.lists {
		names = append(names, l.volume)
	}
	require.Equal(t, []string{"b", "d", "e"}, names)
	k.keep(&keptList{place: "here", volume: "d", rows: rows[:1]}) // it became small
	require.Nil(t, k.of("here", "d"))
	require.NotNil(t, k.of("here", "b"))
}
