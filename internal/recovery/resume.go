package recovery

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/tree"
)

// MostTimes bounds how often a restore goes on by itself: what ends the service each time
// is not to be begun for ever.
const MostTimes = 5

// requestOf is a request as it is stored.
func requestOf(a api.RestoreAsk) catalog.RestoreRequest {
	return catalog.RestoreRequest{Volume: a.Volume, Paths: catalog.JSON[[]string]{V: a.Paths}, At: a.At, ToDir: a.To,
		InPlace: a.InPlace, IntoVolume: a.Into, OnConflict: a.OnConflict, FromSite: a.From, External: a.Found}
}

// askOf is a stored request as it was asked.
func askOf(q *catalog.RestoreRequest) api.RestoreAsk {
	return api.RestoreAsk{Volume: q.Volume, Paths: q.Paths.V, At: q.At, To: q.ToDir, InPlace: q.InPlace,
		Into: q.IntoVolume, OnConflict: q.OnConflict, From: q.FromSite, Found: q.External}
}

// Note remembers a restore, until its end is recorded, so that a start after a kill can clear what it left
// unfinished and go on with it.
func (s *Service) Note(run int64, r readyRestore) error {
	c, insteadOf := r.interrupted(run)
	if err := s.Catalog.PutInterruptedRestore(c, insteadOf); err != nil {
		return err
	}
	*r.noted() = true
	return nil
}

// noteAll is Note for restores that go on together or not at all.
func (s *Service) noteAll(runs []*run.Job, all []readyRestore) error {
	err := s.Catalog.Atomically(func(t *catalog.Catalog) error {
		for i, r := range all {
			c, insteadOf := r.interrupted(runs[i].ID())
			if err := t.PutInterruptedRestore(c, insteadOf); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, r := range all {
		*r.noted() = true
	}
	return nil
}

func (s *Service) forgetNote(run int64) {
	if err := s.Catalog.RemoveInterruptedRestore(run); err != nil {
		s.Log.Warn("a restore could not be forgotten; the next start goes on with it", "run", run, "error", err)
	}
}

func (r *restoring) interrupted(run int64) (*catalog.InterruptedRestore, int64) {
	safety := r.safety
	if safety == "" && r.Cut != nil {
		safety = r.Cut.Safety
	}
	c := &catalog.InterruptedRestore{Run: run, Beneath: r.opt.Beneath, Target: r.opt.Target,
		RestoreRequest: requestOf(r.ask), Snapshot: r.row.ID, Safety: safety, Undoes: r.undoes, Recipe: r.recipe,
		OwnCopy: r.opt.OwnCopy, Beside: catalog.JSON[[]string]{V: []string{}}}
	if r.found == nil {
		c.At = r.row.ID // of that very snapshot
	}
	if r.eyes.who != nil {
		c.Owner = r.eyes.who.Name
	}
	var before int64
	if r.Cut != nil {
		before, c.Times, c.Beside = r.Cut.Run, r.Cut.Times+1, r.Cut.Beside
	}
	return c, before
}

// ResumeRestores clears what restores of a killed service left unfinished and goes on with
// them.
func (s *Service) ResumeRestores() error {
	left, err := s.Catalog.InterruptedRestores()
	if err != nil {
		return err
	}
	for _, c := range left {
		goOn := s.resumeDisk
		if !s.ViewerFor(nil).isDisk(c.Volume) {
			s.removeParts(c)
			goOn = s.resumeFiles
		}
		if c.Times >= MostTimes {
			err = fmt.Errorf("it was cut short %d times; start it again when the reason is known", c.Times+1)
		} else {
			err = goOn(c)
		}
		if err != nil {
			s.cannotResume(c, err)
		}
	}
	return nil
}

// removeParts clears what a restore of files left unfinished.
func (s *Service) removeParts(c *catalog.InterruptedRestore) {
	n, err := tree.RemoveParts(s.run.Context(), c.Beneath, c.Target)
	if err != nil {
		s.Log.Warn("what an unfinished restore left could not be looked for", "target", c.Target, "error", err)
	} else if n > 0 {
		s.Log.Info("what an unfinished restore left was taken away", "target", c.Target, "names", n)
	}
}

func (s *Service) resumeFiles(c *catalog.InterruptedRestore) error {
	return s.onceReached(c, func() error { return s.resumeNow(c) })
}

// resumeDisk goes on with a restore of a disk, which no client opens meanwhile.
func (s *Service) resumeDisk(c *catalog.InterruptedRestore) error {
	var reopen func()
	if c.InPlace || c.IntoVolume != "" {
		var err error
		if reopen, err = s.disks.Shut(s.run.Context(), cmp.Or(c.IntoVolume, c.Volume), false); err != nil {
			return err
		}
	}
	return s.onceReached(c, func() error {
		o, err := s.ViewerFor(nil).prepareDisk(askOf(&c.RestoreRequest))
		if err != nil {
			return err
		}
		o.cut, o.undoes, o.recipe, o.reopen, reopen = c, c.Undoes, c.Recipe, reopen, nil
		return s.goOn(c, o)
	}, func() {
		if reopen != nil {
			reopen()
		}
	})
}

// onceReached goes on with a restore, soon when it needs another site. At last what was held for it is let go.
func (s *Service) onceReached(c *catalog.InterruptedRestore, goOn func() error, ends ...func()) error {
	end := func() {
		for _, f := range ends {
			f()
		}
	}
	if c.FromSite == "" {
		defer end()
		return goOn()
	}
	s.run.Go(func(context.Context) { // the other site may be reached later than this start is over
		defer end()
		var err error
		for try := 0; try < 2*recallTries; try++ {
			if err = goOn(); refusal.ClassOf(err) != refusal.Elsewhere {
				break
			}
			select {
			case <-time.After(time.Second << min(try, 5)):
			case <-s.run.Context().Done():
				return
			}
		}
		if err != nil {
			s.cannotResume(c, err)
		}
	})
	return nil
}

// reportInterrupted records as the result of a run that was cut short what it was about, for undo.
func (s *Service) reportInterrupted(c *catalog.InterruptedRestore, res api.RestoreResult) error {
	row, err := s.Catalog.Run(c.Run)
	if err != nil {
		return err
	}
	res.Volume, res.Target, res.InPlace, res.Into, res.Snapshot = c.Volume, c.Target, c.InPlace, c.IntoVolume,
		api.Snapshot{ID: c.Snapshot, Volume: c.Volume, Reasons: []string{}}
	res.Paths, res.Beside, res.Acts, res.Remarks = append([]string{}, c.Paths.V...), append([]string{}, c.Beside.V...),
		[]api.Act{}, []api.Remark{}
	if row.Result, err = json.Marshal(res); err != nil {
		return err
	}
	return s.Catalog.UpdateRun(row)
}

// cannotResume tells why a restore stays cut short. What it did in place can be taken back.
func (s *Service) cannotResume(c *catalog.InterruptedRestore, err error) {
	s.Log.Warn("a restore that was cut short cannot go on", "run", c.Run, "error", err)
	if err := errors.Join(s.reportInterrupted(c, api.RestoreResult{Safety: c.Safety}),
		s.Catalog.AddLog(c.Run, s.Clock.Now(), "it cannot go on: "+err.Error()),
		s.Catalog.RemoveInterruptedRestore(c.Run)); err != nil {
		s.Log.Error("that a restore cannot go on could not be recorded", "run", c.Run, "error", err)
	}
}

func (s *Service) resumeNow(c *catalog.InterruptedRestore) error {
	eyes := s.ViewerFor(nil)
	if c.Owner != "" {
		p, err := s.Catalog.Person(c.Owner)
		if err != nil || p.Role != access.FileOwner {
			return fmt.Errorf("%s, for whom it was, is no file owner any more", c.Owner)
		}
		eyes = s.ViewerFor(access.OwnerOf(p))
	}
	r, err := eyes.PrepareRestore(s.run.Context(), askOf(&c.RestoreRequest))
	if err != nil {
		return err
	}
	r.Cut, r.undoes, r.recipe = c, c.Undoes, c.Recipe
	if c.Undoes != 0 {
		if r.opt.Left, err = eyes.leftOf(c.Undoes); err != nil {
			return err
		}
	}
	if c.OwnCopy {
		r.opt.Exact, r.opt.OwnCopy = true, true
	}
	return s.goOn(c, r)
}

// goOn starts the restore that goes on with one that was cut short.
func (s *Service) goOn(c *catalog.InterruptedRestore, r readyRestore) error {
	run, err := s.startRestore(r, fmt.Sprintf("the service, going on with run %d", c.Run))
	if err != nil {
		return err
	}
	err = s.reportInterrupted(c, api.RestoreResult{GoneOnBy: run.ID})
	return errors.Join(err, s.Catalog.AddLog(c.Run, s.Clock.Now(), fmt.Sprintf("run %d goes on with it", run.ID)))
}
