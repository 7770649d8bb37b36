package recovery

import (
	"context"
	"errors"
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/disk"
)

// diskRestore is a disk that is brought back: it goes back in place, or its bytes go to a file. Its steps
// stand below in the order in which they happen: check, fetch, then to a file write, or in place protect and
// go back; of a disk that cannot be opened anew.
type diskRestore struct {
	s      *Service
	v      *catalog.Volume
	live   *catalog.Volume // the disk that goes back: this one, or another; nil: its bytes go to a file
	ask    api.RestoreAsk
	undoes int64
	recipe string // by which it is made

	row    *catalog.Snapshot
	answer string
	far    *recall      // nil: the snapshot is here
	lease  *store.Lease // what holds a snapshot that is here
	root   *object.Root
	target string // of a file: where it goes, and the root that this is below
	under  string

	cut    *catalog.InterruptedRestore // the restore that this one goes on with; nil: none
	reopen func()                      // lets clients open the disk again; nil: it is not kept from them yet

	j       *run.Job
	isNoted bool
	safety  string
	before  *api.FarMoment // what the disk was as, when it needs no safety snapshot
	arrives int64          // the run that brings what lacks after it went back; 0: all is here
	nodes   [][]byte       // of the map, that lack here, when it goes back before all has come
	begun   time.Time
}

// prepareDisk checks a restore of a disk, and changes nothing.
func (e *Viewer) prepareDisk(ask api.RestoreAsk) (*diskRestore, error) {
	o := &diskRestore{s: e.s, ask: ask}
	if err := o.check(e.s.run.Context(), e); err != nil {
		return nil, err
	}
	if o.live != nil && !ask.Disconnect && !ask.Anew {
		if err := e.s.disks.Busy(o.live.Name); err != nil {
			o.done()
			return nil, err
		}
	}
	return o, nil
}

func (o *diskRestore) subject() string { return o.v.Name }

func (o *diskRestore) noted() *bool { return &o.isNoted }

func (o *diskRestore) goesBack() bool { return o.live != nil }

func (o *diskRestore) steps(ctx context.Context, j *run.Job) (any, string, error) {
	o.j, o.begun = j, time.Now()
	if !o.ask.Anew {
		if err := o.s.Note(j.ID(), o); err != nil {
			return nil, "", err
		}
	}
	if o.far != nil && o.live != nil && !o.ask.Anew {
		if err := o.look(ctx); err != nil {
			return nil, "", err
		}
		return o.inPlace(ctx)
	}
	release, err := o.fetch(ctx)
	if err != nil {
		return nil, "", err
	}
	defer release()
	if o.live == nil {
		return o.write(ctx)
	}
	return o.inPlace(ctx)
}

func (o *diskRestore) interrupted(run int64) (*catalog.InterruptedRestore, int64) {
	c := &catalog.InterruptedRestore{Run: run, Beneath: o.under, Target: o.target, RestoreRequest: requestOf(o.ask),
		Snapshot: o.row.ID, Safety: o.safety, Undoes: o.undoes, Recipe: o.recipe,
		Beside: catalog.JSON[[]string]{V: []string{}}}
	c.At = o.row.ID
	if o.far != nil {
		c.FromSite = o.far.peer.Name
	}
	if o.cut == nil {
		return c, 0
	}
	c.Times = o.cut.Times + 1
	if c.Safety == "" {
		c.Safety = o.cut.Safety
	}
	return c, o.cut.Run
}

// check finds the snapshot and where it goes, and changes nothing.
func (o *diskRestore) check(ctx context.Context, e *Viewer) (err error) {
	s, ask := o.s, &o.ask
	if e.who != nil {
		return refusal.Wrap(refusal.Refused, errors.New("a disk is for operators to bring back: ask one"))
	}
	if o.v, err = s.Catalog.Volume(ask.Volume); err != nil {
		return err
	}
	switch {
	case len(ask.Paths) > 0:
		return refusal.Badf("volume %s is a disk: it is brought back whole. To copy single files out of a snapshot, attach "+
			"it read-only as %s:ID", o.v.Name, o.v.Name)
	case (ask.To != "") == (ask.InPlace || ask.Into != "") || ask.InPlace && ask.Into != "":
		return refusal.Badf("say where to: either a file on the site's host, or in place, or another disk")
	case ask.Found != "":
		return refusal.Badf("others leave nothing of a disk that could be found")
	case ask.To == "" && s.IsPlace:
		return pairing.ErrPlaceHolds
	case ask.InPlace && (!o.v.ActiveAt(s.Name()) || !o.v.Protected):
		return refusal.Conflictf("the disk %s is not served here: restore it to a file with --to", o.v.Name)
	case ask.Anew && !ask.InPlace:
		return refusal.Badf("only a disk in place is begun anew (--anew): say --in-place too")
	case ask.Anew && s.disks.IsOpen(o.v.Name):
		return refusal.Conflictf("the disk %s can be opened: leave --anew away, so that what it holds is kept in a safety "+
			"snapshot", o.v.Name)
	}
	if ask.InPlace {
		o.live = o.v
	} else if ask.Into != "" {
		if o.live, err = o.other(e); err != nil {
			return err
		}
	}
	if o.live != nil && !ask.Anew {
		if _, err := s.disks.Disk(o.live.Name); err != nil {
			return err
		}
	}
	if ask.To != "" {
		if o.target, o.under, err = s.UnderRoot(ask.To, false); err != nil {
			return err
		}
		if is, err := isThere(o.under, o.target); err != nil {
			return err
		} else if is {
			return refusal.Conflictf("%s is there already: nothing is written over it; name a file that is not", o.target)
		}
	}
	var peer *catalog.Peer
	if o.row, o.answer, peer, err = s.resolve(ctx, o.v, ask.At, ask.From); err != nil {
		return err
	}
	if peer != nil {
		if o.far, err = s.RecallOf(ctx, peer, o.v, o.row); err != nil {
			return err
		}
		o.root = o.far.root
		defer func() {
			if err != nil {
				o.done()
			}
		}()
	} else if o.root, err = s.rules.RootOf(o.row); err != nil {
		return err
	}
	if !o.root.IsDisk() {
		return refusal.Conflictf("snapshot %s is of a directory and no disk", o.row.ID[:12])
	}
	if o.live != nil && o.root.Block != uint32(o.live.ChunkAvg) {
		return refusal.Conflictf("snapshot %s has blocks of %s and the disk %s of %s: bring it back to a file with --to",
			o.row.ID[:12], phrase.Size(int64(o.root.Block)), o.live.Name, phrase.Size(int64(o.live.ChunkAvg)))
	}
	if o.far != nil {
		return nil
	}
	o.lease = s.Store.NewLease() // it stays readable though its snapshot may be removed meanwhile
	is, err := o.lease.AcquireAny(o.root.Tree())
	if err == nil && !is {
		err = refusal.Missingf("snapshot %s was removed before the restore began", o.row.ID[:12])
	}
	if err == nil {
		err = o.whole()
	}
	if err != nil {
		o.done()
	}
	return err
}

// other is another disk of this site, which becomes as the snapshot is.
func (o *diskRestore) other(e *Viewer) (*catalog.Volume, error) {
	v, err := o.s.Catalog.Volume(o.ask.Into)
	switch {
	case err != nil:
		return nil, err
	case v.Name == o.v.Name:
		return nil, refusal.Badf("%s goes back into itself with --in-place", v.Name)
	case !v.IsDisk():
		return nil, refusal.Badf("volume %s is a directory, and %s a disk: bring it back to a file with --to", v.Name,
			o.v.Name)
	case !v.ActiveAt(o.s.Name()) || !v.Protected:
		return nil, refusal.Conflictf("the disk %s is not served here: restore to a file with --to", v.Name)
	}
	return v, nil
}

// whole refuses to go back in place to what is damaged.
func (o *diskRestore) whole() error {
	if whole, err := o.s.Store.IsWhole(o.root.Tree()); err != nil || whole || o.live == nil {
		return err
	}
	return refusal.Conflictf("snapshot %s is damaged, so the disk does not go back to it: candid store verify gets what "+
		"is damaged from other sites; with --to FILE one sees which block lacks", o.row.ID[:12])
}

func (o *diskRestore) done() {
	if o.far != nil {
		o.far.lease.Release()
	}
	if o.lease != nil {
		o.lease.Release()
	}
	if o.reopen != nil {
		o.reopen()
		o.reopen = nil
	}
}

// fetch brings what the store here lacks of a snapshot that another site has.
func (o *diskRestore) fetch(ctx context.Context) (release func(), err error) {
	if o.far == nil {
		return func() {}, nil
	}
	if release, err = o.s.fetchFar(ctx, o.j, o.far, o.far.lookThroughDisk); err != nil {
		return nil, err
	}
	if err := o.whole(); err != nil {
		release()
		return nil, err
	}
	return release, nil
}

func (o *diskRestore) stored() disk.Stored {
	return disk.Stored{Map: o.root.Tree(), Size: o.root.Top.Size}
}

func (o *diskRestore) result() *api.RestoreResult {
	out := &api.RestoreResult{Answer: o.answer, Target: o.target, Acts: []api.Act{}, Remarks: []api.Remark{},
		Volume: o.v.Name, InPlace: o.ask.InPlace, Paths: []string{}, Beside: []string{}, Safety: o.safety, Undoes: o.undoes,
		Before: o.before, Arrives: o.arrives}
	if o.live != nil {
		out.Target, out.Into = o.live.Path, o.ask.Into
	}
	out.FreeBytes = freeAt(out.Target)
	if view, err := o.s.rules.SnapshotView(o.row, nil); err == nil {
		out.Snapshot = *view
	}
	if o.far != nil {
		out.From, out.FetchBytes = o.far.peer.Name, o.far.bytes
		if o.j != nil {
			out.FetchBytes = o.far.Fetched.Load()
		}
	}
	return out
}

// inPlace has the disk go back, once no client has it open and all that it is was stored.
func (o *diskRestore) inPlace(ctx context.Context) (any, string, error) {
	s := o.s
	o.j.Say("waiting for another run on the same volume")
	release, err := s.run.Hold(ctx, run.KeyVolume.Of(o.live.Name))
	if err != nil {
		return nil, "", err
	}
	defer release()
	o.j.Begin(nil)
	if o.ask.Anew {
		return o.anew(ctx)
	}
	if o.reopen == nil {
		if o.reopen, err = s.disks.Shut(ctx, o.live.Name, o.ask.Disconnect); err != nil {
			return nil, "", err
		}
	}
	if err := o.protect(ctx); err != nil {
		return nil, "", err
	}
	o.j.Say("going back")
	if err := o.goBack(ctx); err != nil {
		return nil, "", fmt.Errorf("the disk is as it was: %w", err)
	}
	s.run.Changed("volumes", o.live.Name)
	out := o.result()
	out.Bytes, out.Summary, out.Recipe = o.root.Top.Size, "the disk is as it was then", o.recipe
	if saved, err := s.recipe(o.recipe); o.recipe != "" && err == nil { // else it was removed meanwhile
		if err := s.letHookCheck(ctx, o.j, saved.Hook, o.live); err != nil {
			return out, "", err
		}
	}
	words := fmt.Sprintf("%s is as it was at %s%s, and clients may open it", o.live.Name,
		phrase.Stamp(o.row.Began.Time), o.whence())
	if o.ask.Into != "" {
		words = fmt.Sprintf("%s is as %s was at %s%s, and clients may open it", o.live.Name, o.v.Name,
			phrase.Stamp(o.row.Began.Time), o.whence())
	}
	if o.undoes != 0 {
		words = fmt.Sprintf("run %d is taken back: %s", o.undoes, words)
	}
	if o.arrives != 0 {
		words += fmt.Sprintf(". Up to %s of it have yet to come from %s: run %d brings them, and what is read comes first",
			phrase.Size(o.far.bytes), o.far.peer.Name, o.arrives)
	}
	if o.before != nil {
		return out, fmt.Sprintf("%s. To take it back: candid undo %d; nobody had written to what was there before, which "+
			"is snapshot %s at %s", words, o.j.ID(), o.before.Snapshot[:12], o.before.Site), nil
	}
	return out, fmt.Sprintf("%s. To take it back: candid undo %d; what was there before is in the safety snapshot %s",
		words, o.j.ID(), o.safety[:12]), nil
}

// anew begins a disk that cannot be opened anew. Nobody reads what it held, so it is put aside.
func (o *diskRestore) anew(ctx context.Context) (any, string, error) {
	o.j.Say("beginning the image anew")
	aside, err := o.s.disks.Anew(ctx, o.v.Name, o.stored(), o.root.Block)
	if err != nil {
		return nil, "", err
	}
	o.s.run.Changed("volumes", o.v.Name)
	out := o.result()
	out.Bytes, out.Summary, out.Anew = o.root.Top.Size, "the disk is as it was then", true
	words := fmt.Sprintf("%s is as it was at %s%s, and clients may open it. It could not be opened before, so there is "+
		"no safety snapshot", o.v.Name, phrase.Stamp(o.row.Began.Time), o.whence())
	if aside != "" {
		words += "; what was left of it is in " + aside
	}
	return out, words, nil
}

// protect takes a safety snapshot of the disk, which nobody writes to any more.
func (o *diskRestore) protect(ctx context.Context) error {
	d, err := o.s.disks.Disk(o.live.Name)
	if err != nil {
		return err
	}
	if from, is := d.Arriving(); is && d.Unwritten() { // it is as a snapshot that another site keeps
		if o.cut != nil && from.Root.String() == o.row.ID {
			o.safety = o.cut.Safety
		}
		if o.safety == "" {
			o.before = &api.FarMoment{Site: from.Site, Volume: from.Volume, Snapshot: from.Root.String()}
		}
		return o.s.Note(o.j.ID(), o)
	}
	if o.cut != nil && o.cut.Safety != "" {
		if d.ChangedBlocks() == 0 { // what was there before anything was done is what that has
			o.safety = o.cut.Safety
			return o.s.Note(o.j.ID(), o)
		}
	}
	row, outcome, err := o.s.capture.TakeHeld(ctx, o.j, nil, []string{o.live.Name}, o.live.Name,
		capture.Taking{Cause: object.CauseSafety, Ask: api.SnapshotTake{
			Note: fmt.Sprintf("before run %d went back to %s", o.j.ID(), phrase.Stamp(o.row.Began.Time))}})
	if err != nil {
		return fmt.Errorf("the disk is as it was, because the safety snapshot failed: %w", err)
	}
	o.safety = row.ID
	o.j.Logf("safety %s", outcome)
	o.s.run.Changed("snapshots", o.live.Name)
	return o.s.Note(o.j.ID(), o)
}
