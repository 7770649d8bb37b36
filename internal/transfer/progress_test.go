package transfer

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What counts as there is what the receiver has for good: what it had, and what it told it
// made durable.
func TestThereBytes(t *testing.T) {
	var m Meter
	o := &offer{sizes: []int64{10, 20, 30}, want: []byte{0b010}}
	o.ids = append(o.ids, [32]byte{1}, [32]byte{2}, [32]byte{3})
	m.ThereBytes.Add(o.had())
	require.EqualValues(t, 40, m.ThereBytes.Load())
	a := &answers{}
	for _, told := range []int64{5, 5, 3, 12, 20} { // one that tells less than before takes nothing back
		a.durable(&m, told)
	}
	require.EqualValues(t, 60, m.ThereBytes.Load())
}
