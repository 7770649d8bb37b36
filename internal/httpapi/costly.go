package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"sync"

	"candidharbor/internal/pairing"

	"github.com/danielgtaylor/huma/v2"
)

// costly are the operations that may compute for long, or in much memory.
var costly = map[string]bool{"checkPolicy": true, "diffPolicy": true, "previewPolicy": true, "planPrune": true,
	"freeing": true, "find": true, "listVersions": true,
	"compare": true, "compareText": true, "planRestore": true, "planGroupRestore": true, "listCrate": true,
	"verifyLedger": true, "removeAtOnce": true, "reportObjectives": true}

const (
	costlyAtOnce  = 4 // of all callers
	costlyWaiting = 8 // of one

	// What is sent for as long as the caller takes it, and holds nothing of others' but memory
	// and time of the processor: listings by WebDAV are made in memory, the rest is streamed.
	// Programs fetch dozens of files side by side; who waits costs a connection, and those are
	// counted.
	listingsAtOnce  = 2 // of one caller
	downloadsAtOnce = 6
	sendingWaiting  = 256
)

// payer is under whom a caller's calls are counted: people of another site under that site, which
// tells their names.
func payer(ctx context.Context) string {
	if from, desk := pairing.RemoteCallerOf(ctx); desk {
		return from.Site
	}
	return caller(ctx)
}

// costs lets few costly calls of each caller run at a time, so that nobody who asks much takes
// the site from others.
type costs struct {
	each, waiting int           // of one caller
	slots         chan struct{} // of all; nil: no bound
	mu            sync.Mutex
	lines         map[string]*costLine
}

type costLine struct {
	turn chan struct{}
	n    int // that run or wait
}

func newCosts(each, all, waiting int) *costs {
	c := &costs{each: each, waiting: waiting, lines: map[string]*costLine{}}
	if all > 0 {
		c.slots = make(chan struct{}, all)
	}
	return c
}

// enter waits for a turn. ok is false when too many of the caller's wait already.
func (c *costs) enter(ctx context.Context, who string) (leave func(), ok bool, err error) {
	c.mu.Lock()
	l := c.lines[who]
	if l == nil {
		l = &costLine{turn: make(chan struct{}, c.each)}
		c.lines[who] = l
	}
	if l.n >= c.each+c.waiting {
		c.mu.Unlock()
		return nil, false, nil
	}
	l.n++
	c.mu.Unlock()
	gone := func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if l.n--; l.n == 0 {
			delete(c.lines, who)
		}
	}
	for _, ch := range []chan struct{}{l.turn, c.slots} {
		if ch == nil {
			continue
		}
		select {
		case ch <- struct{}{}:
			before := gone
			gone = func() { <-ch; before() }
		case <-ctx.Done():
			gone()
			return nil, true, ctx.Err()
		}
	}
	return gone, true, nil
}

// inTurn is the middleware that lets costly calls in.
func (s *server) inTurn(a huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if !costly[ctx.Operation().OperationID] {
			next(ctx)
			return
		}
		who := payer(ctx.Context())
		leave, ok, err := s.costs.enter(ctx.Context(), who)
		switch {
		case !ok:
			huma.WriteErr(a, ctx, http.StatusTooManyRequests, fmt.Sprintf("%d calls of %s that take long wait already: let "+
				"them end first", costlyWaiting, who))
		case err != nil:
			huma.WriteErr(a, ctx, http.StatusRequestTimeout, "the caller has left")
		default:
			defer leave()
			next(ctx)
		}
	}
}

// sends lets a request through that is answered for as long as the caller takes it.
func (s *server) sends(c *costs, next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		who := payer(r.Context())
		leave, ok, err := c.enter(r.Context(), who)
		switch {
		case !ok:
			problem(w, http.StatusTooManyRequests, fmt.Sprintf("%d downloads of %s wait already: let them end first", c.waiting,
				who))
		case err != nil:
			problem(w, http.StatusRequestTimeout, "the caller has left")
		default:
			defer leave()
			next(w, r)
		}
	}
}
