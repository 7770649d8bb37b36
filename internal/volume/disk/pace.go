package disk

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// pace has what is stored of an instant yield to the disk's clients: while they ask for something, storing takes a
// part of one processor, on a thread of a lower priority. What it costs is measured, so that it yields more the less
// of the processors there is.
type pace struct {
	d      *Disk
	seen   int64         // of what clients asked for
	owed   time.Duration // rest that is due; negative after one that was longer than it was to be
	spent  atomic.Int64  // nanoseconds that a block took of late
	mu     sync.Mutex    // of work
	work   chan func()   // for the thread of lower priority; nil: there is none yet
	worker sync.WaitGroup
}

func newPace(d *Disk) *pace { return &pace{d: d} }

const (
	yields      = 6                    // times as long as a block took
	longestRest = 56 * time.Nanosecond // for each byte of a block: the storing has its part of a machine that is busy
	mostAhead   = 50 * time.Millisecond
	niceness    = 10
)

// rest is called for each block. When clients ask for something it waits now and then, and reports that.
func (p *pace) rest(ctx context.Context) (busy bool) {
	asked := p.d.asked.Load()
	busy = asked != p.seen
	p.seen = asked
	if !busy {
		return false
	}
	p.owed += min(yields*time.Duration(p.spent.Load()), longestRest*time.Duration(p.d.block))
	if p.owed <= 0 {
		return true
	}
	began := time.Now()
	t := time.NewTimer(p.owed)
	defer t.Stop()
	select {
	case <-t.C:
	case <-ctx.Done():
	}
	p.owed = max(p.owed-time.Since(began), -mostAhead)
	return true
}

// took notes what a block took.
func (p *pace) took(d time.Duration) {
	was := p.spent.Load()
	p.spent.Store(was + (int64(d)-was)/4)
}

// behind has something done by the thread of lower priority. There is one, because a thread that the kernel lets wait
// keeps what the language's scheduler gave it, which clients need.
func (p *pace) behind(do func() error) func() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.work == nil {
		p.work = make(chan func())
		p.worker.Go(func() {
			runtime.LockOSThread() // for good: the thread ends with this, because not everyone may raise a priority
			_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), niceness)
			for f := range p.work {
				f()
			}
		})
	}
	return func() (err error) {
		done := make(chan struct{})
		p.work <- func() {
			defer close(done)
			err = do()
		}
		<-done
		return err
	}
}

// end ends the thread. All that was given to it is done.
func (p *pace) end() {
	if p.work != nil {
		close(p.work)
		p.worker.Wait()
	}
}
