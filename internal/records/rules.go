package records

import (
	"encoding/hex"
)

// LineageOf parses a lineage's column.
func LineageOf(text string) (id [16]byte) {
	b, _ := hex.DecodeString(text)
	copy(id[:], b)
	return id
}
