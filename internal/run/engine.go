package run

import (
	"context"
	"sync"
	"time"

	"candidharbor/internal/datadir"
)

// Engine runs work, one run beside the others, and tells subscribers how it goes.
type Engine struct {
	*datadir.Dir
	started time.Time // when the service began

	ctx     context.Context // ends when the site closes
	stopAll context.CancelFunc
	jobs    sync.WaitGroup
	wake    chan struct{}
	events  *hub

	onChanged []func(volumes []string)

	mu     sync.Mutex
	active map[int64]*Job
	held   map[Key]chan struct{} // one snapshot, restore in place or carry per key
}

// New makes an engine that records its runs in a data directory's catalogue.
func New(dir *datadir.Dir) *Engine {
	s := &Engine{Dir: dir, wake: make(chan struct{}, 1), events: &hub{subs: map[chan Event]struct{}{}},
		active: map[int64]*Job{}, held: map[Key]chan struct{}{}}
	s.ctx, s.stopAll = context.WithCancel(context.Background())
	return s
}

// Begin notes that the service begins now.
func (s *Engine) Begin() { s.started = s.Clock.Now() }

// OnChanged has a function called with the volumes of which records changed; none: any of them
// may have. All are set before the first run.
func (s *Engine) OnChanged(f func(volumes []string)) { s.onChanged = append(s.onChanged, f) }

// Changed wakes the scheduler and tells subscribers that a kind of record changed, of the
// named volumes or of all.
func (s *Engine) Changed(topic string, volumes ...string) {
	s.Forget(volumes)
	s.Tell(topic)
}

// Forget has what was found out about volumes, or all: none, found out anew.
func (s *Engine) Forget(volumes []string) {
	for _, f := range s.onChanged {
		f(volumes)
	}
}

// Tell wakes the scheduler and subscribers where no verdict can have changed.
func (s *Engine) Tell(topic string) {
	s.Publish(topic)
	s.Wake()
}

// Publish tells subscribers alone.
func (s *Engine) Publish(topic string) { s.events.publish(Event{Topic: topic}) }

// Wake has the schedule look what is due.
func (s *Engine) Wake() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// Woken is ready when the schedule is to look what is due.
func (s *Engine) Woken() <-chan struct{} { return s.wake }

// Context ends when the site closes.
func (s *Engine) Context() context.Context { return s.ctx }

// Go does work beside others that Close waits for.
func (s *Engine) Go(work func(ctx context.Context)) {
	s.jobs.Go(func() { work(s.ctx) })
}

// Stop has all that goes on come to its end, and does not wait for it.
func (s *Engine) Stop() { s.stopAll() }

// EndRuns ends all that goes on and waits for it.
func (s *Engine) EndRuns() {
	s.stopAll()
	s.Join()
}

// Join waits until all that goes on is over.
func (s *Engine) Join() { s.jobs.Wait() }

// Hold takes a key that one job at a time may have, waiting for the one before.
func (s *Engine) Hold(ctx context.Context, key Key) (release func(), err error) {
	for {
		s.mu.Lock()
		ch, taken := s.held[key]
		if !taken {
			ch = make(chan struct{})
			s.held[key] = ch
			s.mu.Unlock()
			return func() {
				s.mu.Lock()
				delete(s.held, key)
				s.mu.Unlock()
				close(ch)
			}, nil
		}
		s.mu.Unlock()
		select {
		case <-ch:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// IsHeld reports whether a run has a key at present.
func (s *Engine) IsHeld(key Key) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, ok := s.held[key]
	return ok
}

// Started is when the service began.
func (s *Engine) Started() time.Time { return s.started }
