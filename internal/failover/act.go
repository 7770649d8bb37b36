package failover

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/netns"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/runbook"
)

// The kinds of acts.
const (
	planned   = "planned"
	unplanned = "unplanned"
	drill     = "drill"
	handOver  = "hand-over" // the other end of a planned one
)

// act is one move of the active side to this site. What is done and what is next is durable before it is done.
type act struct {
	s    *Service
	row  catalog.Failover
	book *runbook.Runbook
	doc  actDoc
	j    *run.Job
	net  *netns.Network // of a drill; nil: the host's
}

// actDoc is what a row of failovers says of its steps.
type actDoc struct {
	Body    string      `json:"body"` // of the runbook, as it was when it began
	Version int         `json:"version"`
	Volumes []actVolume `json:"volumes"`
	Steps   []actStep   `json:"steps"`
	Record  string      `json:"record,omitempty"` // of authority, once it is signed
	Until   time.Time   `json:"until"`            // it goes on by itself after a start no later than that
	Down    time.Time   `json:"down,omitzero"`    // since when nobody serves
	Up      time.Time   `json:"up,omitzero"`      // since when all is served again
	Anyway  bool        `json:"anyway,omitempty"` // although something speaks against it
	Untold  bool        `json:"untold,omitempty"` // the other site does not know that nothing comes of it
	Drill   *drillDoc   `json:"drill,omitempty"`
}

// actVolume is what is brought up.
type actVolume struct {
	Name   string    `json:"name"`
	Group  string    `json:"group,omitempty"` // with which it is taken
	Up     bool      `json:"up,omitempty"`    // it was served here before this began
	From   string    `json:"from,omitempty"`  // the snapshot from which it goes on
	Taken  time.Time `json:"taken,omitzero"`
	Known  time.Time `json:"known,omitzero"`   // up to when it is known to have been so, by this site's clock
	Within int64     `json:"within,omitempty"` // by which that may be wrong
	Loss   int64     `json:"loss,omitempty"`   // nanoseconds of which nothing arrived
	Doubt  int64     `json:"doubt,omitempty"`
	Place  string    `json:"place,omitempty"` // in a drill: its directory, or the name of its export
}

// actStep is one step and how far it came.
type actStep struct {
	Code    string    `json:"code"`
	Text    string    `json:"text"`
	State   string    `json:"state"`
	Began   time.Time `json:"began,omitzero"`
	Ended   time.Time `json:"ended,omitzero"`
	Attempt int       `json:"attempt,omitempty"`
	Said    string    `json:"said,omitempty"`
	Book    int       `json:"book"` // the step of the runbook; -1: none
	After   bool      `json:"after,omitempty"`
}

// The codes of steps beside those of the runbook.
const (
	stepAsk       = "ask"
	stepChoose    = "choose"
	stepCarry     = "carry"
	stepFreeze    = "freeze"
	stepAuthority = "authority"
	stepWitness   = "witness"
	stepRoutes    = "routes"
)

func newID() string {
	var b [8]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// actOf is the identity of an act as records of authority have it.
func actOf(id string) (out [16]byte) {
	raw, _ := hex.DecodeString(id)
	copy(out[:], raw)
	return out
}

func (o *act) save() error {
	raw, err := json.Marshal(o.doc)
	if err != nil {
		return err
	}
	o.row.Doc = string(raw)
	err = o.s.Catalog.PutFailover(&o.row)
	o.s.run.Tell("failovers")
	return err
}

func (s *Service) read(row *catalog.Failover) (*act, error) {
	o := &act{s: s, row: *row}
	if err := json.Unmarshal([]byte(row.Doc), &o.doc); err != nil {
		return nil, fmt.Errorf("failover %s: %w", row.ID, err)
	}
	if row.Kind == handOver {
		return o, nil
	}
	var err error
	o.book, err = runbook.Parse(o.doc.Body)
	return o, err
}

// begun is begin for who is shown the act: from its beginning on the act is its run's alone.
func (o *act) begun(by string) (*api.Failover, error) {
	id, kind := o.row.ID, o.row.Kind
	if err := o.begin(by); err != nil {
		return nil, err
	}
	if kind == drill {
		return o.s.Drill(id)
	}
	return o.s.Show(id)
}

// begin starts the run of an act, or of one that goes on.
func (o *act) begin(by string) error {
	o.row.State = api.FailoverRunning
	if err := o.save(); err != nil {
		return err
	}
	s, id := o.s, o.row.ID
	s.mu.Lock() // so that it is there before it can end
	defer s.mu.Unlock()
	j, err := s.run.Start(o.kindOfRun(), o.row.Runbook, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		defer func() {
			s.mu.Lock()
			delete(s.acting, id)
			s.mu.Unlock()
		}()
		defer o.leave()
		o.j = j
		return o.work(ctx)
	})
	if err == nil {
		s.acting[id] = j
	}
	return err
}

func (o *act) kindOfRun() string {
	if o.doc.Drill != nil {
		return drill
	}
	return "failover"
}

// leave ends what was started in the network of a drill, and lets that go.
func (o *act) leave() {
	if o.net == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := errors.Join(netns.End(ctx, o.net, o.marker()), o.net.Close()); err != nil {
		o.s.Log.Error("what a drill started does not end", "drill", o.row.ID, "error", err)
	}
}

// work does what is to be done, step by step.
func (o *act) work(ctx context.Context) (any, string, error) {
	o.row.Run = o.j.ID()
	if err := o.save(); err != nil {
		return nil, "", err
	}
	o.j.Begin(nil)
	if o.doc.Drill != nil && o.doc.Drill.Ends {
		return nil, "what was left of the drill is taken away", o.drillOver(ctx)
	}
	trouble := 0
	for i := range o.doc.Steps {
		st := &o.doc.Steps[i]
		if st.State == api.StepDone || st.State == api.StepSkipped {
			continue
		}
		st.State, st.Attempt = api.StepRunning, st.Attempt+1
		if st.Began.IsZero() {
			st.Began = o.s.Clock.Now()
		}
		if o.doc.Drill != nil && o.doc.Up.IsZero() && o.isUpBy(st) {
			o.doc.Up = o.s.Clock.Now()
		}
		if err := o.save(); err != nil {
			return nil, "", err
		}
		o.j.Say(st.Text)
		said, err := o.do(ctx, st)
		st.Ended, st.Said = o.s.Clock.Now(), said
		if err != nil && o.s.run.Context().Err() != nil {
			st.State, st.Ended = api.StepToDo, time.Time{}
			return nil, "", errors.Join(o.save(), &run.Partly{Leaves: "the next start of the service goes on with it"})
		}
		if err == nil {
			st.State = api.StepDone
			o.j.Logf("%s: %s", st.Text, said)
		} else {
			st.State, st.Said = api.StepFailed, err.Error()
			o.j.Logf("%s: failed: %s", st.Text, err)
			if !o.goesOn(st) {
				return nil, "", o.stopped(ctx, st, err)
			}
			st.State = api.StepSkipped
			o.j.Remark()
			trouble++
		}
		if err := o.save(); err != nil {
			return nil, "", err
		}
	}
	o.row.State, o.row.Ended = api.FailoverDone, catalog.At(o.s.Clock.Now())
	if err := o.save(); err != nil {
		return nil, "", err
	}
	words := o.outcome()
	if trouble > 0 && o.doc.Drill == nil {
		words += passedOver(trouble)
	}
	return nil, words, nil
}

func passedOver(steps int) string {
	if steps == 1 {
		return " 1 step failed and was passed over."
	}
	return fmt.Sprintf(" %d steps failed and were passed over.", steps)
}

// goesOn reports whether the runbook passes a step over that failed.
func (o *act) goesOn(st *actStep) bool {
	step := o.bookStep(st)
	return step != nil && step.Failing == runbook.GoOn
}

func (o *act) bookStep(st *actStep) *runbook.Step {
	switch {
	case st.Book < 0:
		return nil
	case st.After:
		return &o.book.After[st.Book]
	}
	return &o.book.Steps[st.Book]
}

// moved reports whether this site is the active one by this act.
func (o *act) moved() bool { return o.doc.Record != "" }

// stopped ends an act at a step that failed. Before the authority has moved nothing has changed; after that it can go
// on from there.
func (o *act) stopped(ctx context.Context, st *actStep, why error) error {
	clean := context.WithoutCancel(ctx)
	switch {
	case o.doc.Drill != nil:
		return o.drillStopped(ctx, st, why)
	case !o.moved() && o.row.Kind == planned:
		o.letGo(clean)
		fallthrough
	case !o.moved():
		o.withdraw(clean)
		o.row.State, o.row.Ended = api.FailoverFailed, catalog.At(o.s.Clock.Now())
		if ctx.Err() != nil {
			o.row.State = api.FailoverCancelled
		}
		return errors.Join(fmt.Errorf("nothing was taken over: %s: %w", st.Text, why), o.save())
	}
	o.row.State = api.FailoverStopped
	return errors.Join(fmt.Errorf("%s is active, and %s failed: %w. Mend it and go on: candid failover %s --%s",
		o.s.Name(),
		st.Text, why, o.row.Runbook, o.row.Kind), o.save())
}

func (o *act) do(ctx context.Context, st *actStep) (string, error) {
	if step := o.bookStep(st); step != nil {
		ctx, cancel := context.WithTimeout(ctx, step.Within)
		defer cancel()
		said, err := o.doStep(ctx, st, step)
		if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
			err = fmt.Errorf("not within %s: %w", phrase.Ago(step.Within), err)
		}
		return said, err
	}
	if o.doc.Drill != nil {
		return o.doDrill(ctx, st)
	}
	switch st.Code {
	case stepAsk:
		return o.ask(ctx)
	case stepChoose:
		return o.choose()
	case stepWitness:
		return o.witness(ctx)
	case stepCarry:
		return o.carry(ctx)
	case stepFreeze:
		return o.freeze(ctx)
	case stepAuthority:
		if o.row.Kind == planned {
			return o.takeHandedOver(ctx)
		}
		return o.takeOver()
	case stepRoutes:
		return o.turnRoutes(ctx)
	}
	return "", refusal.Badf("step %q is not known: it was begun by a later release", st.Code)
}

// outcome is how it went, for people.
func (o *act) outcome() string {
	if o.doc.Drill != nil {
		return o.drillOutcome()
	}
	words := fmt.Sprintf("%s is active of %s.", o.s.Name(), phrase.Many(len(o.doc.Volumes), "volume"))
	if !o.doc.Down.IsZero() && !o.doc.Up.IsZero() {
		words += fmt.Sprintf(" Nobody served for %s.", phrase.Ago(o.doc.Up.Sub(o.doc.Down)))
	}
	if o.row.Kind == planned {
		return words + " Nothing was lost."
	}
	var worst int64
	for _, v := range o.doc.Volumes {
		worst = max(worst, v.Loss)
	}
	if worst >= int64(time.Second) {
		words += fmt.Sprintf(" What was written in the last %s before the other site was lost had not arrived.",
			phrase.Ago(time.Duration(worst)))
	}
	return words
}
