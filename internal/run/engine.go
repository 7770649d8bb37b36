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
	Started time.Time // when the service began

	ctx     context.Context // ends when the site closes
	stopAll context.CancelFunc
	jobs    sync.WaitGroup
	wake    chan struct{}
	events  *hub

	onChanged []func(volumes []string)

	mu     sync.Mutex
	active map[int64]*Job
	held   map[string]chan struct{} // one snapshot, restore in place or carry per key
}

// New makes an engine that records its runs in a data directory's catalogue.
func New(dir *datadir.Dir) *Engine {
	s := &Engine{Dir: dir, wake: make(chan struct{}, 1), events: &hub{subs: map[chan Event]struct{}{}},
		active: map[int64]*Job{}, held: map[string]chan struct{}{}}
	s.ctx, s.stopAll = context.WithCancel(context.Background())
	return s
}

// Begin notes that the service begins now.
func (s *Engine) Begin() { s.Started = s.Clock.Now() }

// OnChanged has a function called with the volumes of which records changed; none: any of them
// may have. All are set before the first run.
func (s *Engine) OnChanged(f func(volumes []string)) { s.onChanged = append(s.onChanged, f) }
