package object

import "encoding/binary"

// AllZero reports whether bytes are zeros alone: such are stored as holes.
func AllZero(b []byte) bool {
	for len(b) >= 8 {
		if binary.NativeEndian.Uint64(b) != 0 {
			return false
		}
		b = b[8:]
	}
	for _, c := range b {
		if c != 0 {
			return false
		}
	}
	return true
}
