package site

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"

	"golang.org/x/sys/unix"
)

type counter = atomic.Int64

// restoring is a restore that was checked and can begin.
type restoring struct {
	v      *catalog.Volume
	row    *catalog.Snapshot
	answer string
	opt    tree.RestoreOptions
	ask    api.RestoreAsk
	eyes   *Eyes
	live   *catalog.Volume // that is written into: this one in place, or another; nil: neither
	undoes int64
	recipe string       // by which it is made
	cut    *cutShort    // the run that this one goes on with
	far    *recall      // when another site has the snapshot
	found  *store.Lease // when it is of what others left: what was read of it
}

// done lets go what a restore that was prepared relies on.
func (r *restoring) done() {
	if r.far != nil {
		r.far.lease.Release()
	}
	if r.found != nil {
		r.found.Release()
	}
}

// getter reads a snapshot by a function.
type getter object.Getter

func (g getter) Get(id object.ID) (object.Envelope, error) { return g(id) }

// get reads the snapshot, wherever it is.
func (r *restoring) get(id object.ID) (object.Envelope, error) { return r.opt.Source.Get(id) }

// prepareRestore checks a request and changes nothing.
func (e *Eyes) prepareRestore(ctx context.Context, ask api.RestoreAsk) (ready *restoring, err error) {
	s := e.s
	v, err := e.volume(ask.Volume)
	if err != nil {
		return nil, err
	}
	if err := e.mayRestore(v, &ask); err != nil {
		return nil, err
	}
	where := 0
	for _, said := range []bool{ask.To != "", ask.InPlace, ask.Into != ""} {
		if said {
			where++
		}
	}
	if where != 1 {
		return nil, bad("say where to: either a directory on the site's host, or in place, or another volume")
	}
	choice := tree.Skip
	if ask.OnConflict == undoing {
		choice = tree.Replace
	} else if ask.OnConflict != "" {
		if choice, err = tree.ParseConflict(ask.OnConflict); err != nil {
			return nil, &Error{Misuse, err}
		}
	}
	if ask.Found != "" && e.who != nil {
		return nil, &Error{Refused, errors.New("what others left is for operators to restore from: ask one")}
	}
	row, answer, peer, err := s.resolveOrFound(ctx, v, &ask)
	if err != nil {
		return nil, err
	}
	ck, err := chunkerOf(v)
	if err != nil {
		return nil, err
	}
	r := &restoring{v: v, row: row, answer: answer, ask: ask, eyes: e}
	r.ask.From = ""
	var source tree.Source = s.store
	var root *object.Root
	if peer != nil {
		if r.far, err = s.recallOf(ctx, peer, v, row); err != nil {
			return nil, err
		}
		source, root, r.ask.From = r.far, r.far.root, peer.Name
		defer func() {
			if ready == nil {
				r.done()
			}
		}()
	} else if ask.Found != "" {
		if root, err = s.heldFound(ctx, r); err != nil {
			return nil, err
		}
		defer func() {
			if ready == nil {
				r.done()
			}
		}()
	} else if root, err = s.rootOf(row); err != nil {
		return nil, err
	}
	if e.who != nil {
		get, veiled := e.through(v.Name, source.Get, root)
		source, root = getter(get), veiled
	}
	r.opt = tree.RestoreOptions{Source: source, Root: root, As: e.person(), OnConflict: choice, Chunker: ck, Suffix: row.Began.Local().Format(".as-of-20060102-1504")}
	for _, p := range ask.Paths {
		rel, err := tree.CleanPath(rawPath(p))
		if err != nil {
			return nil, &Error{Misuse, err}
		}
		if _, err := tree.Lookup(r.get, root, rel); err != nil && ask.OnConflict != undoing {
			if !errors.Is(err, tree.ErrNoPath) {
				return nil, err
			}
			return nil, missing("%s has no %s as of %s: candid browse %s --at %s shows what there is", v.Name, p, stamp(row.Began.Time), v.Name, row.ID[:12])
		}
		if rel != "" {
			r.opt.Paths = append(r.opt.Paths, rel)
		}
	}
	target := ask.To
	if ask.InPlace {
		if v.Origin != s.Name() {
			return nil, conflict("volume %s lives at the site %s: restore it there in place, or here to a directory with --to", v.Name, v.Origin)
		}
		target = v.Path
		r.opt.Live, r.opt.Excludes = true, v.Excludes.V
		if ask.OnConflict == "" {
			r.opt.OnConflict = tree.Replace
		}
		// A whole volume in place becomes exactly as it was; what was made since is in
		// the safety snapshot.
		r.opt.Exact = len(r.opt.Paths) == 0 && r.opt.OnConflict == tree.Replace || ask.OnConflict == undoing
	}
	if ask.InPlace {
		r.live = v
	} else if ask.Into != "" {
		if r.live, err = s.liveVolume(ask.Into, v); err != nil {
			return nil, err
		}
		target, r.opt.Live, r.opt.Excludes = r.live.Path, true, r.live.Excludes.V
	}
	if r.opt.Target, r.opt.Beneath, err = s.underRoot(target, r.live != nil); err != nil {
		return nil, err
	}
	if st, err := os.Stat(r.opt.Target); err == nil && !st.IsDir() {
		return nil, bad("target %s is not a directory", r.opt.Target)
	}
	return r, nil
}

// liveVolume is another volume of this site that can be restored into.
func (s *Site) liveVolume(name string, from *catalog.Volume) (*catalog.Volume, error) {
	v, err := s.cat.Volume(name)
	switch {
	case err != nil:
		return nil, err
	case v.Name == from.Name:
		return nil, bad("%s into itself is in place: say so", name)
	case v.Origin != s.Name() || !v.Protected:
		return nil, conflict("volume %s is not one that this site protects: restore to a directory instead", name)
	}
	return v, nil
}

func (s *Site) restoreResult(r *restoring, res *tree.Restored) *api.RestoreResult {
	out := &api.RestoreResult{Answer: r.answer, Target: r.opt.Target, Acts: []api.Act{}, Remarks: []api.Remark{}, DryRun: r.ask.DryRun,
		Volume: r.v.Name, InPlace: r.ask.InPlace, Into: r.ask.Into, Paths: append([]string{}, r.ask.Paths...), Beside: []string{}, Undoes: r.undoes, Recipe: r.recipe}
	if r.cut != nil {
		out.GoesOnWith = r.cut.Run
		out.Beside = append(out.Beside, r.cut.Beside...)
	}
	if r.eyes.who != nil {
		out.Snapshot = api.Snapshot{ID: r.row.ID, Volume: r.v.Name, Taken: r.row.Began.Time, Reasons: []string{}}
	} else if view, err := s.snapshotView(r.row, nil); err == nil {
		out.Snapshot = *view
	}
	if r.far != nil {
		out.From, out.FetchBytes = r.far.peer.Name, r.far.bytes
		if !r.ask.DryRun {
			out.FetchBytes = r.far.Fetched.Load()
		}
	}
	if res != nil {
		out.Created, out.Replaced, out.Removed, out.Skipped, out.Kept, out.Adjusted, out.Bytes = res.Created, res.Replaced, res.Removed, res.Skipped, res.Kept, res.Adjusted, res.Bytes
		out.Summary = countWords([]counted{{res.Created, "created"}, {res.Replaced, "replaced"}, {res.Removed, "removed"}, {res.Adjusted, "adjusted"}, {res.Skipped, "skipped"}, {res.Kept, "the same already"}})
		for _, a := range res.Samples {
			out.Acts = append(out.Acts, api.Act{Path: printable([]byte(a.Path)), What: a.What})
		}
		for _, m := range res.Remarks {
			out.Remarks = append(out.Remarks, api.Remark{Path: printable(m.Path), What: m.What})
		}
		out.RemarkCount = res.RemarkCount
		for _, p := range res.Beside {
			out.Beside = append(out.Beside, printable([]byte(p)))
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
func (s *Site) PlanRestore(ctx context.Context, ask api.RestoreAsk) (*api.RestoreResult, error) {
	return s.Eyes(nil).PlanRestore(ctx, ask)
}

// PlanRestore tells what a restore by these eyes' person would do, changing nothing.
func (e *Eyes) PlanRestore(ctx context.Context, ask api.RestoreAsk) (*api.RestoreResult, error) {
	s := e.s
	ask.DryRun = true
	r, err := e.prepareRestore(ctx, ask)
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
		cache := s.scanCache(r.live)
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
func (s *Site) Restore(ctx context.Context, ask api.RestoreAsk, by string) (api.Run, error) {
	return s.Eyes(nil).Restore(ctx, ask, by)
}

// Restore starts a run that brings back what these eyes' person may have.
func (e *Eyes) Restore(ctx context.Context, ask api.RestoreAsk, by string) (api.Run, error) {
	r, err := e.prepareRestore(ctx, ask)
	if err != nil {
		return api.Run{}, err
	}
	return e.s.startRestore(r, by)
}

func (s *Site) startRestore(r *restoring, by string) (api.Run, error) {
	j, err := s.beginRestore(r, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

func (s *Site) beginRestore(r *restoring, by string) (*job, error) {
	j, err := s.start("restore", r.v.Name, by, func(ctx context.Context, j *job) (any, string, error) { return s.restore(ctx, j, r) })
	if err != nil {
		r.done()
	}
	return j, err
}

func (s *Site) restore(ctx context.Context, j *job, r *restoring) (any, string, error) {
	defer r.done()
	j.say("waiting for another run on the same target")
	free, err := s.hold(ctx, "target "+r.opt.Target)
	if err != nil {
		return nil, "", err
	}
	defer free()
	// From here on a start after a kill goes on with it.
	done, err := s.noteTarget(j.row.ID, r, "")
	if err != nil {
		return nil, "", err
	}
	defer func() {
		if s.ctx.Err() == nil {
			j.finally = done
		}
	}()
	// What is restored stays readable although its snapshot may be removed meanwhile.
	lease := s.store.NewLease()
	defer lease.Release()
	if r.far != nil {
		held, err := s.fetchFar(ctx, j, r)
		if err != nil {
			return s.restoreResult(r, nil), "", err
		}
		defer func() {
			if s.ctx.Err() == nil {
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
		release, err := s.hold(ctx, "volume "+r.live.Name)
		if err != nil {
			return nil, "", err
		}
		defer release()
		// Of this volume alone, though it be one of a group: it goes with this restore.
		row, outcome, err := s.takeHeld(ctx, j, nil, []string{r.live.Name}, r.live.Name, taking{cause: object.CauseSafety, ask: api.SnapshotTake{
			Note: fmt.Sprintf("before run %d restored %s as of %s here", j.row.ID, r.v.Name, stamp(r.row.Began.Time))}})
		if err != nil {
			return nil, "", fmt.Errorf("nothing was restored, because the safety snapshot failed: %w", err)
		}
		safety = row.ID
		if r.opt.Safety, err = s.rootOf(row); err != nil {
			return nil, "", err
		}
		if err := s.holdSnapshot(lease, row.ID); err != nil {
			return nil, "", err
		}
		j.logf("safety %s", outcome)
		s.changed("snapshots", r.live.Name)
		cache := s.scanCache(r.live)
		defer cache.Close()
		r.opt.Cache = cache
	} else if err := s.makeParents(r); err != nil {
		return nil, "", err
	}
	total := r.row.Bytes
	if len(r.opt.Paths) > 0 {
		total = 0
	}
	if r.cut != nil && r.cut.Safety != "" {
		safety = r.cut.Safety // as it was before anything was restored
	}
	begun := time.Now()
	j.begin(func() api.Progress {
		return api.Progress{DoneBytes: prog.WrittenBytes.Load(), TotalBytes: total, Files: prog.WrittenFiles.Load()}
	})
	j.say("writing")
	if _, err := s.noteTarget(j.row.ID, r, safety); err != nil {
		return nil, "", err
	}
	res, err := tree.Restore(ctx, r.opt)
	if err != nil && s.ctx.Err() != nil {
		return nil, "", err // the next start goes on with it
	}
	out := s.restoreResult(r, res)
	out.Safety = safety
	if err != nil {
		if safety != "" {
			err = fmt.Errorf("%w. What was put there so far can be taken back: candid undo %d", err, j.row.ID)
		}
		return out, "", err
	}
	for i, m := range out.Remarks {
		if i == 50 {
			j.logf("… and %d more", out.RemarkCount-50)
			break
		}
		j.logf("%s: %s", m.Path, m.What)
	}
	if out.RemarkCount > 0 {
		j.remark()
	}
	if r.recipe != "" {
		if err := s.recipeDone(ctx, j, r); err != nil {
			return out, "", err
		}
	}
	from := ""
	if r.far != nil {
		from = fmt.Sprintf(", from %s (%s fetched)", r.far.peer.Name, size(r.far.Fetched.Load()))
	}
	words := fmt.Sprintf("%s as of %s in %s%s: %s; %s in %s%s", r.v.Name, stamp(r.row.Began.Time), r.opt.Target, from, out.Summary, size(out.Bytes),
		ago(time.Since(begun)), remarkWords(out.RemarkCount))
	if r.undoes != 0 {
		words = fmt.Sprintf("run %d is taken back, to %s as it was at %s: %s%s", r.undoes, r.v.Name, stamp(r.row.Began.Time), out.Summary, remarkWords(out.RemarkCount))
	}
	if safety != "" {
		words += fmt.Sprintf(". What was there before is in the safety snapshot %s; to go back to it: candid undo %d", safety[:12], j.row.ID)
	}
	return out, words, nil
}

// holdSnapshot keeps all objects of a snapshot from being swept.
func (s *Site) holdSnapshot(lease *store.Lease, snapshot string) error {
	id, err := object.ParseID(snapshot)
	if err != nil {
		return err
	}
	set, err := s.store.Census(id)
	if err != nil {
		return err
	}
	lease.AcquireSet(set)
	if !s.store.HasRoot(id) {
		return missing("snapshot %s was removed before the restore began", snapshot[:12])
	}
	return nil
}

// fetchFar brings what a restore needs and the store here lacks from the other site.
func (s *Site) fetchFar(ctx context.Context, j *job, r *restoring) (release func(), err error) {
	r.far.ctx = ctx
	j.begin(func() api.Progress { return api.Progress{DoneBytes: r.far.Fetched.Load(), TotalBytes: r.far.bytes} })
	j.say("fetching from " + r.far.peer.Name)
	began := time.Now()
	err = r.far.again(j, func() error {
		if err := r.far.lookThrough(r.opt.Paths); err != nil {
			return err
		}
		release, err = r.far.bring()
		return err
	})
	if err != nil {
		return nil, &Error{Elsewhere, fmt.Errorf("nothing was restored, because not all of it could be fetched from %s: %w. What arrived, %s, is kept for a while: the same restore fetches only the rest", r.far.peer.Name, err, size(r.far.Fetched.Load()))}
	}
	j.logf("%s fetched from %s in %s; the rest was here", size(r.far.Fetched.Load()), r.far.peer.Name, ago(time.Since(began)))
	return release, nil
}

// makeParents makes the directories above the target, without leaving the root.
func (s *Site) makeParents(r *restoring) error {
	if r.opt.Target == r.opt.Beneath {
		return nil
	}
	root, err := os.OpenRoot(r.opt.Beneath)
	if err != nil {
		return err
	}
	defer root.Close()
	rel, err := filepath.Rel(r.opt.Beneath, filepath.Dir(r.opt.Target))
	if err != nil || rel == "." {
		return err
	}
	return root.MkdirAll(rel, 0o755)
}
