package recovery

import (
	"context"
	"fmt"
	"os"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/capture"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"
)

// restoreRun is a restore while it runs. Its steps stand below in the order in which they happen:
// hold, fetch, protect, write, finish.
type restoreRun struct {
	s *Service
	j *run.Job
	r *restoring

	lease  *store.Lease
	safety string // the snapshot of what was there before; empty: none
	begun  time.Time
	res    *tree.Restored
	out    *api.RestoreResult // nil: there is nothing to tell yet
	ends   []func()           // what is let go at the end, the last first
}

func (s *Service) restore(ctx context.Context, j *run.Job, r *restoring) (any, string, error) {
	o := &restoreRun{s: s, j: j, r: r}
	defer func() {
		for i := len(o.ends) - 1; i >= 0; i-- {
			o.ends[i]()
		}
	}()
	for _, step := range []func(context.Context) error{o.hold, o.fetch, o.protect, o.write, o.finish} {
		if err := step(ctx); err != nil && o.out == nil {
			return nil, "", err
		} else if err != nil {
			return o.out, "", err
		}
	}
	return o.out, o.words(), nil
}

func (o *restoreRun) atEnd(f func()) { o.ends = append(o.ends, f) }

// hold waits for the target and notes the restore: from here on a start after a kill goes on with it.
func (o *restoreRun) hold(ctx context.Context) error {
	s := o.s
	o.j.Say("waiting for another run on the same target")
	free, err := s.run.Hold(ctx, run.KeyTarget.Of(o.r.opt.Target))
	if err != nil {
		return err
	}
	o.atEnd(free)
	return s.Note(o.j.ID(), o.r)
}

// fetch has all that is restored here, and keeps it readable although its snapshot may be removed
// meanwhile.
func (o *restoreRun) fetch(ctx context.Context) error {
	s, r := o.s, o.r
	o.lease = s.Store.NewLease()
	o.atEnd(o.lease.Release)
	if r.far == nil && r.found == nil {
		return s.holdSnapshot(o.lease, r.row.ID)
	} else if r.far == nil {
		return nil
	}
	held, err := s.fetchFar(ctx, o.j, r.far, func() error { return r.far.lookThrough(r.opt.Paths) })
	if err != nil {
		o.out = s.restoreResult(r, nil)
		return err
	}
	if n := len(r.far.hurt); r.far.all && n > 0 { // what is here of it stood in
		o.j.Logf("%s at %s of this snapshot, so that copy is not whole; what is here was used instead. There, candid store "+
			"verify tells what is hurt and has it put back", phrase.ManyAre(n, "object")+" damaged or missing", r.far.peer.Name)
		o.j.Remark()
	}
	o.atEnd(func() {
		if s.run.Context().Err() == nil {
			held() // else the next start goes on with what is here
		}
	})
	return nil
}

// protect takes a safety snapshot of a volume that is written into, and makes the directories above
// any other target.
func (o *restoreRun) protect(ctx context.Context) error {
	s, r, j := o.s, o.r, o.j
	if r.live == nil {
		return s.makeParents(r)
	}
	release, err := s.run.Hold(ctx, run.KeyVolume.Of(r.live.Name))
	if err != nil {
		return err
	}
	o.atEnd(release)
	// Of this volume alone, though it be one of a group: it goes with this restore.
	row, outcome, err := s.capture.TakeHeld(ctx, j, nil, []string{r.live.Name}, r.live.Name,
		capture.Taking{Cause: object.CauseSafety, Ask: api.SnapshotTake{
			Note: fmt.Sprintf("before run %d restored %s as of %s here", j.ID(), r.v.Name, phrase.Stamp(r.row.Began.Time))}})
	if err != nil {
		return fmt.Errorf("nothing was restored, because the safety snapshot failed: %w", err)
	}
	o.safety = row.ID
	if r.opt.Safety, err = s.rules.RootOf(row); err != nil {
		return err
	}
	if err := s.holdSnapshot(o.lease, row.ID); err != nil {
		return err
	}
	j.Logf("safety %s", outcome)
	s.run.Changed("snapshots", r.live.Name)
	cache := s.capture.ScanCache(r.live, r.opt.Excludes)
	o.atEnd(func() { cache.Close() })
	r.opt.Cache = cache
	return nil
}

// write brings the target to what it is to be. What it says when that fails depends on what was
// changed by then.
func (o *restoreRun) write(ctx context.Context) error {
	s, r, j := o.s, o.r, o.j
	total := r.row.Bytes
	if len(r.opt.Paths) > 0 {
		total = 0
	}
	if r.Cut != nil && r.Cut.Safety != "" {
		o.safety = r.Cut.Safety // as it was before anything was restored
	}
	prog := &tree.Progress{}
	r.opt.Progress = prog
	o.begun = time.Now()
	j.Begin(func() api.Progress {
		return api.Progress{DoneBytes: prog.WrittenBytes.Load(), TotalBytes: total, Files: prog.WrittenFiles.Load()}
	})
	j.Say("writing")
	if r.safety = o.safety; o.safety != "" {
		if err := s.Note(j.ID(), r); err != nil {
			return err
		}
	}
	var err error
	o.res, err = tree.Restore(ctx, r.opt)
	if err != nil && s.run.Context().Err() != nil {
		return err // the next start goes on with it
	}
	o.out = s.restoreResult(r, o.res)
	o.out.Safety = o.safety
	switch {
	case err != nil && ctx.Err() != nil:
		return o.cutShort(err)
	case err != nil && o.safety != "":
		return fmt.Errorf("%w. What was put there so far can be taken back: candid undo %d", err, j.ID())
	}
	return err
}

// cutShort says what a restore leaves that was cancelled while it wrote.
func (o *restoreRun) cutShort(err error) error {
	out := o.out
	switch _, serr := os.Stat(o.r.opt.Target); {
	case out.Created+out.Replaced+out.Removed+out.Adjusted == 0:
		return &run.Partly{Leaves: "nothing was changed"}
	case o.safety != "":
		return &run.Partly{Leaves: fmt.Sprintf("each file is the old or the new one (%s so far). What was put there can "+
			"be taken back: candid undo %d", out.Summary, o.j.ID())}
	case serr == nil:
		return &run.Partly{Leaves: fmt.Sprintf("what is in %s is whole (%s so far), and the same restore goes on from there",
			o.r.opt.Target, out.Summary)}
	}
	return err
}

// finish logs what could not be brought back whole, and has a recipe's hook check it.
func (o *restoreRun) finish(ctx context.Context) error {
	for i, m := range o.out.Remarks {
		if i == 50 {
			o.j.Logf("… and %d more", o.out.RemarkCount-50)
			break
		}
		o.j.Logf("%s: %s", m.Path, m.What)
	}
	if o.out.RemarkCount > 0 {
		o.j.Remark()
	}
	if o.r.recipe == "" {
		return nil
	}
	return o.s.recipeDone(ctx, o.j, o.r)
}

// words is the outcome for people.
func (o *restoreRun) words() string {
	r, out := o.r, o.out
	from := ""
	if r.far != nil {
		from = fmt.Sprintf(", from %s (%s fetched)", r.far.peer.Name, phrase.Size(r.far.Fetched.Load()))
	}
	words := fmt.Sprintf("%s; %s in %s: %s as of %s in %s%s%s", out.Summary, phrase.Size(out.Bytes),
		phrase.Ago(time.Since(o.begun)), r.v.Name, phrase.Stamp(r.row.Began.Time), r.opt.Target, from,
		capture.RemarkWords(out.RemarkCount))
	if r.undoes != 0 {
		done := "is taken back"
		if o.res.Others > 0 {
			done = fmt.Sprintf("is taken back but for %s that others changed since", phrase.Many(int(o.res.Others), "path"))
		}
		words = fmt.Sprintf("%s: run %d %s, to %s as it was at %s%s", out.Summary, r.undoes, done, r.v.Name,
			phrase.Stamp(r.row.Began.Time), capture.RemarkWords(out.RemarkCount))
	}
	if o.safety != "" {
		words += fmt.Sprintf(". To take it back: candid undo %d; what was there before is in the safety snapshot %s",
			o.j.ID(), o.safety[:12])
	}
	return words
}
