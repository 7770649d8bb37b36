package recovery

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/beneath"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
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
		out.Beside = append(out.Beside, r.Cut.Beside.V...)
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
	out.FreeBytes = freeAt(r.opt.Target)
	return out
}

// freeAt is the free room where a path lies or is to lie.
func freeAt(path string) int64 {
	for ; path != "/"; path = filepath.Dir(path) {
		var st unix.Statfs_t
		if unix.Statfs(path, &st) == nil {
			return int64(st.Bavail) * st.Bsize
		}
	}
	return 0
}

// PlanRestore tells what a restore would do, changing nothing.
func (s *Service) PlanRestore(ctx context.Context, ask api.RestoreAsk) (*api.RestoreResult, error) {
	return s.ViewerFor(nil).PlanRestore(ctx, ask)
}

// PlanRestore tells what a restore by these eyes' person would do, changing nothing.
func (e *Viewer) PlanRestore(ctx context.Context, ask api.RestoreAsk) (*api.RestoreResult, error) {
	s := e.s
	if e.isDisk(ask.Volume) {
		return e.planDisk(ctx, ask)
	}
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
		cache := s.capture.ScanCache(r.live, r.opt.Excludes)
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
	if e.isDisk(ask.Volume) {
		o, err := e.prepareDisk(ask)
		if err != nil {
			return api.Run{}, err
		}
		return e.s.startRestore(o, by)
	}
	r, err := e.PrepareRestore(ctx, ask)
	if err != nil {
		return api.Run{}, err
	}
	return e.s.startRestore(r, by)
}

// readyRestore is a restore that was checked and can begin.
type readyRestore interface {
	subject() string // its volume
	steps(ctx context.Context, j *run.Job) (any, string, error)
	// interrupted is what is remembered of it, and the run that it goes on with.
	interrupted(run int64) (c *catalog.InterruptedRestore, insteadOf int64)
	noted() *bool   // it is remembered: a start after a kill goes on with it
	goesBack() bool // it writes in place, so that it can be taken back
	done()          // lets go what it relies on
}

func (s *Service) startRestore(r readyRestore, by string) (api.Run, error) {
	j, err := s.beginRestore(r, by, nil)
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

// beginRestore begins the run of a restore, whose steps wait for the gate to be closed, if there is one.
func (s *Service) beginRestore(r readyRestore, by string, gate <-chan struct{}) (*run.Job, error) {
	j, err := s.run.Start("restore", r.subject(), by, func(ctx context.Context, j *run.Job) (res any, outcome string,
		err error) {
		defer r.done()
		defer func() {
			switch {
			case s.run.Context().Err() == nil:
				j.AtEnd(func() { s.forgetNote(j.ID()) })
			case err != nil && *r.noted():
				err = &run.Partly{Leaves: "its next start goes on with it"}
			}
		}()
		if gate != nil {
			select {
			case <-gate:
			case <-ctx.Done():
				return nil, "", ctx.Err()
			}
		}
		return r.steps(ctx, j)
	})
	if err != nil {
		r.done()
	}
	return j, err
}

func (r *restoring) subject() string { return r.v.Name }

func (r *restoring) noted() *bool { return &r.isNoted }

func (r *restoring) goesBack() bool { return r.live != nil }

func (r *restoring) steps(ctx context.Context, j *run.Job) (any, string, error) {
	res, words, err := r.eyes.s.restore(ctx, j, r)
	if err == nil && r.far != nil && len(r.far.hurt) == 0 {
		if nerr := r.eyes.s.Catalog.Set(BroughtBack, r.far.peer.Name); nerr != nil { // what was asked for is done
			r.eyes.s.Log.Error("it could not be noted that something came back from a site", "error", nerr)
		}
		r.eyes.s.run.Tell("first steps")
	}
	return res, words, err
}

// BroughtBack is the setting that names the site from which something was brought back last.
const BroughtBack = "brought back from"

// Hold keeps a snapshot's objects readable as long as the lease.
func (s *Service) Hold(lease *store.Lease, snapshot string) error {
	return s.holdSnapshot(lease, snapshot)
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
func (s *Service) fetchFar(ctx context.Context, j *run.Job, far *recall, look func() error) (release func(),
	err error) {
	far.ctx = ctx
	j.Begin(func() api.Progress { return api.Progress{DoneBytes: far.Fetched.Load(), TotalBytes: far.bytes} })
	j.Say("fetching from " + far.peer.Name)
	began := time.Now()
	err = far.again(j, func() error {
		if err := look(); err != nil {
			return err
		}
		release, err = far.bring()
		return err
	})
	if err != nil {
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("nothing was restored, because not all of it could be "+
			"fetched from %s: %w. What arrived, %s, is kept for a while: the same restore fetches only the rest",
			far.peer.Name, err, phrase.Size(far.Fetched.Load())))
	}
	j.Logf("%s fetched from %s in %s; the rest was here", phrase.Size(far.Fetched.Load()), far.peer.Name,
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

// LayOut writes a volume as of a moment into an empty or new directory. Both paths are resolved.
func (s *Service) LayOut(ctx context.Context, volume, at, dir, beneath string) (*catalog.Snapshot, *tree.Restored,
	error) {
	h, err := s.holdMoment(volume, at)
	if err != nil {
		return nil, nil, err
	}
	defer h.release()
	ck, err := capture.ChunkerOf(h.v)
	if err != nil {
		return nil, nil, err
	}
	opt := tree.RestoreOptions{Source: s.Store, Root: h.root, Target: dir, Beneath: beneath, OnConflict: tree.Skip,
		Chunker: ck}
	if err := s.makeParents(&restoring{opt: opt}); err != nil {
		return nil, nil, err
	}
	res, err := tree.Restore(ctx, opt)
	return h.row, res, err
}
