package failover

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"candidharbor/core/object"
	"candidharbor/internal/beneath"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/disks"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/tree"
)

// takeUp has this site, which is active of a volume, serve it as a snapshot has it. Done again it finds what it did.
// path is where a directory is to lie; empty: where it did, or where its copy is laid out.
func (s *Service) takeUp(ctx context.Context, j *run.Job, name string, row *catalog.Snapshot, path string) (how string,
	err error) {
	release, err := s.run.Hold(ctx, run.KeyMove.Of(name)) // standing back from it may not be at its end yet
	if err != nil {
		return "", err
	}
	defer release()
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return "", err
	}
	if !v.ActiveAt(s.Name()) {
		return "", s.authority.NotActive(v)
	}
	if up, err := s.isUp(v); err != nil || up {
		if up && v.IsDisk() {
			if err := s.disks.ServeAgain(ctx, v); err != nil {
				return "", &disks.NotOpenError{Disk: name, Cause: err}
			}
		}
		return "is up already", err
	}
	up := func() error {
		now := s.Clock.Now()
		return s.Catalog.Atomically(func(c *catalog.Catalog) error {
			return errors.Join(c.SetProtected(name, true), c.Scheduled(name, now), c.ForgetStandBack(v.Lineage))
		})
	}
	if v.IsDisk() {
		if err := s.keepDisk(ctx, j, v); err != nil {
			return "", err
		}
		if err := s.disks.TakeUp(ctx, v, row, up); err != nil {
			return "", err
		}
		how = "served as of " + phrase.Stamp(row.Began.Time)
	} else if path, how, err = s.takeUpTree(ctx, j, v, row, path); err != nil {
		return "", err
	} else if err := s.Catalog.SetPath(name, path); err != nil {
		return "", err
	}
	if !v.IsDisk() {
		err = up()
	}
	if err == nil && !v.IsDisk() {
		err = errors.Join(s.capture.Meant(v), s.routes.EndStandby(v))
		s.capture.Unfollow(v.Lineage)
	}
	s.run.Changed("volumes", name)
	return how, err
}

// livedHere reports whether the path of a volume is one of this site, where it was served before.
func (s *Service) livedHere(v *catalog.Volume) (bool, error) {
	if v.Origin == s.Name() {
		return true, nil
	}
	b, err := s.Catalog.StandBack(v.Lineage)
	return b != nil, err
}

func (s *Service) takeUpTree(ctx context.Context, j *run.Job, v *catalog.Volume, row *catalog.Snapshot,
	path string) (at, how string, err error) {
	lived, err := s.livedHere(v)
	if err != nil {
		return "", "", err
	}
	if lived && (path == "" || path == v.Path) {
		how, err := s.layOver(ctx, j, v, row)
		return v.Path, how, err
	}
	at, ok, err := s.routes.AdoptStandby(ctx, v, row, path)
	if err != nil {
		return "", "", err
	}
	if ok {
		return at, fmt.Sprintf("lies in %s as of %s, as it was laid out", at, phrase.Stamp(row.Began.Time)), nil
	}
	if path == "" {
		if path = v.StandbyDir; path == "" {
			return "", "", refusal.Badf("it is not known where %s is to lie at %s: give it under paths in the runbook", v.Name,
				s.Name())
		}
	}
	how, err = s.layAnew(ctx, j, v, row, path)
	return path, how, err
}

// lostIn is the term in which another site became active of a volume that was served here; where that is not noted, the
// one that holds now.
func (s *Service) lostIn(v *catalog.Volume) (uint64, error) {
	b, err := s.Catalog.StandBack(v.Lineage)
	if err != nil {
		return 0, err
	}
	if b != nil {
		return uint64(b.Term), nil
	}
	_, term := s.authority.Active(v)
	return term, nil
}

// keepDisk stores what a disk has and nobody else, where standing back had no time for that.
func (s *Service) keepDisk(ctx context.Context, j *run.Job, v *catalog.Volume) error {
	b, err := s.Catalog.StandBack(v.Lineage)
	if err != nil || b == nil || b.Kept != "" {
		return err
	}
	row, err := s.takeLeft(ctx, j, v, uint64(b.Term))
	if err != nil {
		return fmt.Errorf("what was written to %s here could not be stored: %w", v.Name, err)
	}
	if b.Kept = catalog.KeptNothing; row != nil && !row.LeftUntil.IsZero() {
		b.Kept = row.ID
	}
	return s.Catalog.PutStandBack(b)
}

// layOver brings a directory in which the volume lay before to what a snapshot has. What is there and no snapshot has
// is stored first, and nothing is touched that is not stored as it is.
func (s *Service) layOver(ctx context.Context, j *run.Job, v *catalog.Volume, row *catalog.Snapshot) (string, error) {
	term, err := s.lostIn(v)
	if err != nil {
		return "", err
	}
	left, err := s.capture.TakeLeft(ctx, j, v, term)
	if err != nil {
		return "", fmt.Errorf("nothing was changed in %s, because what is there could not be stored: %w", v.Path, err)
	}
	if left == nil {
		return s.layAnew(ctx, j, v, row, v.Path)
	}
	safety, err := s.rules.RootOf(left)
	if err != nil {
		return "", err
	}
	return s.lay(ctx, j, v, row, v.Path, safety)
}

// layAnew restores a snapshot to where nothing is yet.
func (s *Service) layAnew(ctx context.Context, j *run.Job, v *catalog.Volume, row *catalog.Snapshot,
	path string) (string, error) {
	return s.lay(ctx, j, v, row, path, nil)
}

func (s *Service) lay(ctx context.Context, j *run.Job, v *catalog.Volume, row *catalog.Snapshot, path string,
	safety *object.Root) (string, error) {
	root, err := s.rules.RootOf(row)
	if err != nil {
		return "", err
	}
	lease := s.Store.NewLease()
	defer lease.Release()
	if err := s.recovery.Hold(lease, row.ID); err != nil {
		return "", err
	}
	ck, err := capture.ChunkerOf(v)
	if err != nil {
		return "", err
	}
	opt := tree.RestoreOptions{Source: s.Store, Root: root, OnConflict: tree.Replace, Exact: safety != nil, Safety: safety,
		Live: safety != nil, Chunker: ck, Progress: &tree.Progress{}}
	if opt.Target, opt.Beneath, err = s.UnderRoot(path, false); err != nil {
		return "", err
	}
	if opt.Excludes, err = s.LeftOut(opt.Target, v.Excludes.V); err != nil {
		return "", err
	}
	if safety == nil {
		// What an attempt before this one laid is taken for what it is; anything else is in the way.
		if err := s.freeFor(ctx, opt); err != nil {
			return "", err
		}
		above, err := beneath.MakeAll(opt.Beneath, filepath.Dir(opt.Target), 0o755)
		if err != nil {
			return "", err
		}
		unix.Close(above)
	} else {
		own := *v
		own.Path = path
		cache := s.capture.ScanCache(&own, opt.Excludes)
		defer cache.Close()
		opt.Cache = cache
	}
	began := time.Now()
	j.Say("laying out " + v.Name)
	res, err := tree.Restore(ctx, opt)
	if err != nil {
		return "", err
	}
	if res.Failed > 0 {
		for _, m := range res.Remarks {
			j.Logf("%s: %s", phrase.Printable(m.Path), m.What)
		}
		j.Remark()
	}
	return fmt.Sprintf("lies in %s as of %s: %s, in %s", path, phrase.Stamp(row.Began.Time),
		phrase.CountWords([]phrase.Counted{{N: res.Created, What: "created"}, {N: res.Replaced, What: "replaced"},
			{N: res.Removed, What: "removed"}, {N: res.Kept, What: "the same already"}}), phrase.Ago(time.Since(began))), nil
}

// freeFor refuses a path at which something lies that is not of the snapshot which is to lie there.
func (s *Service) freeFor(ctx context.Context, opt tree.RestoreOptions) error {
	if s.isEmpty(opt.Beneath, opt.Target) == nil {
		return nil
	}
	opt.Plan, opt.Exact, opt.OwnCopy = true, true, true
	res, err := tree.Restore(ctx, opt)
	if err != nil {
		return err
	}
	if res.Replaced+res.Removed > 0 {
		return refusal.Conflictf("%s holds something else already: empty it, or give another path in the runbook", opt.Target)
	}
	return nil
}

// isEmpty refuses a path at which something lies.
func (s *Service) isEmpty(root, target string) error {
	dir, err := beneath.File(root, target)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		_, err = dir.ReadDir(1)
		dir.Close()
	}
	switch {
	case errors.Is(err, io.EOF):
		return nil
	case err != nil:
		return refusal.Badf("%s is no directory that can be laid into: %s", target, err)
	}
	return refusal.Conflictf("%s holds something else already: empty it, or give another path in the runbook", target)
}
