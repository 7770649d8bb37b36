package site

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
)

// Event tells that something changed. Run is set for runs.
type Event struct {
	Topic string   `json:"topic"` // run, snapshots, volumes, policies, routes, sites
	Run   *api.Run `json:"run,omitempty"`
}

// hub hands events to subscribers. A slow subscriber loses events, never delays work.
type hub struct {
	mu   sync.Mutex
	subs map[chan Event]struct{}
}

func newHub() *hub { return &hub{subs: map[chan Event]struct{}{}} }

func (h *hub) publish(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.subs {
		select {
		case ch <- e:
		default:
		}
	}
}

// Subscribe returns a channel of events; call end when done.
func (s *Site) Subscribe() (events <-chan Event, end func()) {
	ch := make(chan Event, 256)
	s.events.mu.Lock()
	s.events.subs[ch] = struct{}{}
	s.events.mu.Unlock()
	return ch, func() {
		s.events.mu.Lock()
		delete(s.events.subs, ch)
		s.events.mu.Unlock()
	}
}

// job is a run while it is queued or running.
type job struct {
	finally func()      // after the end was recorded
	waits   atomic.Bool // it has not begun: what is asked for meanwhile is in it already
	s       *Site
	cancel  context.CancelFunc
	done    chan struct{}
	err     error

	mu       sync.Mutex
	row      catalog.Run
	progress func() api.Progress
	phase    string
	remarks  bool
	began    time.Time // by the host's clock, for rates
	pace     lately
}

// start queues a run. work returns the result and the outcome in words.
func (s *Site) start(kind, subject, by string, work func(ctx context.Context, j *job) (result any, outcome string, err error)) (*job, error) {
	if s.ctx.Err() != nil {
		return nil, conflict("the service is stopping")
	}
	j := &job{s: s, done: make(chan struct{})}
	j.row = catalog.Run{Kind: kind, Subject: subject, State: "queued", Queued: catalog.At(s.clock.Now()), AskedBy: by}
	if err := s.cat.AddRun(&j.row); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(s.ctx)
	j.cancel = cancel
	s.runsMu.Lock()
	s.active[j.row.ID] = j
	s.runsMu.Unlock()
	s.jobs.Add(1)
	go func() {
		defer s.jobs.Done()
		defer cancel()
		j.run(ctx, work)
		s.runsMu.Lock()
		delete(s.active, j.row.ID)
		s.runsMu.Unlock()
		close(j.done)
	}()
	return j, nil
}

func (j *job) run(ctx context.Context, work func(ctx context.Context, j *job) (any, string, error)) {
	j.publish()
	tick := time.NewTicker(400 * time.Millisecond)
	defer tick.Stop()
	finished := make(chan struct{})
	go func() {
		for {
			select {
			case <-tick.C:
				j.publish()
			case <-finished:
				return
			}
		}
	}()
	result, outcome, err := work(ctx, j)
	close(finished)
	j.mu.Lock()
	now := j.s.clock.Now()
	j.row.Ended = catalog.At(now)
	if j.row.Began.IsZero() {
		j.row.Began = j.row.Ended
	}
	switch {
	case err != nil && ctx.Err() != nil:
		why, leaves := "cancelled", "nothing half done is left behind"
		if j.s.closing().Err() != nil {
			why = "cancelled because the service stopped"
		}
		if p := (*partly)(nil); errors.As(err, &p) {
			leaves = p.leaves
		}
		j.row.State, j.row.Outcome = "cancelled", why+"; "+leaves
	case err != nil:
		j.row.State, j.row.Outcome = "failed", err.Error()
	case j.remarks:
		j.row.State, j.row.Outcome = "done with remarks", outcome
	default:
		j.row.State, j.row.Outcome = "done", outcome
	}
	j.err = err
	j.phase = ""
	j.row.Progress, _ = json.Marshal(j.progressLocked(false))
	if result != nil {
		j.row.Result, _ = json.Marshal(result)
	}
	row := j.row
	j.mu.Unlock()
	if err := j.s.cat.UpdateRun(&row); err != nil {
		j.s.log.Error("a run's end could not be recorded", "run", row.ID, "error", err)
	}
	if j.finally != nil {
		j.finally()
	}
	j.publish()
}

// partly is the error of work that was cancelled in the middle and leaves something behind.
type partly struct{ leaves string }

func (p *partly) Error() string { return p.leaves }

// begin notes that the run no longer waits.
func (j *job) begin(progress func() api.Progress) {
	j.mu.Lock()
	j.row.State, j.row.Began, j.progress, j.began = "running", catalog.At(j.s.clock.Now()), progress, time.Now()
	row := j.row
	j.mu.Unlock()
	if err := j.s.cat.UpdateRun(&row); err != nil {
		j.s.log.Error("a run's beginning could not be recorded", "run", row.ID, "error", err)
	}
	j.publish()
}

// keep records what is known of a run's result before its end.
func (j *job) keep(result any) error {
	raw, err := json.Marshal(result)
	if err != nil {
		return err
	}
	j.mu.Lock()
	j.row.Result = raw
	row := j.row
	j.mu.Unlock()
	return j.s.cat.UpdateRun(&row)
}

func (j *job) say(phase string) {
	j.mu.Lock()
	j.phase = phase
	j.mu.Unlock()
}

func (j *job) logf(format string, args ...any) {
	j.logAll([]string{fmt.Sprintf(format, args...)})
}

func (j *job) logAll(lines []string) {
	if err := j.s.cat.AddLog(j.row.ID, j.s.clock.Now(), lines...); err != nil {
		j.s.log.Error("lines of a run's log could not be recorded", "run", j.row.ID, "lines", len(lines), "error", err)
	}
}

func (j *job) remark() {
	j.mu.Lock()
	j.remarks = true
	j.mu.Unlock()
}

func (j *job) progressLocked(live bool) api.Progress {
	var p api.Progress
	if j.progress != nil {
		p = j.progress()
	}
	if p.Phase == "" {
		p.Phase = j.phase
	}
	if live && !j.began.IsZero() {
		p.BytesPerSecond = j.pace.rate(time.Now(), j.began, p.DoneBytes)
		if p.BytesPerSecond > 0 && p.TotalBytes > p.DoneBytes {
			p.SecondsLeft = float64(p.TotalBytes-p.DoneBytes) / p.BytesPerSecond
		}
	}
	return p
}

func (j *job) view() api.Run {
	j.mu.Lock()
	defer j.mu.Unlock()
	v := runView(&j.row)
	if !v.Over() {
		v.Progress = j.progressLocked(true)
	}
	return v
}

func (j *job) publish() {
	v := j.view()
	j.s.events.publish(Event{Topic: "run", Run: &v})
}

func (j *job) wait(ctx context.Context) error {
	select {
	case <-j.done:
		return j.err
	case <-ctx.Done():
		return ctx.Err()
	}
}

func runView(r *catalog.Run) api.Run {
	v := api.Run{ID: r.ID, Kind: r.Kind, Subject: r.Subject, State: r.State, Queued: r.Queued.Time, Began: r.Began.Ptr(), Ended: r.Ended.Ptr(),
		AskedBy: r.AskedBy, Outcome: r.Outcome}
	if len(r.Progress) > 0 {
		_ = json.Unmarshal(r.Progress, &v.Progress)
	}
	if len(r.Result) > 0 && string(r.Result) != "null" {
		v.Result = r.Result
	}
	return v
}

// Run returns one run with its log.
func (s *Site) Run(id int64) (api.Run, error) {
	s.runsMu.Lock()
	j := s.active[id]
	s.runsMu.Unlock()
	var v api.Run
	if j != nil {
		v = j.view()
	} else {
		row, err := s.cat.Run(id)
		if err != nil {
			return v, err
		}
		v = runView(row)
	}
	lines, err := s.cat.Log(id)
	for _, l := range lines {
		v.Log = append(v.Log, api.LogLine{At: l.At.Time, Text: l.Text})
	}
	return v, err
}

// Runs lists runs, newest first; before is the cursor.
func (s *Site) Runs(f catalog.RunFilter) (api.Page[api.Run], error) {
	limit := f.Limit
	f.Limit++
	rows, err := s.cat.Runs(f)
	page := api.Page[api.Run]{Items: []api.Run{}}
	for i, r := range rows {
		if i == limit {
			page.Next = fmt.Sprint(rows[i-1].ID)
			break
		}
		s.runsMu.Lock()
		j := s.active[r.ID]
		s.runsMu.Unlock()
		if j != nil {
			page.Items = append(page.Items, j.view())
		} else {
			page.Items = append(page.Items, runView(r))
		}
	}
	return page, err
}

// running lists the runs that are queued or running, oldest first.
func (s *Site) running() []api.Run {
	s.runsMu.Lock()
	var js []*job
	for _, j := range s.active {
		js = append(js, j)
	}
	s.runsMu.Unlock()
	out := make([]api.Run, 0, len(js))
	for _, j := range js {
		if v := j.view(); !v.Over() {
			out = append(out, v)
		}
	}
	slices.SortFunc(out, func(a, b api.Run) int { return int(a.ID - b.ID) })
	return out
}

// Cancel ends a run at its next safe point.
func (s *Site) Cancel(id int64) error {
	s.runsMu.Lock()
	j := s.active[id]
	s.runsMu.Unlock()
	if j == nil {
		row, err := s.cat.Run(id)
		if err != nil {
			return err
		}
		return conflict("run %d is %s already", id, row.State)
	}
	j.cancel()
	return nil
}

// Wait waits until a run is over.
func (s *Site) Wait(ctx context.Context, id int64) (api.Run, error) {
	s.runsMu.Lock()
	j := s.active[id]
	s.runsMu.Unlock()
	if j != nil {
		if err := j.wait(ctx); err != nil && ctx.Err() != nil {
			return api.Run{}, err
		}
	}
	return s.Run(id)
}

// stopRun cancels the runs of a kind and subject, if any go.
func (s *Site) stopRun(kind, subject string) {
	s.runsMu.Lock()
	defer s.runsMu.Unlock()
	for _, j := range s.active {
		if j.row.Kind == kind && j.row.Subject == subject {
			j.cancel()
		}
	}
}

func (s *Site) initRuns() {
	s.wake, s.events = make(chan struct{}, 1), newHub()
	s.active, s.busy = map[int64]*job{}, map[string]chan struct{}{}
	s.ctx, s.stopAll = context.WithCancel(context.Background())
}

// beginRuns notes when the service began.
func (s *Site) beginRuns() { s.started = s.clock.Now() }
