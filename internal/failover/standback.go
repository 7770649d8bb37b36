package failover

import (
	"context"
	"errors"
	"fmt"
	"time"

	"candidharbor/internal/authority"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
)

// HookStandBack is the hook that has those who write to directories stop: unmount, unshare, end what writes.
const HookStandBack = "stand-back"

// quietFor is how long nothing may be written before it is certain that nobody writes any more.
const quietFor = 30 * time.Second

// lookAgain bounds how long it is waited between two looks whether somebody still writes.
const lookAgain = 5 * time.Minute

// lost has a disk's clients leave at once, and notes that the rest of standing back is to be done.
func (s *Service) lost(ctx context.Context, m authority.Moved) error {
	if m.Volume.Origin != s.Name() && !m.Volume.Protected {
		return nil // it was never up here, or stood back: its path is one of another host, or is not served
	}
	b := &catalog.StandBack{Lineage: m.Volume.Lineage, Term: int64(m.Term), Site: m.To, Since: catalog.At(s.Clock.Now())}
	if m.To != authority.Nobody {
		if err := s.Catalog.PutStandBack(b); err != nil {
			return err
		}
	}
	if m.Volume.IsDisk() {
		return s.disks.ShutNow(ctx, m.Volume)
	}
	return nil
}

// standBack begins the run that stands back, unless it runs or nothing is to be done.
func (s *Service) standBack() error {
	todo, err := s.toStandBack()
	if err != nil || len(todo) == 0 {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.standing != nil {
		return nil // it looks again what is to be done before it ends
	}
	j, err := s.run.Start("stand-back", subjectOf(todo), "the service", s.standBackRun)
	if err != nil {
		return err
	}
	s.standing = j
	return nil
}

type standingBack struct {
	*catalog.StandBack
	v *catalog.Volume
}

func subjectOf(all []standingBack) string {
	if len(all) == 1 {
		return all[0].v.Name
	}
	return phrase.Many(len(all), "volume")
}

// toStandBack lists what is not done with.
func (s *Service) toStandBack() (todo []standingBack, err error) {
	all, err := s.Catalog.StandBacks()
	if err != nil {
		return nil, err
	}
	for _, b := range all {
		if !b.Confirmed.IsZero() {
			continue
		}
		v, err := s.Catalog.VolumeOfLineage(b.Lineage)
		if errors.Is(err, catalog.ErrNone) {
			err = s.Catalog.ForgetStandBack(b.Lineage)
			v = nil
		}
		if err != nil {
			return nil, err
		}
		if v != nil && !v.ActiveAt(s.Name()) {
			todo = append(todo, standingBack{b, v})
		}
	}
	return todo, nil
}

func (s *Service) standBackRun(ctx context.Context, j *run.Job) (any, string, error) {
	done, left, wait := 0, 0, quietFor
	for {
		todo, err := s.toStandBack()
		if err == nil && len(todo) == 0 {
			s.mu.Lock()
			if todo, err = s.toStandBack(); err != nil || len(todo) == 0 { // what came meanwhile begins a run of its own
				s.standing = nil
				s.mu.Unlock()
				break
			}
			s.mu.Unlock()
		}
		if err != nil {
			s.mu.Lock()
			s.standing = nil
			s.mu.Unlock()
			return nil, "", err
		}
		s.tellWriters(ctx, j, todo)
		troubled := false
		for _, b := range todo {
			confirmed, kept, err := s.keepLeft(ctx, j, b)
			if err != nil && ctx.Err() == nil {
				j.Remark()
				j.Logf("%s: %s", b.v.Name, err)
				s.Log.Error("what a volume has could not be kept; it is tried again", "volume", b.v.Name, "error", err)
				troubled = true
			}
			if confirmed {
				done++
			}
			if kept {
				left++
			}
		}
		if wait = quietFor; troubled {
			wait = lookAgain
		}
		if todo, err = s.toStandBack(); err == nil && len(todo) == 0 {
			continue
		}
		j.Say("waiting until nobody writes any more")
		select {
		case <-s.Clock.Until(s.Clock.Now().Add(wait)):
		case <-ctx.Done():
			s.mu.Lock()
			s.standing = nil
			s.mu.Unlock()
			return nil, "", &run.Partly{Leaves: "the next start of the service goes on with standing back"}
		}
	}
	words := fmt.Sprintf("stood back from %s", phrase.Many(done, "volume"))
	if left > 0 {
		words += fmt.Sprintf("; what %s had and nobody else is kept as left behind", phrase.Many(left, "volume"))
	}
	return nil, words, nil
}

// tellWriters runs the hook stand-back for all directories for which it has not run well.
func (s *Service) tellWriters(ctx context.Context, j *run.Job, todo []standingBack) {
	var vols []*catalog.Volume
	for _, b := range todo {
		if !b.v.IsDisk() && b.Hook != catalog.HookDone {
			vols = append(vols, b.v)
		}
	}
	said := catalog.HookDone
	if _, has := s.Conf.Hooks[HookStandBack]; has && len(vols) > 0 {
		j.Say("having the writers stop: " + HookStandBack)
		if err := s.capture.RunHook(ctx, j, capture.HookRun{Name: HookStandBack, Volumes: vols}); err != nil {
			if ctx.Err() != nil {
				return
			}
			said = err.Error()
			j.Logf("the writers may go on: %s", err)
			j.Remark()
		}
	}
	for _, b := range todo {
		if b.Hook != catalog.HookDone {
			b.Hook = said
			if err := s.Catalog.PutStandBack(b.StandBack); err != nil {
				s.Log.Error("how far standing back came could not be noted", "volume", b.v.Name, "error", err)
			}
		}
	}
}

// takeLeft stores what a volume has that no snapshot of this site has; nil: nothing.
func (s *Service) takeLeft(ctx context.Context, j *run.Job, v *catalog.Volume, term uint64) (*catalog.Snapshot, error) {
	if v.IsDisk() {
		has, aside, err := s.disks.Leave(ctx, v)
		if aside != "" {
			j.Remark()
			j.Logf("%s: what it had here cannot be read as that disk; its files were put aside where they lay, and its "+
				"records in %s", v.Name, aside)
		}
		if err != nil || !has {
			return nil, err
		}
	}
	return s.capture.TakeLeft(ctx, j, v, term)
}

// leaves reports whether this site still stands back from a volume. The caller holds its move.
func (s *Service) leaves(b standingBack) (bool, error) {
	now, err := s.Catalog.StandBack(b.Lineage)
	if err != nil || now == nil || now.Term != b.Term {
		return false, err
	}
	v, err := s.Catalog.VolumeOfLineage(b.Lineage)
	return err == nil && !v.ActiveAt(s.Name()), err
}

// keepLeft stores what a volume has and no snapshot of this site has, and finds whether somebody still writes.
func (s *Service) keepLeft(ctx context.Context, j *run.Job, b standingBack) (confirmed, kept bool, err error) {
	release, err := s.run.Hold(ctx, run.KeyMove.Of(b.v.Name))
	if err != nil {
		return false, false, err
	}
	defer release()
	if is, err := s.leaves(b); err != nil || !is {
		return false, false, err
	}
	row, err := s.takeLeft(ctx, j, b.v, uint64(b.Term))
	if err != nil {
		return false, false, err
	}
	now, was := s.Clock.Now(), b.Kept
	b.Kept = catalog.KeptNothing
	if row != nil && !row.LeftUntil.IsZero() {
		b.Kept = row.ID
		kept = was != row.ID
	}
	switch {
	case b.v.IsDisk():
		if b.Site != authority.Nobody {
			if err := s.disks.Yield(ctx, b.v); err != nil {
				return false, kept, err
			}
		}
		b.QuietSince, b.Confirmed = catalog.At(now), catalog.At(now)
	case b.QuietSince.IsZero() || b.Kept != was:
		b.QuietSince = catalog.At(now)
	case now.Sub(b.QuietSince.Time) >= quietFor && b.Hook == catalog.HookDone:
		b.Confirmed = catalog.At(now)
	}
	if fresh, err := s.Catalog.VolumeOfLineage(b.Lineage); err != nil || fresh.ActiveAt(s.Name()) {
		return false, kept, err // it came home meanwhile
	}
	if !b.Confirmed.IsZero() && b.v.Origin != s.Name() {
		if err := s.Catalog.SetProtected(b.v.Name, false); err != nil {
			return false, kept, err
		}
	}
	err = s.Catalog.PutStandBack(b.StandBack)
	s.run.Changed("volumes", b.v.Name)
	return err == nil && !b.Confirmed.IsZero(), kept, err
}
