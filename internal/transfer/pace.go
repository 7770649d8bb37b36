package transfer

import (
	"container/heap"
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/internal/moment"
)

// Closed says that nothing may be sent until a time.
type Closed struct{ Until time.Time }

func (c *Closed) Error() string {
	return fmt.Sprintf("the pace lets nothing through until %s", moment.Say(c.Until))
}

// Pacer shares the pace towards one peer among flows by weight: start-time fair queueing
// (Goyal, Vin, Cheng 1996) over one line of the present rate. A new rate holds at once.
type Pacer struct {
	// Rate returns the present limit in bytes a second: negative, none; 0, closed until.
	Rate func() (bytes int64, until time.Time)
	Sent atomic.Int64 // bytes let through, ever

	mu    sync.Mutex
	queue tickets
	clock float64   // virtual time: the start tag of what was served last
	free  time.Time // when the line is free again
}

// Flow is one user of a pacer.
type Flow struct {
	Pacer  *Pacer
	Weight float64 // 0: 1
	// Own returns the flow's own limit, as Pacer.Rate does; nil: it has none.
	Own func() (bytes int64, until time.Time)

	last float64
	free time.Time
}

type ticket struct {
	start, n float64
	index    int
	first    chan struct{} // it came to the head of the queue
}

const (
	paceBurst = 30 * time.Millisecond // how far the line may be ahead after idling
	paceLook  = 100 * time.Millisecond
)

// Wait returns when n bytes may be sent, or with *Closed.
func (f *Flow) Wait(ctx context.Context, n int) error {
	if err := f.own(ctx, n); err != nil {
		return err
	}
	p := f.Pacer
	if p == nil {
		return nil
	}
	weight := f.Weight
	if weight <= 0 {
		weight = 1
	}
	p.mu.Lock()
	t := &ticket{start: max(p.clock, f.last), n: float64(n), first: make(chan struct{}, 1)}
	f.last = t.start + float64(n)/weight
	heap.Push(&p.queue, t)
	for {
		rate, until := p.Rate()
		now := time.Now()
		wait := paceLook
		switch {
		case rate == 0:
			p.leave(t)
			p.mu.Unlock()
			return &Closed{Until: until}
		case rate < 0:
			p.pass(t, n)
			p.mu.Unlock()
			return nil
		case p.queue[0] == t:
			if wait = p.free.Sub(now); wait <= 0 {
				if now.Sub(p.free) > paceBurst {
					p.free = now.Add(-paceBurst)
				}
				p.free = p.free.Add(time.Duration(float64(n) / float64(rate) * float64(time.Second)))
				p.pass(t, n)
				p.mu.Unlock()
				return nil
			}
			wait = min(wait, paceLook)
		}
		p.mu.Unlock()
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-t.first:
		case <-ctx.Done():
		}
		timer.Stop()
		p.mu.Lock()
		if ctx.Err() != nil {
			p.leave(t)
			p.mu.Unlock()
			return ctx.Err()
		}
	}
}

func (p *Pacer) pass(t *ticket, n int) {
	p.clock = t.start
	p.Sent.Add(int64(n))
	p.leave(t)
}

func (p *Pacer) leave(t *ticket) {
	heap.Remove(&p.queue, t.index)
	if len(p.queue) > 0 {
		select {
		case p.queue[0].first <- struct{}{}:
		default:
		}
	}
}

// own waits for the flow's own limit.
func (f *Flow) own(ctx context.Context, n int) error {
	if f.Own == nil {
		return nil
	}
	rate, until := f.Own()
	switch {
	case rate < 0:
		return nil
	case rate == 0:
		return &Closed{Until: until}
	}
	now := time.Now()
	if f.free.Before(now.Add(-paceBurst)) {
		f.free = now.Add(-paceBurst)
	}
	wait := f.free.Sub(now)
	f.free = f.free.Add(time.Duration(float64(n) / float64(rate) * float64(time.Second)))
	if wait <= 0 {
		return nil
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// tickets is a heap by start tag.
type tickets []*ticket

func (q tickets) Len() int           { return len(q) }
func (q tickets) Less(i, j int) bool { return q[i].start < q[j].start }
func (q tickets) Swap(i, j int)      { q[i], q[j] = q[j], q[i]; q[i].index, q[j].index = i, j }
func (q *tickets) Push(x any)        { t := x.(*ticket); t.index = len(*q); *q = append(*q, t) }
func (q *tickets) Pop() any {
	old := *q
	t := old[len(old)-1]
	*q = old[:len(old)-1]
	return t
}
