package recovery

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/tree"
)

// undoing is the conflict choice of a restore that takes another back: what was asked for
// becomes exactly as it was, and goes when it was not there.
const undoing = "undo"

// Undo takes back what a restore in place did. It is a restore in place itself, with a
// safety snapshot of its own.
func (s *Service) Undo(run int64, by string) (api.Run, error) { return s.ViewerFor(nil).Undo(run, by) }

// Undo takes back what a restore in place did: only what is still as it left it. For a file
// owner it does what that one may do now, and nothing else.
func (e *Viewer) Undo(run int64, by string) (api.Run, error) {
	if row, err := e.s.Catalog.Run(run); err == nil && row.Kind == groupRestoreKind && e.who == nil {
		return e.s.undoGroup(row, by)
	}
	o := &undo{e: e, run: run}
	if err := o.judge(); err != nil {
		return api.Run{}, err
	}
	r, err := o.prepare()
	if err != nil {
		return api.Run{}, err
	}
	return e.s.startRestore(r, by)
}

// undo is the taking back of a restore while it is prepared. Its steps stand below in the order in which
// they happen: find, follow, check, then of files target and compare. What it makes ready is a restore.
type undo struct {
	e     *Viewer
	run   int64
	row   *catalog.Run
	res   api.RestoreResult // of the restore that is taken back
	ready *restoring
}

// prepareUndo checks whether a restore can be taken back, and changes nothing.
func (e *Viewer) prepareUndo(run int64) (readyRestore, error) {
	o := &undo{e: e, run: run}
	if err := o.judge(); err != nil {
		return nil, err
	}
	return o.prepare()
}

// judge finds out whether the run can be taken back.
func (o *undo) judge() error {
	for _, step := range []func() error{o.find, o.follow, o.check} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// prepare makes a restore ready that takes it back.
func (o *undo) prepare() (readyRestore, error) {
	if o.e.isDisk(o.res.Volume) {
		ask := api.RestoreAsk{Volume: cmp.Or(o.res.Into, o.res.Volume), At: o.res.Safety, InPlace: true}
		if b := o.res.Before; b != nil {
			live := ask.Volume
			ask.Volume, ask.At, ask.From = b.Volume, b.Snapshot, b.Site
			if live != b.Volume {
				ask.InPlace, ask.Into = false, live
			}
		}
		r, err := o.e.prepareDisk(ask)
		if err != nil {
			return nil, err
		}
		r.undoes = o.run
		return r, nil
	}
	for _, step := range []func() error{o.target, o.compare} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	return o.ready, nil
}

// find reads the run, if this person may take it back.
func (o *undo) find() (err error) {
	o.row, err = o.e.s.Catalog.Run(o.run)
	if errors.Is(err, catalog.ErrNone) {
		return NoRun(o.run)
	}
	if err != nil {
		return err
	}
	return o.e.mayUndo(o.row)
}

// follow goes on to the run that finished what this one began and the end of the service cut short. Who
// may take back the first may take back what became of it.
func (o *undo) follow() error {
	for {
		if o.row.Kind != "restore" {
			return refusal.Badf("run %d was no restore but a %s of %s: only restores in place can be taken back", o.run,
				o.row.Kind, o.row.Subject)
		}
		if o.row.Ended.IsZero() {
			return refusal.Conflictf("run %d is not over: wait for it, or end it with candid run cancel %d", o.run, o.run)
		}
		var err error
		if o.res, err = resultOf(o.row); err != nil || o.res.GoneOnBy == 0 {
			return err
		}
		o.run = o.res.GoneOnBy
		if o.row, err = o.e.s.Catalog.Run(o.run); err != nil {
			return err
		}
	}
}

// check has the safety snapshot that the restore took before it wrote.
func (o *undo) check() error {
	res := &o.res
	switch {
	case res.Before != nil:
		return nil
	case res.Safety == "" && res.Target != "" && !res.InPlace:
		return refusal.Badf("run %d restored to %s and changed nothing that was there before except as its conflict "+
			"choice said: remove there what is not wanted", o.run, res.Target)
	case res.Anew:
		return refusal.Badf("run %d began the disk %s anew because it could not be opened: there is no safety snapshot to "+
			"go back to; candid run show %d says where what was left of it is", o.run, res.Volume, o.run)
	case res.Safety == "":
		return refusal.Badf("run %d wrote nothing in place: there is nothing to take back", o.run)
	}
	if _, err := o.e.s.Catalog.Snapshot(res.Safety); err != nil {
		return refusal.Missingf("the safety snapshot %s of run %d is gone: it was kept for as long as the rules "+
			"said. candid snapshot list %s shows what there is", res.Safety[:12], o.run, res.Volume)
	}
	return nil
}

// target makes a restore of the safety snapshot ready, of the paths that were asked for and those that
// were put beside them.
func (o *undo) target() (err error) {
	res := &o.res
	o.ready, err = o.e.PrepareRestore(o.e.s.run.Context(), api.RestoreAsk{Volume: cmp.Or(res.Into, res.Volume),
		At: res.Safety, InPlace: true, OnConflict: undoing, Paths: append(slices.Clone(res.Paths), res.Beside...)})
	if err != nil {
		return err
	}
	o.ready.undoes = o.run
	if len(res.Paths) == 0 {
		o.ready.opt.Paths, o.ready.ask.Paths = nil, nil
	}
	return nil
}

// compare has what others changed since left alone.
func (o *undo) compare() (err error) {
	o.ready.opt.Left, err = o.e.leftBy(&o.res)
	return err
}

// resultOf reads what a restore said of itself.
func resultOf(row *catalog.Run) (res api.RestoreResult, err error) {
	if len(row.Result) == 0 {
		return res, nil
	}
	if err := json.Unmarshal(row.Result, &res); err != nil {
		return res, fmt.Errorf("result of run %d: %w", row.ID, err)
	}
	return res, nil
}

// leftBy tells what a restore in place left at each path, for its undo. Nil when the snapshot
// that it brought back is not here any more: then an operator takes back all that it may have
// changed, and a file owner nothing.
func (e *Viewer) leftBy(res *api.RestoreResult) (func(rel string) (*object.Entry, error), error) {
	s := e.s
	row, err := s.Catalog.Snapshot(res.Snapshot.ID)
	var root *object.Root
	if err == nil {
		root, err = s.rules.RootOf(row)
	}
	if err != nil && e.who != nil {
		return nil, refusal.Conflictf("the snapshot that was brought back is gone, so that what others changed since " +
			"cannot be told from it: ask an operator")
	} else if err != nil {
		return nil, nil
	}
	get, root := e.through(row.Volume, s.Store.Get, root)
	suffix := asOf(row)
	beside := map[string]string{} // to where it is in the snapshot
	for _, p := range res.Beside {
		dir, base := path.Split(p)
		beside[p] = dir + strings.Replace(base, suffix, "", 1)
	}
	return func(rel string) (*object.Entry, error) {
		if was, is := beside[rel]; is {
			rel = was
		}
		found, err := tree.Lookup(get, root, rel)
		if errors.Is(err, tree.ErrNoPath) {
			return nil, nil
		}
		return &found, err
	}, nil
}

// leftOf is leftBy for the run of an id.
func (e *Viewer) leftOf(run int64) (func(rel string) (*object.Entry, error), error) {
	row, err := e.s.Catalog.Run(run)
	if err != nil {
		return nil, err
	}
	res, err := resultOf(row)
	if err != nil {
		return nil, err
	}
	return e.leftBy(&res)
}
