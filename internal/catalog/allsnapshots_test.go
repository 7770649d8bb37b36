package catalog

import (
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// In every order, pages of any size give exactly what a sorted list holds, though what the last page ended with is gone
// meanwhile; and what another's cursor says is refused.
func TestAllSnapshotsInEveryOrder(t *testing.T) {
	base := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		c, err := Open(filepath.Join(dir, "c.db"))
		require.NoError(rt, err)
		defer c.Close()
		few := rapid.IntRange(0, 3)
		own := map[string]int64{}
		var all []*Snapshot
		for i := range rapid.IntRange(0, 40).Draw(rt, "rows") {
			r := row(rapid.SampledFrom([]string{"a", "a.b", "ä,\"1", "z"}).Draw(rt, "volume"), i+1,
				base.Add(time.Duration(few.Draw(rt, "began"))*time.Minute))
			r.Stored, r.Bytes = int64(few.Draw(rt, "stored")), int64(few.Draw(rt, "bytes"))
			own[r.ID] = int64(few.Draw(rt, "own"))
			all = append(all, r)
		}
		require.NoError(rt, c.PutSnapshots(all))
		orders := map[Sorting]func(a, b *Snapshot) int{
			SortNewest: func(a, b *Snapshot) int { return b.Began.Compare(a.Began.Time) },
			SortOldest: func(a, b *Snapshot) int { return a.Began.Compare(b.Began.Time) },
			SortVolume: func(a, b *Snapshot) int {
				return cmp.Or(strings.Compare(a.Volume, b.Volume), b.Began.Compare(a.Began.Time))
			},
			SortNew:  func(a, b *Snapshot) int { return cmp.Compare(b.Stored, a.Stored) },
			SortSize: func(a, b *Snapshot) int { return cmp.Compare(b.Bytes, a.Bytes) },
			SortOwn:  func(a, b *Snapshot) int { return cmp.Compare(own[b.ID], own[a.ID]) },
		}
		f := AllFilter{Sort: rapid.SampledFrom([]Sorting{SortNewest, SortOldest, SortVolume, SortNew, SortSize,
			SortOwn}).Draw(rt, "sort")}
		f.Limit = rapid.IntRange(1, 9).Draw(rt, "limit")
		want := slices.SortedFunc(slices.Values(all), func(a, b *Snapshot) int {
			return cmp.Or(orders[f.Sort](a, b), strings.Compare(a.ID, b.ID))
		})
		goes := rapid.Bool().Draw(rt, "the last one goes")
		var got []*Snapshot
		for {
			page, next, err := c.AllSnapshots("here", f)
			if f.Sort == SortOwn {
				page, next, err = c.AllSnapshotsBy("here", f, own)
			}
			require.NoError(rt, err)
			require.LessOrEqual(rt, len(page), f.Limit)
			if got = append(got, page...); next == "" {
				break
			}
			if f.After = next; goes {
				require.NoError(rt, c.ForgetSnapshots("here", page[len(page)-1].ID))
			}
		}
		require.Equal(rt, len(want), len(got))
		for i := range want {
			require.Equal(rt, want[i].ID, got[i].ID, "%s %d", f.Sort, i)
		}
	})
	c, err := Open(filepath.Join(t.TempDir(), "c.db"))
	require.NoError(t, err)
	defer c.Close()
	for _, text := range []string{"x", "5.ab", cursor([]any{1}), cursor([]any{1, nil}), cursor([]any{"a", []int{1}})} {
		f := AllFilter{SnapshotFilter: SnapshotFilter{After: text, Limit: 3}, Sort: SortNewest}
		_, _, err := c.AllSnapshots("here", f)
		require.ErrorIs(t, err, ErrCursor, text)
		_, _, err = c.AllSnapshotsBy("here", f, nil)
		require.ErrorIs(t, err, ErrCursor, text)
	}
}
