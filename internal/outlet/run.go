package outlet

import (
	"context"
	"errors"
	"io"
	"net"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/refusal"
	"candidharbor/internal/route"
	"candidharbor/internal/run"
	"candidharbor/internal/visible"

	"github.com/pkg/sftp"
)

// Step starts every outlet that has something to lay out and does not wait to try again. It returns when the next try
// is due.
func (s *Service) Step(ctx context.Context, wait bool) (next time.Time, err error) {
	if s.IsPlace {
		return next, nil
	}
	all, err := s.Catalog.Outlets()
	if err != nil || len(all) == 0 {
		return next, err
	}
	now := s.Clock.Now()
	newest, err := s.Catalog.NewestOf(s.Place())
	if err != nil {
		return next, err
	}
	var started []*run.Job
	for _, o := range all {
		if !o.Paused.IsZero() || s.run.IsHeld(run.KeyOutlet.Of(o.Name)) {
			continue
		}
		if o.NextTry.After(now) {
			if next.IsZero() || o.NextTry.Before(next) {
				next = o.NextTry.Time
			}
			continue
		}
		is, err := s.behind(o, newest)
		if err != nil {
			return next, err
		}
		if !is && o.Failures == 0 {
			continue
		}
		j, err := s.start(o.Name, "the schedule", false)
		if err != nil {
			return next, err
		}
		started = append(started, j)
	}
	for _, j := range started {
		if !wait {
			break
		}
		if err := j.Wait(ctx); err != nil && ctx.Err() != nil {
			return next, err
		}
	}
	return next, nil
}

// behind tells whether a volume has a newer state than lies at an outlet.
func (s *Service) behind(o *catalog.Outlet, newest map[string]catalog.Newest) (bool, error) {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return false, err
	}
	lies, err := s.lies(o.Name)
	if err != nil {
		return false, err
	}
	files, _ := chosen(o, vols)
	behind := false
	for _, v := range files {
		last, taken := newest[v.Lineage]
		is := lies[v.Lineage]
		behind = behind || taken && (is == nil || is.Snapshot != last.ID)
		delete(lies, v.Lineage)
	}
	for lineage := range lies { // what it does not choose any more stays there, and holds nothing here
		if err := s.changes(s.Catalog.ForgetLaidOut(o.Name, lineage)); err != nil {
			return false, err
		}
	}
	return behind, nil
}

// lies is what lies at an outlet, by lineage.
func (s *Service) lies(outlet string) (map[string]*catalog.LaidOut, error) {
	all, err := s.Catalog.LaidOut(outlet)
	out := map[string]*catalog.LaidOut{}
	for _, l := range all {
		out[l.Lineage] = l
	}
	return out, err
}

// Run brings an outlet up to date now; with verify all that lies there is read back, and put right.
func (s *Service) Run(name, by string, verify bool) (api.Run, error) {
	if s.IsPlace {
		return api.Run{}, pairing.ErrPlaceHolds
	}
	o, err := s.Catalog.Outlet(name)
	if err != nil {
		return api.Run{}, err
	}
	if !o.Paused.IsZero() {
		return api.Run{}, refusal.Conflictf("outlet %s is paused: candid outlet resume %s", name, name)
	}
	j, err := s.start(name, by, verify)
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

func (s *Service) start(name, by string, verify bool) (*run.Job, error) {
	return s.run.Start("outlet", name, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		j.Say("waiting for another run of this outlet")
		release, err := s.run.Hold(ctx, run.KeyOutlet.Of(name))
		if err != nil {
			return nil, "", err
		}
		defer release()
		o, err := s.Catalog.Outlet(name)
		if err != nil {
			return nil, "", err
		}
		if !o.Paused.IsZero() {
			return nil, "it is paused", nil
		}
		r := &outletRun{s: s, j: j, o: o, verify: verify, res: &result{}}
		j.Begin(func() api.Progress { return api.Progress{DoneBytes: r.res.Bytes.Load(), Files: r.res.Written.Load()} })
		words, err := r.all(ctx)
		if nerr := s.note(name, err, ctx.Err() != nil); nerr != nil {
			err = errors.Join(err, nerr)
		}
		s.run.Tell("outlets")
		if err != nil {
			return nil, "", err
		}
		return map[string]int64{"written": r.res.Written.Load(), "removed": r.res.Removed.Load(), "bytes": r.res.Bytes.Load(),
			"righted": r.res.Righted.Load()}, words, nil
	})
}

// note records how a run ended, and when it is tried again.
func (s *Service) note(name string, err error, cancelled bool) error {
	o, cerr := s.Catalog.Outlet(name)
	if cerr != nil || cancelled {
		return nil // it is closed
	}
	now := s.Clock.Now()
	if err == nil {
		o.LastOK, o.FailingSince, o.NextTry = catalog.At(now), catalog.Time{}, catalog.Time{}
		o.Failures, o.LastError, o.LastCause = 0, "", ""
		return s.Catalog.OutletWent(o)
	}
	if o.Failures == 0 {
		o.FailingSince = catalog.At(now)
	}
	o.Failures++
	o.LastError, o.LastCause = visible.Line(err.Error()), causeOf(err)
	o.NextTry = catalog.At(now.Add(route.RetryAfter(o.Failures - 1)))
	return s.Catalog.OutletWent(o)
}

// unreachable is the error of a machine that no connection leads to.
type unreachable struct{ error }

func (u unreachable) Unwrap() error { return u.error }

func causeOf(err error) catalog.OutletCause {
	var other *otherKey
	var out *notIn
	var down unreachable
	switch {
	case errors.As(err, &other), errors.As(err, &out):
		return catalog.OutletRefused
	case errors.As(err, &down):
		return catalog.OutletUnreachable
	}
	return catalog.OutletFailed
}

// lost reports whether a connection ended that was still needed.
func lost(err error) bool {
	var net net.Error
	return errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, io.EOF) || errors.As(err, &net)
}
