package recovery

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/beneath"
	"candidharbor/internal/capture"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sys/unix"
)

func (s *Service) restoreResult(r *restoring, res *tree.Restored) *api.RestoreResult {
	out := &api.RestoreResult{Answer: r.answer, Target: r.opt.Target, Acts: []api.Act{}, Remarks: []api.Remark{},
		DryRun: r.ask.DryRun,
		Volume: r.v.Name, InPlace: r.ask.InPlace, Into: r.ask.Into, Paths: append([]string{}, r.ask.Paths...),
		Beside: []string{}, Undoes: r.undoes, Recipe: r.recipe}
	if r.Cut != nil {
		out.GoesOnWith = r.Cut.Run
		out.Beside = append(out.Beside, r.Cut.Beside...)
	}
	if r.eyes.who != nil {
		out.Snapshot = api.Snapshot{ID: r.row.ID, Volume: r.v.Name, Taken: r.row.Began.Time, Reasons: []string{}}
	} else if view, err := s.rules.SnapshotView(r.row, nil); err == nil {
		out.Snapshot = *view
	}
	if r.far != nil {
		out.From, out.FetchBytes = r.far.peer.Name, r.far.bytes
		if !r.ask.DryRun {
			out.FetchBytes = r.far.Fetched.Load()
		}
	}
	if res != nil {
		out.Created, out.Replaced, out.Removed, out.Skipped, out.Kept, out.Adjusted, out.Failed, out.Bytes = res.Created,
			res.Replaced, res.Removed, res.Skipped, res.Kept, res.Adjusted, res.Failed, res.Bytes
		out.Summary = phrase.CountWords([]phrase.Counted{{N: res.Created, What: "created"},
			{N: res.Replaced, What: "replaced"}, {N: res.Removed, What: "removed"}, {N: res.Adjusted, What: "adjusted"},
			{N: res.Skipped, What: "skipped"}, {N: res.Kept, What: "the same already"}, {N: res.Failed, What: "not restored"}})
		for _, a := range res.Samples {
			out.Acts = append(out.Acts, api.Act{Path: phrase.Printable([]byte(a.Path)), What: a.What})
		}
		for _, m := range res.Remarks {
			out.Remarks = append(out.Remarks, api.Remark{Path: phrase.Printable(m.Path), What: m.What})
		}
		out.RemarkCount = res.RemarkCount
		for _, p := range res.Beside {
			out.Beside = append(out.Beside, phrase.Printable([]byte(p)))
		}
	}
	dir := r.opt.Target
	for dir != "/" {
		var st unix.Statfs_t
		if unix.Statfs(dir, &st) == nil {
			out.FreeBytes = int64(st.Bavail) * st.Bsize
			break
		}
		dir = filepath.Dir(dir)
	}
	return out
}

// PlanRestore tells what a restore would do, changing nothing.
func (s *Service) PlanRestore(ctx context.Context, ask api.RestoreAsk) (*api.RestoreResult, error) {
	return s.ViewerFor(nil).PlanRestore(ctx, ask)
}

// PlanRestore tells what a restore by these eyes' person would do, changing nothing.
func (e *Viewer) PlanRestore(ctx context.Context, ask api.RestoreAsk) (*api.RestoreResult, error) {
	s := e.s
	ask.DryRun = true
	r, err := e.PrepareRestore(ctx, ask)
	if err != nil {
		return nil, err
	}
	defer r.done()
	if r.far != nil {
		if err := r.far.lookThrough(r.opt.Paths); err != nil {
			return nil, err
		}
	}
	r.opt.Plan = true
	if r.live != nil {
		cache := s.capture.ScanCache(r.live)
		defer cache.Close()
		r.opt.Cache = cache
	}
	res, err := tree.Restore(ctx, r.opt)
	if err != nil {
		return nil, err
	}
	return s.restoreResult(r, res), nil
}

// Restore starts a run that brings files or a whole volume back.
func (s *Service) Restore(ctx context.Context, ask api.RestoreAsk, by string) (api.Run, error) {
	return s.ViewerFor(nil).Restore(ctx, ask, by)
}

// Restore starts a run that brings back what these eyes' person may have.
func (e *Viewer) Restore(ctx context.Context, ask api.RestoreAsk, by string) (api.Run, error) {
	r, err := e.PrepareRestore(ctx, ask)
	if err != nil {
		return api.Run{}, err
	}
	return e.s.startRestore(r, by)
}

func (s *Service) startRestore(r *restoring, by string) (api.Run, error) {
	j, err := s.beginRestore(r, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

func (s *Service) beginRestore(r *restoring, by string) (*run.Job, error) {
	j, err := s.run.Start("restore", r.v.Name, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		res, outcome, err := s.restore(ctx, j, r)
		if err != nil && s.run.Context().Err() != nil && r.noted {
			err = &run.Partly{Leaves: "its next start goes on with it"}
		}
		return res, outcome, err
	})
	if err != nil {
		r.done()
	}
	return j, err
}

func (s *Service) restore(ctx context.Context, j *run.Job, r *restoring) (any, string, error) {
	defer r.done()
	j.Say("waiting for another run on the same target")
	free, err := s.run.Hold(ctx, run.KeyTarget.Of(r.opt.Target))
	if err != nil {
		return nil, "", err
	}
	defer free()
	// From here on a start after a kill goes on with it.
	done, err := s.NoteTarget(j.Row.ID, r, "")
	if err != nil {
		return nil, "", err
	}
	r.noted = true
	defer func() {
		if s.run.Context().Err() == nil {
			j.Finally = done
		}
	}()
	// What is restored stays readable although its snapshot may be removed meanwhile.
	lease := s.Store.NewLease()
	defer lease.Release()
	if r.far != nil {
		held, err := s.fetchFar(ctx, j, r)
		if err != nil {
			return s.restoreResult(r, nil), "", err
		}
		defer func() {
			if s.run.Context().Err() == nil {
				held() // else the next start goes on with what is here
			}
		}()
	} else if r.found == nil {
		if err := s.holdSnapshot(lease, r.row.ID); err != nil {
			return nil, "", err
		}
	}
	var prog tree.Progress
	r.opt.Progress = &prog
	safety := ""
	if r.live != nil {
		release, err := s.run.Hold(ctx, run.KeyVolume.Of(r.live.Name))
		if err != nil {
			return nil, "", err
		}
		defer release()
		// Of this volume alone, though it be one of a group: it goes with this restore.
		row, outcome, err := s.capture.TakeHeld(ctx, j, nil, []string{r.live.Name}, r.live.Name,
			capture.Taking{Cause: object.CauseSafety, Ask: api.SnapshotTake{
				Note: fmt.Sprintf("before run %d restored %s as of %s here", j.Row.ID, r.v.Name, phrase.Stamp(r.row.Began.Time))}})
		if err != nil {
			return nil, "", fmt.Errorf("nothing was restored, because the safety snapshot failed: %w", err)
		}
		safety = row.ID
		if r.opt.Safety, err = s.rules.RootOf(row); err != nil {
			return nil, "", err
		}
		if err := s.holdSnapshot(lease, row.ID); err != nil {
			return nil, "", err
		}
		j.Logf("safety %s", outcome)
		s.run.Changed("snapshots", r.live.Name)
		cache := s.capture.ScanCache(r.live)
		defer cache.Close()
		r.opt.Cache = cache
	} else if err := s.makeParents(r); err != nil {
		return nil, "", err
	}
	total := r.row.Bytes
	if len(r.opt.Paths) > 0 {
		total = 0
	}
	if r.Cut != nil && r.Cut.Safety != "" {
		safety = r.Cut.Safety // as it was before anything was restored
	}
	begun := time.Now()
	j.Begin(func() api.Progress {
		return api.Progress{DoneBytes: prog.WrittenBytes.Load(), TotalBytes: total, Files: prog.WrittenFiles.Load()}
	})
	j.Say("writing")
	if _, err := s.NoteTarget(j.Row.ID, r, safety); err != nil {
		return nil, "", err
	}
	res, err := tree.Restore(ctx, r.opt)
	if err != nil && s.run.Context().Err() != nil {
		return nil, "", err // the next start goes on with it
	}
	out := s.restoreResult(r, res)
	out.Safety = safety
	if err != nil && ctx.Err() != nil {
		switch _, serr := os.Stat(r.opt.Target); {
		case out.Created+out.Replaced+out.Removed+out.Adjusted == 0:
			err = &run.Partly{Leaves: "nothing was changed"}
		case safety != "":
			err = &run.Partly{Leaves: fmt.Sprintf("each file is the old or the new one (%s so far). What was put there can "+
				"be taken back: candid undo %d", out.Summary, j.Row.ID)}
		case serr == nil:
			err = &run.Partly{Leaves: fmt.Sprintf("what is in %s is whole (%s so far), and the same restore goes on from there",
				r.opt.Target, out.Summary)}
		}
		return out, "", err
	}
	if err != nil {
		if safety != "" {
			err = fmt.Errorf("%w. What was put there so far can be taken back: candid undo %d", err, j.Row.ID)
		}
		return out, "", err
	}
	for i, m := range out.Remarks {
		if i == 50 {
			j.Logf("… and %d more", out.RemarkCount-50)
			break
		}
		j.Logf("%s: %s", m.Path, m.What)
	}
	if out.RemarkCount > 0 {
		j.Remark()
	}
	if r.recipe != "" {
		if err := s.recipeDone(ctx, j, r); err != nil {
			return out, "", err
		}
	}
	from := ""
	if r.far != nil {
		from = fmt.Sprintf(", from %s (%s fetched)", r.far.peer.Name, phrase.Size(r.far.Fetched.Load()))
	}
	words := fmt.Sprintf("%s as of %s in %s%s: %s; %s in %s%s", r.v.Name, phrase.Stamp(r.row.Began.Time), r.opt.Target,
		from, out.Summary, phrase.Size(out.Bytes),
		phrase.Ago(time.Since(begun)), capture.RemarkWords(out.RemarkCount))
	if r.undoes != 0 {
		done := "is taken back"
		if res.Others > 0 {
			done = fmt.Sprintf("is taken back but for %s that others changed since", phrase.Many(int(res.Others), "path"))
		}
		words = fmt.Sprintf("run %d %s, to %s as it was at %s: %s%s", r.undoes, done, r.v.Name,
			phrase.Stamp(r.row.Began.Time), out.Summary, capture.RemarkWords(out.RemarkCount))
	}
	if safety != "" {
		words += fmt.Sprintf(". What was there before is in the safety snapshot %s; to go back to it: candid undo %d",
			safety[:12], j.Row.ID)
	}
	return out, words, nil
}

// holdSnapshot keeps all objects of a snapshot from being swept.
func (s *Service) holdSnapshot(lease *store.Lease, snapshot string) error {
	id, err := object.ParseID(snapshot)
	if err != nil {
		return err
	}
	set, err := s.Store.Census(id)
	if err != nil {
		return err
	}
	lease.AcquireSet(set)
	if !s.Store.HasRoot(id) {
		return refusal.Missingf("snapshot %s was removed before the restore began", snapshot[:12])
	}
	return nil
}

// fetchFar brings what a restore needs and the store here lacks from the other site.
func (s *Service) fetchFar(ctx context.Context, j *run.Job, r *restoring) (release func(), err error) {
	r.far.ctx = ctx
	j.Begin(func() api.Progress { return api.Progress{DoneBytes: r.far.Fetched.Load(), TotalBytes: r.far.bytes} })
	j.Say("fetching from " + r.far.peer.Name)
	began := time.Now()
	err = r.far.again(j, func() error {
		if err := r.far.lookThrough(r.opt.Paths); err != nil {
			return err
		}
		release, err = r.far.bring()
		return err
	})
	if err != nil {
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("nothing was restored, because not all of it could be "+
			"fetched from %s: %w. What arrived, %s, is kept for a while: the same restore fetches only the rest",
			r.far.peer.Name, err, phrase.Size(r.far.Fetched.Load())))
	}
	j.Logf("%s fetched from %s in %s; the rest was here", phrase.Size(r.far.Fetched.Load()), r.far.peer.Name,
		phrase.Ago(time.Since(began)))
	return release, nil
}

// makeParents makes the directories above the target, without leaving the root.
func (s *Service) makeParents(r *restoring) error {
	if r.opt.Target == r.opt.Beneath {
		return nil
	}
	fd, err := beneath.MakeAll(r.opt.Beneath, filepath.Dir(r.opt.Target), 0o755)
	if err != nil {
		return err
	}
	return unix.Close(fd)
}
