package retention

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// At each step the one goes whose neighbours are then closest, by looking at all of
// them; what may not go stays; the ends go last, the oldest the very last.
func TestThinAgainstLooking(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		begin := at("2026-01-01 00:00")
		var taken []time.Time
		for _, h := range rapid.SliceOfN(rapid.IntRange(1, 200), 0, 40).Draw(t, "hours between") {
			begin = begin.Add(time.Duration(h) * time.Hour)
			taken = append(taken, begin)
		}
		may := rapid.SliceOfN(rapid.Bool(), len(taken), len(taken)).Draw(t, "may go")
		order := Thin(taken, may)
		var left, want []int
		for i := range taken {
			left = append(left, i)
		}
		for {
			best := -1
			for k := 1; k < len(left)-1; k++ {
				i := left[k]
				if may[i] && (best < 0 || taken[left[k+1]].Sub(taken[left[k-1]]) < taken[left[best+1]].Sub(taken[left[best-1]])) {
					best = k
				}
			}
			if best < 0 {
				break
			}
			want = append(want, left[best])
			left = slices.Delete(left, best, best+1)
		}
		for k := len(left) - 1; k >= 0; k-- {
			if may[left[k]] {
				want = append(want, left[k])
			}
		}
		require.Equal(t, want, order)
	})
}

func ExampleThin() {
	var taken []time.Time
	for _, h := range []int{0, 24, 48, 49, 50, 51} {
		taken = append(taken, time.Date(2026, 1, 1, h, 0, 0, 0, time.UTC))
	}
	fmt.Println(Thin(taken, []bool{true, true, true, true, true, false}))
	// Output: [3 4 2 1 0]
}
