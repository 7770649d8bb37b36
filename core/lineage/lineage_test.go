package lineage

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func position() *rapid.Generator[Position] {
	return rapid.Custom(func(t *rapid.T) Position {
		return Position{Term: rapid.Uint64Range(0, 4).Draw(t, "term"), Sequence: rapid.Uint64Range(0, 6).Draw(t, "sequence")}
	})
}

// Positions are totally ordered; what follows comes after; a later term comes after
// everything of an earlier one, however long that went on.
func TestOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b, c := position().Draw(t, "a"), position().Draw(t, "b"), position().Draw(t, "c")
		require.Equal(t, -a.Compare(b), b.Compare(a))
		require.Equal(t, a == b, a.Compare(b) == 0)
		if a.Compare(b) <= 0 && b.Compare(c) <= 0 {
			require.LessOrEqual(t, a.Compare(c), 0)
		}
		if a.Term > 0 {
			require.Equal(t, -1, a.Compare(a.Next()))
			require.Equal(t, a.Term, a.Next().Term)
		}
		if a.Term < b.Term {
			a.Sequence = 1 << 60
			require.Equal(t, -1, a.Compare(b))
		}
	})
	require.Equal(t, Position{Term: 1, Sequence: 1}, Position{}.Next(), "the first of a lineage")
}
