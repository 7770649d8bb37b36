package limit

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Many who come and go side by side are never more than there are places, and none is lost.
func TestPlaces(t *testing.T) {
	p := Places{All: 6, Each: 2}
	var mu sync.Mutex
	in, of := 0, map[string]int{}
	var all sync.WaitGroup
	for k := range 32 {
		all.Go(func() {
			key := fmt.Sprint(k % 5)
			for range 500 {
				leave, ok := p.Enter(key)
				if !ok {
					continue
				}
				mu.Lock()
				in++
				of[key]++
				fits := in <= p.All && of[key] <= p.Each
				mu.Unlock()
				if !fits {
					t.Error("more are in than there are places")
				}
				mu.Lock()
				in--
				of[key]--
				mu.Unlock()
				leave()
				if rand.IntN(2) == 0 {
					leave()
				}
			}
		})
	}
	all.Wait()
	require.Zero(t, p.n)
	require.Empty(t, p.of)
	for k := range 3 {
		for range 2 {
			_, ok := p.Enter(fmt.Sprint(k))
			require.True(t, ok)
		}
	}
	_, ok := p.Enter("another")
	require.False(t, ok)
}
