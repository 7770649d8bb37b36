package capture

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/store"

	"golang.org/x/sync/errgroup"
)

// takeRun is a snapshot of a volume, or of all of a group, while it is taken. Its steps stand below in
// the order in which they happen: hold, prepare, read, then confirm or commit, and settle.
type takeRun struct {
	s       *Service
	j       *run.Job
	t       Taking
	g       *catalog.Group // nil: one volume
	members []string
	volume  string // whose snapshot is told of

	all     []*reading
	quiet   bool     // hooks held the writers still while it was read
	outcome string   // for people; empty: nothing is decided yet
	ends    []func() // what is let go at the end, the last first
}

// takeAll takes a snapshot of a volume or of its whole group, and returns that of the volume.
func (s *Service) takeAll(ctx context.Context, j *run.Job, g *catalog.Group, members []string, volume string,
	t Taking) (*catalog.Snapshot, string, error) {
	o := &takeRun{s: s, j: j, g: g, members: members, volume: volume, t: t}
	return o.run(ctx, o.hold)
}

// TakeHeld is takeAll for a caller that holds the volumes.
func (s *Service) TakeHeld(ctx context.Context, j *run.Job, g *catalog.Group, members []string, volume string,
	t Taking) (*catalog.Snapshot, string, error) {
	o := &takeRun{s: s, j: j, g: g, members: members, volume: volume, t: t}
	return o.run(ctx, nil)
}

func (o *takeRun) run(ctx context.Context, hold func(context.Context) error) (*catalog.Snapshot, string, error) {
	defer func() {
		for i := len(o.ends) - 1; i >= 0; i-- {
			o.ends[i]()
		}
	}()
	for _, step := range []func(context.Context) error{hold, o.prepare, o.read, o.confirm, o.commit, o.settle} {
		if step == nil || o.outcome != "" {
			continue
		}
		if err := step(ctx); err != nil {
			return nil, "", err
		}
	}
	return o.row(), o.outcome, nil
}

func (o *takeRun) atEnd(f func()) { o.ends = append(o.ends, f) }

// hold waits for other runs on the volumes, which are held in one order everywhere.
func (o *takeRun) hold(ctx context.Context) error {
	o.j.Say("waiting for another run on this volume")
	for _, name := range o.members {
		release, err := o.s.run.Hold(ctx, run.KeyVolume.Of(name))
		if err != nil {
			return err
		}
		o.atEnd(release)
	}
	return nil
}

// prepare finds each volume, its rules and what it was like the last time.
func (o *takeRun) prepare(context.Context) error {
	for _, name := range o.members {
		r, err := o.s.prepare(name, o.t.before)
		if err != nil {
			return err
		}
		r.anyway = o.t.Cause == object.CauseSafety
		o.all = append(o.all, r)
		o.atEnd(r.End)
	}
	o.j.Begin(func() api.Progress {
		var p api.Progress
		for _, r := range o.all {
			p.DoneBytes += r.Prog.Bytes.Load()
			p.TotalBytes += max(r.Prog.Total.Load(), r.Prog.Bytes.Load())
			p.Files += r.Prog.Files.Load()
		}
		return p
	})
	return nil
}

// read takes the instant of all disks and scans the trees side by side, with the writers held still if the
// rules have hooks for that. What belongs to the disks' instant is stored after that.
func (o *takeRun) read(ctx context.Context) (err error) {
	var vols []*catalog.Volume
	var sets []*rules.Ruleset
	for _, r := range o.all {
		vols, sets = append(vols, r.v), append(sets, r.rs)
	}
	group := ""
	if o.g != nil {
		group = o.g.Name
	}
	holds := HoldsOf(o.g, sets...)
	if o.t.Cause == object.CauseLeft { // whoever writes still does so without leave
		holds = nil
	}
	o.quiet, err = o.s.frozen(ctx, o.j, holds, vols, group, func() error {
		o.j.Say("reading")
		if err := o.s.freeze(o.all); err != nil {
			return err
		}
		eg, ctx := errgroup.WithContext(ctx)
		for _, r := range o.all {
			if r.disk == nil {
				eg.Go(func() error { return o.s.read(ctx, o.j, r) })
			}
		}
		return eg.Wait()
	})
	if err == nil {
		err = o.s.harvest(ctx, o.j, o.all)
	}
	if err != nil {
		o.forget(0)
	}
	return err
}

// confirm ends the run if the last snapshots are still what was read: then it is only noted that
// they were seen unchanged.
func (o *takeRun) confirm(context.Context) error {
	if slices.ContainsFunc(o.all, func(r *reading) bool { return !o.s.isCurrent(r, o.t) }) {
		return nil
	}
	for i, r := range o.all {
		if err := o.s.sight(r); err != nil {
			o.forget(i)
			return err
		}
	}
	mine := o.row()
	o.outcome = fmt.Sprintf("unchanged since %s; seen until %s", phrase.Stamp(mine.Began.Time),
		phrase.Stamp(mine.SeenUntil.Time))
	return nil
}

// commit makes snapshots of all readings, or of none.
func (o *takeRun) commit(context.Context) error {
	o.j.Say("making it durable")
	err := o.commitAll()
	if err == nil {
		return nil
	}
	o.forget(0)
	if errors.Is(err, store.ErrNoObject) { // what was taken over from the last reading is not all there
		for _, r := range o.all {
			if r.disk == nil {
				r.Cache.Drop()
				o.s.Unfollow(r.v.Lineage)
			}
		}
		err = fmt.Errorf("%w; the next snapshot reads everything anew", err)
	}
	return err
}

// commitAll shows the snapshots together, once the last is durable.
func (o *takeRun) commitAll() error {
	var set *object.Set
	if o.g != nil {
		set = &object.Set{Group: o.g.Name, Of: uint32(len(o.all))}
		rand.Read(set.ID[:])
	}
	var done []object.ID
	var rows []*catalog.Snapshot
	err := func() error {
		for _, r := range o.all {
			id, err := o.s.commit(r, o.t, set, o.consistency(r))
			if !id.IsZero() {
				done = append(done, id)
			}
			if err != nil {
				return err
			}
			rows = append(rows, r.row)
		}
		return o.s.Catalog.PutSnapshots(rows)
	}()
	if err != nil {
		if len(done) > 0 {
			err = errors.Join(err, o.s.Store.RemoveRoots(done...))
		}
		return err
	}
	for _, r := range o.all {
		o.s.rules.Reached(r.v.Name, o.s.Place(), r.began)
	}
	return nil
}

// consistency is how much of one instant a reading shows.
func (o *takeRun) consistency(r *reading) object.Consistency {
	switch {
	case o.quiet && o.t.Cause != object.CauseLeft && len(HoldsOf(o.g, r.rs)) > 0:
		return object.Quiesced
	case r.disk != nil:
		return object.Crash
	case r.how.Still:
		return object.Still
	}
	return object.Spread
}

// settle makes the readings those that the next snapshot is compared with, and says what was taken.
func (o *takeRun) settle(context.Context) error {
	for _, r := range o.all {
		o.s.remember(o.j, r)
	}
	o.s.run.Changed("snapshots", o.members...)
	if err := o.s.Store.KeepBallast(); err != nil {
		o.s.Log.Error("the ballast could not be kept", "error", err)
	}
	if o.g != nil {
		o.outcome = setWords(o.g, o.all)
		return nil
	}
	mine := o.row()
	if d := o.all[0].disk; d != nil {
		o.outcome = d.words(mine)
		return nil
	}
	o.outcome = fmt.Sprintf("snapshot %s: %s, %s, of which %s were new in the store%s", mine.ID[:12],
		phrase.Many(int(mine.Files), "file"),
		phrase.Size(mine.Bytes), phrase.Size(mine.Stored), RemarkWords(mine.Remarks))
	return nil
}

// forget gives up what the readings from the i-th on would have the next one compared with.
func (o *takeRun) forget(i int) {
	for _, r := range o.all[i:] {
		if r.res != nil {
			r.res.Forget()
		}
	}
}

// row is the snapshot of the volume that was asked for.
func (o *takeRun) row() *catalog.Snapshot {
	for _, r := range o.all {
		if r.v.Name == o.volume {
			return r.row
		}
	}
	return o.all[0].row
}
