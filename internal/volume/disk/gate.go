package disk

import (
	"context"
	"sync"
	"sync/atomic"
)

// gate tells which writes belong to an instant: those that entered before it was flipped. Entering takes
// no longer than a look at a lock; a flip waits for nobody's writing. Only two epochs are alive at a time.
type gate struct {
	mu       sync.RWMutex // held by who enters, shared, and by who flips
	epoch    uint64
	inflight [2][stripes]atomic.Int32
	total    [2]atomic.Int64

	draining atomic.Bool // writes of the epoch before may be under way
	wait     sync.Mutex
	left     *sync.Cond // a write of the epoch before has left
}

func (g *gate) init() { g.left = sync.NewCond(&g.wait) }

// enter begins a write of blocks, once no write of the epoch before is under way on any of them. inside is
// run while no flip can come between.
func (g *gate) enter(first, end int64, inside func()) (parity int) {
	g.mu.RLock()
	parity = int(g.epoch & 1)
	g.total[parity].Add(1)
	g.each(first, end, func(s int64) { g.inflight[parity][s].Add(1) })
	inside()
	g.mu.RUnlock()
	if g.draining.Load() {
		g.wait.Lock()
		g.each(first, end, func(s int64) {
			for g.inflight[parity^1][s].Load() > 0 {
				g.left.Wait()
			}
		})
		g.wait.Unlock()
	}
	return parity
}

func (g *gate) leave(parity int, first, end int64) {
	g.each(first, end, func(s int64) { g.inflight[parity][s].Add(-1) })
	g.total[parity].Add(-1)
	if g.draining.Load() {
		g.wait.Lock()
		g.left.Broadcast()
		g.wait.Unlock()
	}
}

func (g *gate) each(first, end int64, do func(stripe int64)) {
	for b := first; b < min(end, first+stripes); b++ {
		do(b % stripes)
	}
}

// flip begins an epoch. The caller holds mu.
func (g *gate) flip() {
	g.epoch++
	g.draining.Store(true)
}

// drained waits until no write of the epoch before is under way.
func (g *gate) drained(ctx context.Context) error {
	old := int(g.epoch&1) ^ 1 // the caller alone flips
	stop := context.AfterFunc(ctx, func() {
		g.wait.Lock()
		g.left.Broadcast()
		g.wait.Unlock()
	})
	defer stop()
	g.wait.Lock()
	defer g.wait.Unlock()
	for g.total[old].Load() > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		g.left.Wait()
	}
	g.draining.Store(false)
	return nil
}

// quiet waits, with the gate held by the caller, until no write at all is under way.
func (g *gate) quiet() {
	g.draining.Store(true)
	g.wait.Lock()
	defer g.wait.Unlock()
	for g.total[0].Load()+g.total[1].Load() > 0 {
		g.left.Wait()
	}
	g.draining.Store(false)
}
