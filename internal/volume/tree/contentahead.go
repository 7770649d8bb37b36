package tree

import (
	"runtime"
	"sync"
	"sync/atomic"

	"candidharbor/core/object"
)

const (
	chunksHeld  = 8         // of a file that is open; a chunk has 64 KiB on average
	chunksAhead = 16        // at most so many are read before they are asked for
	heldAhead   = 96        // of a file that is read ahead: a kernel asks for several MiB at a time
	mostAhead   = 8         // files of which that is done at a time
	orderSlack  = 1 << 20   // reads in order come out of order from a kernel that reads ahead itself
	orderProven = 256 << 10 // bytes read in order, after which it is believed
)

// aheadOf is how many files are read ahead at present.
var aheadOf atomic.Int32

// ahead are those who read what comes next. They belong to the content, and end by themselves soon: each at the end of
// what it reads.
type ahead struct {
	readers sync.WaitGroup
	n       int
	granted bool
	begun   int64 // up to where was read ahead
	closed  bool
}

// Close waits for what is being read ahead. Nothing is read ahead afterwards.
func (c *Content) Close() {
	c.mu.Lock()
	c.ahead.closed = true
	c.enough()
	c.mu.Unlock()
	c.ahead.readers.Wait()
}

// inOrder notes where is read, and whether that goes on from what was read before.
func (c *Content) inOrder(off, n int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if off < c.front-orderSlack || off > c.front+orderSlack {
		c.from, c.front, c.steady, c.ahead.begun = off, off+n, 0, 0
		c.enough()
		return
	}
	if end := off + n; end > c.front {
		c.steady += min(n, end-c.front)
		c.from, c.front = off, end
	}
	switch {
	case c.front >= c.file.Size:
		c.enough()
	case c.steady >= orderProven && !c.ahead.granted && !c.ahead.closed:
		if c.ahead.granted = aheadOf.Add(1) <= mostAhead; !c.ahead.granted {
			aheadOf.Add(-1)
		}
	}
}

// enough ends the reading ahead. The caller holds mu.
func (c *Content) enough() {
	if c.ahead.granted {
		c.ahead.granted = false
		aheadOf.Add(-1)
	}
	c.trim()
}

// readAhead has the next chunks read. The caller holds mu.
func (c *Content) readAhead() {
	for c.ahead.granted && c.ahead.n < runtime.GOMAXPROCS(0) {
		sp, ch := c.next()
		if ch == nil {
			return
		}
		c.ahead.n++
		c.ahead.readers.Go(func() {
			for ch != nil {
				c.read(sp, ch)
				c.mu.Lock()
				if sp, ch = c.next(); ch == nil {
					c.ahead.n--
				}
				c.mu.Unlock()
			}
		})
	}
}

// next returns the next chunk that nobody reads, of what is asked for and of what comes then; nil: enough is read. None
// is read ahead twice, even if it was let go again. The caller holds mu.
func (c *Content) next() (object.Span, *chunk) {
	i, end := c.search(max(c.from, c.ahead.begun)), c.search(c.front)
	if i < 0 || !c.ahead.granted {
		return object.Span{}, nil
	}
	if end < 0 {
		end = len(c.spans)
	}
	for _, sp := range c.spans[i:max(i, min(end+chunksAhead, len(c.spans)))] {
		c.ahead.begun = sp.Offset + sp.Length
		if sp.Zero || sp.Data != nil {
			continue
		}
		if ch, mine := c.begin(sp.Chunk); mine {
			return sp, ch
		}
	}
	return object.Span{}, nil
}
