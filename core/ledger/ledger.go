// Package ledger chains entries of who did what: each entry's sum covers the sum of the one
// before, so that no entry can be changed, left out or put in between without every later
// sum being another.
package ledger

import (
	"encoding/binary"
	"fmt"

	"candidharbor/core/object"
)

// Entry is one act.
type Entry struct {
	N       int64  // 1 is the first
	At      int64  // nanoseconds since 1970
	Who     string // the person, token or site that acted
	Role    string // in which role
	Via     string // how it came: socket, console, token, line, service
	Act     string // the name of the act
	About   string // what it was done to, with what
	Outcome string // empty: it was let begin; else how it was refused or failed
}

// Sum is BLAKE3-256 over the sum before (32 zero bytes for the first), N and At as 64 bits
// big endian, then each text in the order above as its length in 32 bits big endian and
// itself.
func Sum(before object.ID, e *Entry) object.ID {
	b := append([]byte{}, before[:]...)
	b = binary.BigEndian.AppendUint64(b, uint64(e.N))
	b = binary.BigEndian.AppendUint64(b, uint64(e.At))
	for _, text := range []string{e.Who, e.Role, e.Via, e.Act, e.About, e.Outcome} {
		b = binary.BigEndian.AppendUint32(b, uint32(len(text)))
		b = append(b, text...)
	}
	return object.Sum(b)
}

// Chain verifies entries as they come, oldest first.
type Chain struct {
	N    int64
	Last object.ID
}

// Broken tells where a chain does not hold.
type Broken struct {
	N    int64
	What string
}

func (b *Broken) Error() string { return fmt.Sprintf("entry %d: %s", b.N, b.What) }

// Add checks the next entry against its sum.
func (c *Chain) Add(e *Entry, sum object.ID) error {
	if e.N != c.N+1 {
		return &Broken{c.N + 1, fmt.Sprintf("is missing; %d comes after %d", e.N, c.N)}
	}
	if Sum(c.Last, e) != sum {
		return &Broken{e.N, "does not have the sum that it was written with: it, or one before it, was changed"}
	}
	c.N, c.Last = e.N, sum
	return nil
}
