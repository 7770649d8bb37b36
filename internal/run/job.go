package run

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
	"candidharbor/internal/refusal"
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
func (s *Engine) Subscribe() (events <-chan Event, end func()) {
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

// Job is a run while it is queued or running.
type Job struct {
	finally func()      // after the end was recorded
	waits   atomic.Bool // it has not begun: what is asked for meanwhile is in it already
	s       *Engine
	cancel  context.CancelFunc
	done    chan struct{}
	err     error

	mu       sync.Mutex
	row      catalog.Run
	progress func() api.Progress
	phase    string
	remarks  bool
	began    time.Time // by the host's clock, for rates
	pace     RecentRate
}

// Start queues a run. work returns the result and the outcome in words.
func (s *Engine) Start(kind, subject, by string, work func(ctx context.Context, j *Job) (result any, outcome string,
	err error)) (*Job, error) {
	if s.ctx.Err() != nil {
		return nil, refusal.Conflictf("the service is stopping")
	}
	if !slices.Contains(kinds, kind) {
		return nil, fmt.Errorf("run of the kind %q, which run.kinds does not have", kind)
	}
	j := &Job{s: s, done: make(chan struct{})}
	j.row = catalog.Run{Kind: kind, Subject: subject, State: api.RunQueued, Queued: catalog.At(s.Clock.Now()), AskedBy: by}
	if err := s.Catalog.AddRun(&j.row); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(s.ctx)
	j.cancel = cancel
	s.mu.Lock()
	s.active[j.row.ID] = j
	s.mu.Unlock()
	s.jobs.Go(func() {
		defer cancel()
		j.run(ctx, work)
		s.mu.Lock()
		delete(s.active, j.row.ID)
		s.mu.Unlock()
		close(j.done)
	})
	return j, nil
}

func (j *Job) run(ctx context.Context, work func(ctx context.Context, j *Job) (any, string, error)) {
	j.publish()
	tick := time.NewTicker(400 * time.Millisecond)
	defer tick.Stop()
	finished := make(chan struct{})
	var telling sync.WaitGroup
	telling.Go(func() {
		for {
			select {
			case <-tick.C:
				j.publish()
			case <-finished:
				return
			}
		}
	})
	result, outcome, err := work(ctx, j)
	close(finished)
	telling.Wait()
	j.mu.Lock()
	now := j.s.Clock.Now()
	j.row.Ended = catalog.At(now)
	if j.row.Began.IsZero() {
		j.row.Began = j.row.Ended
	}
	switch {
	case err != nil && ctx.Err() != nil:
		why, leaves := "cancelled", "nothing half done is left behind"
		if j.s.Context().Err() != nil {
			why = "cancelled because the service stopped"
		}
		if p := (*Partly)(nil); errors.As(err, &p) {
			leaves = p.Leaves
		}
		j.row.State, j.row.Outcome = api.RunCancelled, why+"; "+leaves
	case err != nil:
		j.row.State, j.row.Outcome = api.RunFailed, err.Error()
	case j.remarks:
		j.row.State, j.row.Outcome = api.RunDoneWithRemarks, outcome
	default:
		j.row.State, j.row.Outcome = api.RunDone, outcome
	}
	j.err = err
	j.phase = ""
	j.row.Progress, _ = json.Marshal(j.progressLocked(false))
	if result != nil {
		j.row.Result, _ = json.Marshal(result)
	}
	row := j.row
	j.mu.Unlock()
	if err := j.s.Catalog.UpdateRun(&row); err != nil {
		j.s.Log.Error("a run's end could not be recorded", "run", row.ID, "error", err)
	}
	if j.finally != nil {
		j.finally()
	}
	j.publish()
}

// Partly is the error of work that was cancelled in the middle and leaves something behind.
type Partly struct{ Leaves string }

func (p *Partly) Error() string { return p.Leaves }

// Begin notes that the run no longer waits.
func (j *Job) Begin(progress func() api.Progress) {
	j.mu.Lock()
	j.row.State, j.row.Began, j.progress, j.began = api.RunRunning, catalog.At(j.s.Clock.Now()), progress, time.Now()
	row := j.row
	j.mu.Unlock()
	if err := j.s.Catalog.UpdateRun(&row); err != nil {
		j.s.Log.Error("a run's beginning could not be recorded", "run", row.ID, "error", err)
	}
	j.publish()
}

// Keep records what is known of a run's result before its end.
func (j *Job) Keep(result any) error {
	raw, err := json.Marshal(result)
	if err != nil {
		return err
	}
	j.mu.Lock()
	j.row.Result = raw
	row := j.row
	j.mu.Unlock()
	return j.s.Catalog.UpdateRun(&row)
}

// Say tells what the run does now.
func (j *Job) Say(phase string) {
	j.mu.Lock()
	j.phase = phase
	j.mu.Unlock()
}

// Logf adds a line to the log of the run.
func (j *Job) Logf(format string, args ...any) {
	j.LogAll([]string{fmt.Sprintf(format, args...)})
}

// LogAll adds lines to the log of the run.
func (j *Job) LogAll(lines []string) {
	if err := j.s.Catalog.AddLog(j.row.ID, j.s.Clock.Now(), lines...); err != nil {
		j.s.Log.Error("lines of a run's log could not be recorded", "run", j.row.ID, "lines", len(lines), "error", err)
	}
}

// Remark has the run end with remarks.
func (j *Job) Remark() {
	j.mu.Lock()
	j.remarks = true
	j.mu.Unlock()
}

func (j *Job) progressLocked(live bool) api.Progress {
	var p api.Progress
	if j.progress != nil {
		p = j.progress()
	}
	if p.Phase == "" {
		p.Phase = j.phase
	}
	if live && !j.began.IsZero() {
		p.BytesPerSecond = j.pace.Rate(time.Now(), j.began, p.DoneBytes)
		if p.BytesPerSecond > 0 && p.TotalBytes > p.DoneBytes {
			p.SecondsLeft = float64(p.TotalBytes-p.DoneBytes) / p.BytesPerSecond
		}
	}
	return p
}

// View is the run as it is now.
func (j *Job) View() api.Run {
	j.mu.Lock()
	defer j.mu.Unlock()
	v := runView(&j.row)
	if !v.Over() {
		v.Progress = j.progressLocked(true)
	}
	return v
}

func (j *Job) publish() {
	v := j.View()
	j.s.events.publish(Event{Topic: "run", Run: &v})
}

// Wait waits for the end of the run and returns why it failed.
func (j *Job) Wait(ctx context.Context) error {
	select {
	case <-j.done:
		return j.err
	case <-ctx.Done():
		return ctx.Err()
	}
}

func runView(r *catalog.Run) api.Run {
	v := api.Run{ID: r.ID, Kind: r.Kind, Subject: r.Subject, State: r.State, Queued: r.Queued.Time, Began: r.Began.Ptr(),
		Ended:   r.Ended.Ptr(),
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
func (s *Engine) Run(id int64) (api.Run, error) {
	s.mu.Lock()
	j := s.active[id]
	s.mu.Unlock()
	var v api.Run
	if j != nil {
		v = j.View()
	} else {
		row, err := s.Catalog.Run(id)
		if err != nil {
			return v, err
		}
		v = runView(row)
	}
	lines, err := s.Catalog.Log(id)
	for _, l := range lines {
		v.Log = append(v.Log, api.LogLine{At: l.At.Time, Text: l.Text})
	}
	return v, err
}

// Runs lists runs, newest first; before is the cursor.
func (s *Engine) Runs(f catalog.RunFilter) (api.Page[api.Run], error) {
	limit := f.Limit
	f.Limit++
	rows, err := s.Catalog.Runs(f)
	page := api.Page[api.Run]{Items: []api.Run{}}
	for i, r := range rows {
		if i == limit {
			page.Next = fmt.Sprint(rows[i-1].ID)
			break
		}
		s.mu.Lock()
		j := s.active[r.ID]
		s.mu.Unlock()
		if j != nil {
			page.Items = append(page.Items, j.View())
		} else {
			page.Items = append(page.Items, runView(r))
		}
	}
	return page, err
}

// Running lists the runs that are queued or running, oldest first.
func (s *Engine) Running() []api.Run {
	s.mu.Lock()
	var js []*Job
	for _, j := range s.active {
		js = append(js, j)
	}
	s.mu.Unlock()
	out := make([]api.Run, 0, len(js))
	for _, j := range js {
		if v := j.View(); !v.Over() {
			out = append(out, v)
		}
	}
	slices.SortFunc(out, func(a, b api.Run) int { return int(a.ID - b.ID) })
	return out
}

// Cancel ends a run at its next safe point.
func (s *Engine) Cancel(id int64) error {
	s.mu.Lock()
	j := s.active[id]
	s.mu.Unlock()
	if j == nil {
		row, err := s.Catalog.Run(id)
		if err != nil {
			return err
		}
		return refusal.Conflictf("run %d is %s already", id, row.State)
	}
	j.cancel()
	return nil
}

// Wait waits until a run is over.
func (s *Engine) Wait(ctx context.Context, id int64) (api.Run, error) {
	s.mu.Lock()
	j := s.active[id]
	s.mu.Unlock()
	if j != nil {
		if err := j.Wait(ctx); err != nil && ctx.Err() != nil {
			return api.Run{}, err
		}
	}
	return s.Run(id)
}

// StopRun cancels the runs of a kind and subject, if any go.
func (s *Engine) StopRun(kind, subject string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, j := range s.active {
		if j.row.Kind == kind && j.row.Subject == subject {
			j.cancel()
		}
	}
}

// Waiting is the run of a kind and subject that is queued and says that it waits, or nil: what is
// asked for meanwhile is in it already.
func (s *Engine) Waiting(kind, subject string) *Job {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, j := range s.active {
		if j.row.Kind == kind && j.row.Subject == subject && j.waits.Load() {
			return j
		}
	}
	return nil
}

// ID is the number of the run.
func (j *Job) ID() int64 { return j.row.ID }

// Subject is what the run is about.
func (j *Job) Subject() string { return j.row.Subject }

// SetWaits says whether the run still waits to begin: what is asked for meanwhile is in it already.
func (j *Job) SetWaits(waits bool) { j.waits.Store(waits) }

// AtEnd has something done after the end was recorded. The work of the run itself says so.
func (j *Job) AtEnd(f func()) { j.finally = f }

// Stop has the run end at its next safe point.
func (j *Job) Stop() { j.cancel() }
