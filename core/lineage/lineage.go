// Package lineage orders the snapshots of one volume across all places.
package lineage

import "cmp"

// Position orders a snapshot within its lineage. Term counts how often the active
// side has moved; sequence counts snapshots within a term. It orders, it does not
// identify, and no clock is in it.
type Position struct {
	Term     uint64
	Sequence uint64
}

// Compare returns -1, 0 or 1 as p is before, equal to or after q.
func (p Position) Compare(q Position) int {
	if c := cmp.Compare(p.Term, q.Term); c != 0 {
		return c
	}
	return cmp.Compare(p.Sequence, q.Sequence)
}

// Next returns the position of the snapshot that follows on the same side.
func (p Position) Next() Position {
	return Position{Term: max(p.Term, 1), Sequence: p.Sequence + 1}
}
