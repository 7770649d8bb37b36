package ledger

import (
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever is changed, left out or exchanged in a chain is found, at its place or before.
func TestNothingIsChangedUnseen(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var es []Entry
		var sums []object.ID
		var last object.ID
		n := rapid.IntRange(2, 12).Draw(t, "entries")
		for i := range n {
			e := Entry{N: int64(i + 1), At: rapid.Int64().Draw(t, "at"), Who: rapid.SampledFrom([]string{"a", "ab", ""}).Draw(t,
				"who"), Role: rapid.SampledFrom([]string{"b", "bc", ""}).Draw(t, "role"), Act: "x"}
			last = Sum(last, &e)
			es, sums = append(es, e), append(sums, last)
		}
		check := func() error {
			var c Chain
			for i := range es {
				if err := c.Add(&es[i], sums[i]); err != nil {
					return err
				}
			}
			return nil
		}
		require.NoError(t, check())
		at := rapid.IntRange(0, n-1).Draw(t, "where")
		switch rapid.IntRange(0, 4).Draw(t, "how") {
		case 0: // a text moves from one field to the next
			es[at].Who, es[at].Role = es[at].Who+es[at].Role+"z", ""
		case 1:
			es[at].At++
		case 2:
			if at == n-1 {
				return // the end alone is missing: that is what others witness
			}
			es, sums = append(es[:at:at], es[at+1:]...), append(sums[:at:at], sums[at+1:]...)
		case 3: // with a sum to match
			es[at].Outcome += "!"
			before := object.ID{}
			if at > 0 {
				before = sums[at-1]
			}
			if sums[at] = Sum(before, &es[at]); at == n-1 {
				return
			}
		case 4:
			es[at].N++
		}
		var b *Broken
		require.ErrorAs(t, check(), &b)
		require.LessOrEqual(t, b.N, int64(at+2))
	})
}
