package transfer

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

// A hundred flows at once share the pace by their weights, a flow's own cap holds, and a
// new rate holds at once.
func TestPaceIsShared(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var rate atomic.Int64
		rate.Store(10 << 20)
		p := &Pacer{Rate: func() (int64, time.Time) { return rate.Load(), time.Time{} }}
		ctx, cancel := context.WithCancel(t.Context())
		sent := make([]atomic.Int64, 101)
		var wg sync.WaitGroup
		for i := range sent {
			f := &Flow{Pacer: p, Weight: 1}
			if i < 10 {
				f.Weight = 5
			}
			if i == 100 {
				f.Own = func() (int64, time.Time) { return 1000, time.Time{} }
			}
			wg.Go(func() {
				for f.Wait(ctx, 4000) == nil {
					sent[i].Add(4000)
				}
			})
		}
		// Whoever came first had the line for itself for a moment: measured is from when all wait.
		time.Sleep(time.Second)
		var begun, got [101]int64
		for i := range sent {
			begun[i] = sent[i].Load()
		}
		time.Sleep(20 * time.Second)
		var total int64
		for i := range sent {
			got[i] = sent[i].Load() - begun[i]
			total += got[i]
		}
		require.InEpsilon(t, 20*10<<20, total, 0.02, "the whole pace is used")
		for i := range 100 {
			weight := int64(1)
			if i < 10 {
				weight = 5
			}
			require.InEpsilon(t, weight*(total-got[100])/140, got[i], 0.02, "flow %d", i)
		}
		require.InDelta(t, 20_000, got[100], 5000)
		rate.Store(1 << 20)
		time.Sleep(time.Second)
		before := p.Sent.Load()
		time.Sleep(10 * time.Second)
		require.InEpsilon(t, 10<<20, p.Sent.Load()-before, 0.02)
		cancel()
		wg.Wait()
		require.Empty(t, p.queue)
	})
}

func TestPaceClosed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		until := time.Now().Add(time.Hour)
		p := &Pacer{Rate: func() (int64, time.Time) { return 0, until }}
		f := &Flow{Pacer: p}
		var closed *Closed
		require.ErrorAs(t, f.Wait(t.Context(), 10), &closed)
		require.Equal(t, until, closed.Until)
		p.Rate = func() (int64, time.Time) { return -1, until }
		require.NoError(t, f.Wait(t.Context(), 10))
		own := int64(0)
		f.Own = func() (int64, time.Time) { return own, until }
		require.ErrorAs(t, f.Wait(t.Context(), 10), &closed)
		own = 10 // and opens while others wait
		began := time.Now()
		for range 5 {
			require.NoError(t, f.Wait(t.Context(), 10))
		}
		require.InDelta(t, 5, time.Since(began).Seconds(), 1.1)
		require.Empty(t, p.queue)
	})
}
