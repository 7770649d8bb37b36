package recovery

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/tree"
)

// undoing is the conflict choice of a restore that takes another back: what was asked for
// becomes exactly as it was, and goes when it was not there.
const undoing = "undo"

// prepareUndo checks whether a restore can be taken back.
func (e *Viewer) prepareUndo(run int64) (*restoring, error) {
	s := e.s
	row, err := s.Catalog.Run(run)
	if errors.Is(err, catalog.ErrNone) {
		return nil, NoRun(run)
	}
	if err != nil {
		return nil, err
	}
	if err := e.mayUndo(row); err != nil {
		return nil, err
	}
	return e.prepareUndoOf(run)
}

// prepareUndoOf is prepareUndo for a run that may be taken back.
func (e *Viewer) prepareUndoOf(run int64) (*restoring, error) {
	s := e.s
	row, err := s.Catalog.Run(run)
	if err != nil {
		return nil, err
	}
	var res api.RestoreResult
	if row.Kind != "restore" {
		return nil, refusal.Badf("run %d was no restore but a %s of %s: only restores in place can be taken back", run,
			row.Kind, row.Subject)
	}
	if row.Ended.IsZero() {
		return nil, refusal.Conflictf("run %d is not over: wait for it, or end it with candid run cancel %d", run, run)
	}
	if len(row.Result) > 0 {
		if err := json.Unmarshal(row.Result, &res); err != nil {
			return nil, fmt.Errorf("result of run %d: %w", run, err)
		}
	}
	if res.GoneOnBy != 0 { // it may be taken back, so what it became may
		return e.prepareUndoOf(res.GoneOnBy)
	}
	if res.Safety == "" {
		if res.Target != "" && !res.InPlace {
			return nil, refusal.Badf("run %d restored to %s and changed nothing that was there before except as its conflict "+
				"choice said: remove there what is not wanted", run, res.Target)
		}
		return nil, refusal.Badf("run %d wrote nothing in place: there is nothing to take back", run)
	}
	if _, err := s.Catalog.Snapshot(res.Safety); err != nil {
		return nil, refusal.Missingf("the safety snapshot %s of run %d is gone: it was kept for as long as the rules "+
			"said. candid snapshot list %s shows what there is", res.Safety[:12], run, res.Volume)
	}
	r, err := e.PrepareRestore(s.run.Context(), api.RestoreAsk{Volume: cmp.Or(res.Into, res.Volume), At: res.Safety,
		InPlace: true, OnConflict: undoing, Paths: append(slices.Clone(res.Paths), res.Beside...)})
	if err != nil {
		return nil, err
	}
	r.undoes = run
	if r.opt.Left, err = e.leftBy(&res); err != nil {
		return nil, err
	}
	if len(res.Paths) == 0 {
		r.opt.Paths, r.ask.Paths = nil, nil
	}
	return r, nil
}

// Undo takes back what a restore in place did. It is a restore in place itself, with a
// safety snapshot of its own.
func (s *Service) Undo(run int64, by string) (api.Run, error) { return s.ViewerFor(nil).Undo(run, by) }

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
	var res api.RestoreResult
	if len(row.Result) > 0 {
		if err := json.Unmarshal(row.Result, &res); err != nil {
			return nil, fmt.Errorf("result of run %d: %w", run, err)
		}
	}
	return e.leftBy(&res)
}

// Undo takes back what a restore in place did: only what is still as it left it. For a file
// owner it does what that one may do now, and nothing else.
func (e *Viewer) Undo(run int64, by string) (api.Run, error) {
	if row, err := e.s.Catalog.Run(run); err == nil && row.Kind == groupRestoreKind && e.who == nil {
		return e.s.undoGroup(row, by)
	}
	r, err := e.prepareUndo(run)
	if err != nil {
		return api.Run{}, err
	}
	return e.s.startRestore(r, by)
}

// RestoringSetting begins the settings that name the restores being made.
const RestoringSetting = "restoring "

// InterruptedRestore is a restore that the end of the service cut short.
type InterruptedRestore struct {
	Run      int64          `json:"run"`
	By       string         `json:"by"`
	Beneath  string         `json:"beneath"`
	Target   string         `json:"target"`
	Ask      api.RestoreAsk `json:"ask"` // of that very snapshot
	Snapshot string         `json:"snapshot"`
	Safety   string         `json:"safety"`
	Undoes   int64          `json:"undoes"`
	Beside   []string       `json:"beside"`
	Owner    string         `json:"owner,omitempty"`
	Recipe   string         `json:"recipe,omitempty"`
	Exact    bool           `json:"exact,omitempty"` // of a recipe's own copy
	Times    int            `json:"times"`           // that it was cut short
}

// MostTimes bounds how often a restore goes on by itself: what ends the service each time
// is not to be begun for ever.
const MostTimes = 5

// NoteTarget remembers a restore, until its end is recorded, so that a start after a kill can
// clear what it left unfinished and go on with it.
func (s *Service) NoteTarget(run int64, r *restoring, safety string) (done func(), err error) {
	if safety == "" && r.Cut != nil {
		safety = r.Cut.Safety
	}
	key := RestoringSetting + strconv.FormatInt(run, 10)
	c := InterruptedRestore{Run: run, Beneath: r.opt.Beneath, Target: r.opt.Target, Ask: r.ask, Snapshot: r.row.ID,
		Safety: safety, Undoes: r.undoes}
	if c.Recipe, c.Exact = r.recipe, r.opt.OwnCopy; r.found == nil {
		c.Ask.At = r.row.ID
	}
	if r.eyes.who != nil {
		c.Owner = r.eyes.who.Name
	}
	if r.Cut != nil {
		c.Times = r.Cut.Times + 1
		c.Beside = r.Cut.Beside
		if err := s.Catalog.Set(RestoringSetting+strconv.FormatInt(r.Cut.Run, 10), ""); err != nil {
			return nil, err
		}
	}
	raw, err := json.Marshal(c)
	if err != nil {
		return nil, err
	}
	return func() {
		if err := s.Catalog.Set(key, ""); err != nil {
			s.Log.Warn("a restore's target could not be forgotten; the next start goes on with it", "target", r.opt.Target,
				"error", err)
		}
	}, s.Catalog.Set(key, string(raw))
}

// ResumeRestores clears what restores of a killed service left unfinished and goes on with
// them.
func (s *Service) ResumeRestores() error {
	left, err := s.Catalog.Settings(RestoringSetting)
	if err != nil {
		return err
	}
	for key, raw := range left {
		var c InterruptedRestore
		if err := json.Unmarshal([]byte(raw), &c); err != nil {
			return fmt.Errorf("setting %q: %w", key, err)
		}
		if c.Run, err = strconv.ParseInt(strings.TrimPrefix(key, RestoringSetting), 10, 64); err != nil {
			return fmt.Errorf("setting %q: %w", key, err)
		}
		n, err := tree.RemoveParts(s.run.Context(), c.Beneath, c.Target)
		if err != nil {
			s.Log.Warn("what an unfinished restore left could not be looked for", "target", c.Target, "error", err)
		} else if n > 0 {
			s.Log.Info("what an unfinished restore left was taken away", "target", c.Target, "names", n)
		}
		if err := s.resume(&c); err != nil {
			s.cannotResume(&c, err)
		}
	}
	return nil
}

func (s *Service) resume(c *InterruptedRestore) error {
	if c.Times >= MostTimes {
		return fmt.Errorf("it was cut short %d times; start it again when the reason is known", c.Times+1)
	}
	if c.Ask.From == "" {
		return s.resumeNow(c)
	}
	s.run.Go(func(context.Context) { // the other site may be reached later than this start is over
		var err error
		for try := 0; try < 2*recallTries; try++ {
			if err = s.resumeNow(c); refusal.ClassOf(err) != refusal.Elsewhere {
				break
			}
			select {
			case <-time.After(time.Second << min(try, 5)):
			case <-s.run.Context().Done():
				return
			}
		}
		if err != nil {
			s.cannotResume(c, err)
		}
	})
	return nil
}

// reportInterrupted records as the result of a run that was cut short what it was about, for undo.
func (s *Service) reportInterrupted(c *InterruptedRestore, res api.RestoreResult) error {
	row, err := s.Catalog.Run(c.Run)
	if err != nil {
		return err
	}
	res.Volume, res.Target, res.InPlace, res.Into, res.Snapshot = c.Ask.Volume, c.Target, c.Ask.InPlace, c.Ask.Into,
		api.Snapshot{ID: c.Snapshot, Volume: c.Ask.Volume, Reasons: []string{}}
	res.Paths, res.Beside, res.Acts, res.Remarks = append([]string{}, c.Ask.Paths...), append([]string{}, c.Beside...),
		[]api.Act{}, []api.Remark{}
	if row.Result, err = json.Marshal(res); err != nil {
		return err
	}
	return s.Catalog.UpdateRun(row)
}

// cannotResume tells why a restore stays cut short. What it did in place can be taken back.
func (s *Service) cannotResume(c *InterruptedRestore, err error) {
	s.Log.Warn("a restore that was cut short cannot go on", "run", c.Run, "error", err)
	if err := errors.Join(s.reportInterrupted(c, api.RestoreResult{Safety: c.Safety}),
		s.Catalog.AddLog(c.Run, s.Clock.Now(), "it cannot go on: "+err.Error()), s.Catalog.Set(RestoringSetting+
			strconv.FormatInt(c.Run, 10), "")); err != nil {
		s.Log.Error("that a restore cannot go on could not be recorded", "run", c.Run, "error", err)
	}
}

func (s *Service) resumeNow(c *InterruptedRestore) error {
	eyes := s.ViewerFor(nil)
	if c.Owner != "" {
		p, err := s.Catalog.Person(c.Owner)
		if err != nil || p.Role != access.FileOwner {
			return fmt.Errorf("%s, for whom it was, is no file owner any more", c.Owner)
		}
		eyes = s.ViewerFor(access.OwnerOf(p))
	}
	r, err := eyes.PrepareRestore(s.run.Context(), c.Ask)
	if err != nil {
		return err
	}
	r.Cut, r.undoes, r.recipe = c, c.Undoes, c.Recipe
	if c.Undoes != 0 {
		if r.opt.Left, err = eyes.leftOf(c.Undoes); err != nil {
			return err
		}
	}
	if c.Exact {
		r.opt.Exact, r.opt.OwnCopy = true, true
	}
	run, err := s.startRestore(r, fmt.Sprintf("the service, going on with run %d", c.Run))
	if err != nil {
		return err
	}
	err = s.reportInterrupted(c, api.RestoreResult{GoneOnBy: run.ID})
	return errors.Join(err, s.Catalog.AddLog(c.Run, s.Clock.Now(), fmt.Sprintf("run %d goes on with it", run.ID)))
}
