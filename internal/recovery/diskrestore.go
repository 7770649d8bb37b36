package recovery

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
	"candidharbor/internal/beneath"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/visible"
	"candidharbor/internal/volume/disk"

	"golang.org/x/sys/unix"
)

// diskRestore is a disk that is brought back: it goes back in place, or its bytes go to a file. Its steps
// stand below in the order in which they happen: check, fetch, then to a file write, or in place protect and
// go back; of a disk that cannot be opened anew.
type diskRestore struct {
	s      *Service
	v      *catalog.Volume
	ask    api.RestoreAsk
	undoes int64

	row    *catalog.Snapshot
	answer string
	far    *recall // nil: the snapshot is here
	root   *object.Root
	target string // of a file: where it goes, and the root that this is below
	under  string

	j      *run.Job
	safety string
	begun  time.Time
}

// restoreDisk starts a run that brings a disk back.
func (e *Viewer) restoreDisk(ask api.RestoreAsk, undoes int64, by string) (api.Run, error) {
	o := &diskRestore{s: e.s, ask: ask, undoes: undoes}
	if err := o.check(e.s.run.Context(), e); err != nil {
		return api.Run{}, err
	}
	j, err := e.s.run.Start("restore", o.v.Name, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		defer o.done()
		o.j, o.begun = j, time.Now()
		release, err := o.fetch(ctx)
		if err != nil {
			return nil, "", err
		}
		defer release()
		if !ask.InPlace {
			return o.write(ctx)
		}
		return o.inPlace(ctx)
	})
	if err != nil {
		o.done()
		return api.Run{}, err
	}
	return j.View(), nil
}

// planDisk tells what a restore of a disk would do.
func (e *Viewer) planDisk(ctx context.Context, ask api.RestoreAsk) (*api.RestoreResult, error) {
	o := &diskRestore{s: e.s, ask: ask}
	if err := o.check(ctx, e); err != nil {
		return nil, err
	}
	defer o.done()
	if o.far != nil {
		if err := o.far.lookThroughDisk(); err != nil {
			return nil, err
		}
	}
	out := o.result()
	out.DryRun = true
	if !ask.InPlace {
		out.Summary, out.Bytes = "1 file would be created", o.root.Top.Size
		return out, nil
	}
	if ask.Anew {
		out.Summary = fmt.Sprintf("the disk cannot be opened, so no safety snapshot is taken: what is left of it would be "+
			"put aside, and all of its %s would come from the snapshot, as they are read", phrase.Size(o.root.Top.Size))
		return out, nil
	}
	d, err := e.s.disks.Disk(o.v.Name)
	if err != nil {
		return nil, err
	}
	n, err := o.differing(ctx, d)
	if err != nil {
		return nil, err
	}
	changed := d.ChangedBlocks()
	most := min((n+changed)*int64(o.root.Block), o.root.Top.Size)
	out.Summary = fmt.Sprintf("a safety snapshot would have %s written since the newest snapshot; then at most %s would "+
		"come from the snapshot, as they are read", phrase.Size(changed*int64(d.Block())), phrase.Size(most))
	if c := e.s.disks.Connected(o.v.Name); c > 0 {
		out.Summary += fmt.Sprintf("; %s connected and must leave, or be disconnected, before that",
			phrase.ManyAre(c, "client"))
	}
	return out, nil
}

// differing counts the blocks in which a snapshot differs from the last one that a disk is relative to.
func (o *diskRestore) differing(ctx context.Context, d *disk.Disk) (n int64, err error) {
	base, to, get := d.Base(), o.root, o.s.Store.Get
	if o.far != nil {
		get = o.far.Get
	}
	top := object.MapTop{}
	if !base.Map.IsZero() {
		top = object.MapTop{ID: base.Map, Level: object.MapLevel(object.Blocks(base.Size, to.Block))}
	}
	err = object.DiffMaps(get, top, to.Map(), func(int64, object.Slot, object.Slot) error {
		n++
		return ctx.Err()
	})
	return n, err
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
	case ask.Into != "":
		return refusal.Badf("a disk goes back in place, or its bytes go to a file: say --in-place or --to FILE")
	case (ask.To != "") == ask.InPlace:
		return refusal.Badf("say where to: either a file on the site's host, or in place")
	case ask.Found != "":
		return refusal.Badf("others leave nothing of a disk that could be found")
	case ask.InPlace && s.IsPlace:
		return pairing.ErrPlaceHolds
	case ask.InPlace && (o.v.Origin != s.Name() || !o.v.Protected):
		return refusal.Conflictf("the disk %s is not served here: restore it to a file with --to", o.v.Name)
	case ask.Anew && !ask.InPlace:
		return refusal.Badf("only a disk in place is begun anew (--anew): say --in-place too")
	case ask.Anew && s.disks.IsOpen(o.v.Name):
		return refusal.Conflictf("the disk %s can be opened: leave --anew away, so that what it holds is kept in a safety "+
			"snapshot", o.v.Name)
	}
	if ask.InPlace && !ask.Anew {
		if _, err := s.disks.Disk(o.v.Name); err != nil {
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
	if ask.InPlace && o.root.Block != uint32(o.v.ChunkAvg) {
		return refusal.Conflictf("snapshot %s has blocks of %s and the disk %s of %s: bring it back to a file with --to",
			o.row.ID[:12], phrase.Size(int64(o.root.Block)), o.v.Name, phrase.Size(int64(o.v.ChunkAvg)))
	}
	if o.far == nil {
		return o.whole()
	}
	return nil
}

// whole refuses to go back in place to what is damaged.
func (o *diskRestore) whole() error {
	if whole, err := o.s.Store.IsWhole(o.root.Tree()); err != nil || whole || !o.ask.InPlace {
		return err
	}
	return refusal.Conflictf("snapshot %s is damaged, so the disk does not go back to it: candid store verify gets what "+
		"is damaged from other sites; with --to FILE one sees which block lacks", o.row.ID[:12])
}

func (o *diskRestore) done() {
	if o.far != nil {
		o.far.lease.Release()
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

// isThere reports whether there is anything at a path below a root.
func isThere(root, path string) (bool, error) {
	dir, err := beneath.Open(root, filepath.Dir(path))
	if errors.Is(err, unix.ENOENT) {
		return false, nil
	}
	if err != nil {
		return false, refusal.Badf("%s cannot be made: %s", path, datadir.Plain(err))
	}
	defer unix.Close(dir)
	var st unix.Stat_t
	return unix.Fstatat(dir, filepath.Base(path), &st, unix.AT_SYMLINK_NOFOLLOW) == nil, nil
}

func (o *diskRestore) stored() disk.Stored {
	return disk.Stored{Map: o.root.Tree(), Size: o.root.Top.Size}
}

func (o *diskRestore) result() *api.RestoreResult {
	out := &api.RestoreResult{Answer: o.answer, Target: o.target, Acts: []api.Act{}, Remarks: []api.Remark{},
		Volume: o.v.Name, InPlace: o.ask.InPlace, Paths: []string{}, Beside: []string{}, Safety: o.safety, Undoes: o.undoes}
	if o.ask.InPlace {
		out.Target = o.v.Path
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

// write writes the bytes into a new file, with holes where there are zeros.
func (o *diskRestore) write(ctx context.Context) (any, string, error) {
	size := o.root.Top.Size
	var done atomic.Int64
	o.j.Begin(func() api.Progress { return api.Progress{DoneBytes: done.Load(), TotalBytes: size} })
	o.j.Say("writing the image")
	dir, err := beneath.MakeAll(o.under, filepath.Dir(o.target), 0o755)
	if err != nil {
		return nil, "", err
	}
	defer unix.Close(dir)
	if err := o.writeNew(ctx, dir, filepath.Base(o.target), &done); err != nil {
		return nil, "", err
	}
	out := o.result()
	out.Created, out.Bytes, out.Summary = 1, size, "1 file created"
	return out, fmt.Sprintf("%s as of %s%s is in %s, a raw image of %s, in %s. Use it with any client, such as: qemu-img "+
		"info -f raw %s", o.v.Name, phrase.Stamp(o.row.Began.Time), o.whence(), o.target, phrase.Size(size),
		phrase.Ago(time.Since(o.begun)), visible.Word(o.target)), unix.Fsync(dir)
}

// whence tells from where a snapshot came that is not here.
func (o *diskRestore) whence() string {
	if o.far == nil {
		return ""
	}
	return fmt.Sprintf(", from %s (%s fetched)", o.far.peer.Name, phrase.Size(o.far.Fetched.Load()))
}

// writeNew writes a file that gets its name when it is whole, where the filesystem can do that.
func (o *diskRestore) writeNew(ctx context.Context, dir int, name string, done *atomic.Int64) error {
	fd, err := beneath.At(dir, ".", unix.O_WRONLY|unix.O_TMPFILE, 0o600)
	named := err != nil
	if named {
		fd, err = beneath.At(dir, name, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL, 0o600)
	}
	if err != nil {
		return refusal.Conflictf("%s cannot be made: %s", o.target, datadir.Plain(err))
	}
	f := os.NewFile(uintptr(fd), o.target)
	err = o.copy(ctx, f, done)
	if err == nil {
		err = f.Sync()
	}
	if err == nil && !named {
		err = unix.Linkat(unix.AT_FDCWD, beneath.Name(fd), dir, name, unix.AT_SYMLINK_FOLLOW)
	}
	if err = errors.Join(err, f.Close()); err != nil && named {
		err = errors.Join(err, unix.Unlinkat(dir, name, 0))
	}
	return err
}

func (o *diskRestore) copy(ctx context.Context, f *os.File, done *atomic.Int64) error {
	size := o.root.Top.Size
	if err := f.Truncate(size); err != nil {
		return err
	}
	view, err := disk.OpenView(o.s.Store, o.stored(), o.root.Block)
	if err != nil {
		return err
	}
	defer view.Close()
	buf := make([]byte, 1<<20)
	for off := int64(0); off < size; {
		if err := ctx.Err(); err != nil {
			return err
		}
		extents, err := view.Extents(off, size-off)
		if err != nil {
			return err
		}
		for _, e := range extents {
			end := off + e.Length
			for !e.Zero && off < end {
				p := buf[:min(int64(len(buf)), end-off)]
				if err := view.ReadAt(p, off); err != nil {
					return err
				}
				if _, err := f.WriteAt(p, off); err != nil {
					return err
				}
				off += int64(len(p))
				done.Store(off)
			}
			off = end
			done.Store(off)
		}
	}
	return nil
}

// inPlace has the disk go back, once no client has it open and all that it is was stored.
func (o *diskRestore) inPlace(ctx context.Context) (any, string, error) {
	s := o.s
	o.j.Say("waiting for another run on the same volume")
	release, err := s.run.Hold(ctx, run.KeyVolume.Of(o.v.Name))
	if err != nil {
		return nil, "", err
	}
	defer release()
	o.j.Begin(nil)
	if o.ask.Anew {
		return o.anew(ctx)
	}
	reopen, err := s.disks.Shut(ctx, o.v.Name, o.ask.Disconnect)
	if err != nil {
		return nil, "", err
	}
	defer reopen()
	if err := o.protect(ctx); err != nil {
		return nil, "", err
	}
	o.j.Say("going back")
	if err := s.disks.GoBack(ctx, o.v.Name, o.stored()); err != nil {
		return nil, "", fmt.Errorf("the disk is as it was: %w", err)
	}
	s.run.Changed("volumes", o.v.Name)
	out := o.result()
	out.Bytes, out.Summary = o.root.Top.Size, "the disk is as it was then"
	words := fmt.Sprintf("%s is as it was at %s%s, and clients may open it", o.v.Name, phrase.Stamp(o.row.Began.Time),
		o.whence())
	if o.undoes != 0 {
		words = fmt.Sprintf("run %d is taken back: %s", o.undoes, words)
	}
	return out, fmt.Sprintf("%s. What was there before is in the safety snapshot %s; to go back to it: candid undo %d",
		words, o.safety[:12], o.j.ID()), nil
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
	row, outcome, err := o.s.capture.TakeHeld(ctx, o.j, nil, []string{o.v.Name}, o.v.Name,
		capture.Taking{Cause: object.CauseSafety, Ask: api.SnapshotTake{
			Note: fmt.Sprintf("before run %d went back to %s", o.j.ID(), phrase.Stamp(o.row.Began.Time))}})
	if err != nil {
		return fmt.Errorf("the disk is as it was, because the safety snapshot failed: %w", err)
	}
	o.safety = row.ID
	o.j.Logf("safety %s", outcome)
	o.s.run.Changed("snapshots", o.v.Name)
	return nil
}
