package failover

import (
	"context"
	"errors"
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/netns"
)

// roomEvery is how often it is looked whether there is room left while a drill is up.
const roomEvery = 10 * time.Second

// keepUp waits until a drill has been up for as long as it is to be, or is ended. It ends early when room gets short.
func (o *act) keepUp(ctx context.Context) (string, error) {
	d := o.doc.Drill
	d.Until = o.s.Clock.Now().Add(d.Keep)
	o.row.State = api.FailoverUp
	if err := o.save(); err != nil {
		return "", err
	}
	defer func() { o.row.State = api.FailoverRunning }()
	for {
		now := o.s.Clock.Now()
		if !now.Before(d.Until) {
			return "its time is over", nil
		}
		if short := o.shortOfRoom(); short != "" {
			return "ended early, because " + short, nil
		}
		next := now.Add(roomEvery)
		if d.Until.Before(next) {
			next = d.Until
		}
		select {
		case <-o.s.Clock.Until(next):
		case <-ctx.Done():
			if o.s.run.Context().Err() != nil {
				return "", ctx.Err()
			}
			return "it was ended", nil
		}
	}
}

// away takes everything away that belongs to a drill. Done again it goes on.
func (o *act) away(ctx context.Context) (string, error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), drillAwayTime)
	defer cancel()
	for _, end := range []func() error{
		func() error { return netns.End(ctx, o.net, o.marker()) },
		func() error { return o.s.clones.EndDrill(o.row.ID) },
		func() error { return o.s.removePlace(o.doc.Drill) }, // in which nothing is mounted any more
		o.net.Close,
	} {
		if err := end(); err != nil {
			return "", err
		}
	}
	o.net = nil
	o.s.mu.Lock()
	delete(o.s.drilled, o.row.ID)
	o.s.mu.Unlock()
	o.doc.Drill.Gone = o.s.Clock.Now()
	return "nothing of it is left", nil
}

// drillStopped ends a drill at a step that failed: all of it is taken away.
func (o *act) drillStopped(ctx context.Context, st *actStep, why error) error {
	d := o.doc.Drill
	if st.Code == stepAway {
		o.row.State = api.FailoverStopped
		return errors.Join(fmt.Errorf("the drill could not be taken away: %w. To try again: candid drill end %s", why,
			o.row.Runbook), o.save())
	}
	d.Ends, d.Stopped = true, ctx.Err() != nil
	if !d.Stopped {
		d.Failed = st.Text + ": " + why.Error()
	}
	return o.drillOver(context.WithoutCancel(ctx))
}

// drillOver takes away a drill that does not come to its end by itself. The error says why.
func (o *act) drillOver(ctx context.Context) error {
	st := &o.doc.Steps[len(o.doc.Steps)-1]
	st.State, st.Attempt, st.Began = api.StepRunning, st.Attempt+1, o.s.Clock.Now()
	if err := o.save(); err != nil {
		return err
	}
	o.j.Say(st.Text)
	said, err := o.away(ctx)
	st.Ended, st.Said = o.s.Clock.Now(), said
	if err != nil {
		st.State, st.Said = api.StepFailed, err.Error()
		return o.drillStopped(ctx, st, err)
	}
	st.State, o.row.Ended = api.StepDone, catalog.At(o.s.Clock.Now())
	d := o.doc.Drill
	switch {
	case d.Failed != "":
		o.row.State, err = api.FailoverFailed, errors.New("the drill failed: "+d.Failed)
	case d.Stopped || o.doc.Up.IsZero():
		o.row.State, err = api.FailoverCancelled, errors.New("the drill was ended before all was up")
	default: // it was up, and the service has ended meanwhile
		o.row.State = api.FailoverDone
	}
	return errors.Join(o.save(), err)
}

// resumeDrill takes away what the last service left of a drill: what was started in it may be gone.
func (s *Service) resumeDrill(o *act) error {
	d := o.doc.Drill
	if o.doc.Up.IsZero() && d.Failed == "" && !d.Stopped {
		d.Failed = "the service ended before all was up"
	}
	d.Ends = true
	return o.begin("the service")
}
