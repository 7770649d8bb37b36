package rules

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
)

// freed returns the stored bytes that removing snapshots gives back.
func (s *Service) freed(ids []string) (int64, error) {
	if len(ids) == 0 {
		return 0, nil
	}
	n, err := s.freedEach(ids)
	if err != nil {
		return 0, err
	}
	return n[0], nil
}

// freedEach is freed for several choices of snapshots.
func (s *Service) freedEach(choices ...[]string) ([]int64, error) {
	all := make([][]object.ID, len(choices))
	for i, ids := range choices {
		for _, text := range ids {
			id, err := object.ParseID(text)
			if err != nil {
				return nil, err
			}
			all[i] = append(all[i], id)
		}
	}
	return s.Store.FreedEach(all...)
}

// PlanPrune tells what pruning would do, changing nothing.
func (s *Service) PlanPrune(ctx context.Context, volume string) (*api.PruneResult, error) {
	res, _, err := s.planPrune(ctx, volume, outlived{})
	if res != nil {
		res.DryRun = true
	}
	return res, err
}

// goingListed bounds what a pruning lists, for its result is kept with its run.
const goingListed = 1000

// pruneAct is what pruning does to a snapshot, as the API says it too.
type pruneAct string

const (
	expires pruneAct = "enters grace"
	recalls pruneAct = "stays"
	removes pruneAct = "is removed"
)

// pruneStep is what happens to one snapshot.
type pruneStep struct {
	row   *catalog.Snapshot
	what  pruneAct
	cause object.MarkCause // of what expires
	why   string
	until time.Time
}

// planPrune decides what happens to the snapshots of a volume, or of all; what outlives its rules is counted into over.
func (s *Service) planPrune(ctx context.Context, volume string, over outlived) (*api.PruneResult, []pruneStep, error) {
	held, err := s.Catalog.Setting(HoldSetting)
	if err != nil {
		return nil, nil, err
	}
	res := &api.PruneResult{Going: []api.Going{}, Held: held}
	if held != "" {
		return res, nil, s.countHeld(ctx, over)
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, nil, err
	}
	if volume != "" {
		v, err := s.Catalog.Volume(volume)
		if err != nil {
			return nil, nil, err
		}
		vols = []*catalog.Volume{v}
	}
	now := s.Clock.Now()
	var steps []pruneStep
	var removed, both []string
	caps, err := s.Catalog.Caps()
	if err != nil {
		return nil, nil, err
	}
	capped := volume == "" && len(caps) > 0 // a cap may count more than one volume
	verdicts, leaving := map[string]retention.Verdict{}, map[string]bool{}
	for _, v := range vols {
		if err := ctx.Err(); err != nil {
			return nil, nil, err
		}
		rs, err := s.RulesFor(v)
		if err != nil {
			return nil, nil, err
		}
		d, err := s.DecideWith(v, rs, now)
		if err != nil {
			return nil, nil, err
		}
		for i, row := range d.Rows {
			kept, graced := d.Verdicts[i].Kept(), !row.GraceUntil.IsZero()
			byHand := graced && putOut(row)
			if !graced {
				over.count(v.Name, d.Verdicts[i])
			}
			if capped {
				verdicts[row.ID] = d.Verdicts[i]
				leaving[row.ID] = graced || !kept
			}
			step := pruneStep{row: row, why: d.Verdicts[i].LetGo}
			switch {
			case kept && graced && !byHand:
				step.what, step.why = recalls, "kept again as "+d.Verdicts[i].Reasons[0].String()
				res.Recalled++
			case (!kept || byHand) && graced && !guarded(d.Verdicts[i]) && !now.Before(row.GraceUntil.Time):
				step.what, step.why = removes, row.LetGo+"; its grace ended "+phrase.Stamp(row.GraceUntil.Time)
				res.Removed++
				removed, both = append(removed, row.ID), append(both, row.ID)
			case !kept && !graced:
				step.what, step.cause, step.until = expires, object.ExpiredByRules, now.Add(rs.Grace)
				res.EnterGrace++
				both = append(both, row.ID)
			default:
				continue
			}
			steps = append(steps, step)
		}
	}
	if capped {
		overCap, err := s.overCaps(verdicts, leaving)
		if err != nil {
			return nil, nil, err
		}
		for _, step := range overCap {
			v, err := s.Catalog.Volume(step.row.Volume)
			if err != nil {
				return nil, nil, err
			}
			rs, err := s.RulesFor(v)
			if err != nil {
				return nil, nil, err
			}
			step.what, step.until = expires, now.Add(rs.Grace)
			res.EnterGrace++
			both = append(both, step.row.ID)
			steps = append(steps, step)
		}
	}
	for _, st := range steps[:min(len(steps), goingListed)] {
		res.Going = append(res.Going, api.Going{ID: st.row.ID, Volume: st.row.Volume, Place: s.Place(),
			Taken: st.row.Began.Time, What: string(st.what), Why: st.why})
	}
	res.NotListed = len(steps) - len(res.Going)
	if len(both) == 0 {
		return res, steps, nil
	}
	freed, err := s.freedEach(removed, both)
	if err != nil {
		return nil, nil, err
	}
	res.RemovedBytes, res.GraceBytes = freed[0], freed[1]-freed[0]
	return res, steps, nil
}

// Prune starts a run that applies the rules now.
func (s *Service) Prune(volume, by string) (api.Run, error) {
	if volume != "" {
		if _, err := s.Catalog.Volume(volume); err != nil {
			return api.Run{}, err
		}
	}
	j, err := s.StartPrune(volume, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

// StartPrune begins to prune a volume, or all of them when none is named.
func (s *Service) StartPrune(volume, by string) (*run.Job, error) {
	s.Store.MakeRoom() // also for the record of the run
	subject := volume
	if subject == "" {
		subject = s.Place()
	}
	return s.run.Start("prune", subject, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		if err := s.WhenMarksAgree(ctx); err != nil { // before the key, which comparing takes
			return nil, "", err
		}
		j.Say("waiting for another pruning")
		release, err := s.run.Hold(ctx, run.KeyPrune.Of(""))
		if err != nil {
			return nil, "", err
		}
		defer release()
		j.Say("deciding what goes")
		j.Begin(nil)
		if err := errors.Join(s.noteUsage(), s.Store.KeepBallast()); err != nil { // no reason not to make room
			s.Log.Error("it could not be noted how full the store is, or the ballast not be kept", "error", err)
		}
		res, err := s.prune(ctx, j, volume)
		if err != nil {
			return nil, "", err
		}
		if res.Held != "" {
			return res, "nothing is removed: " + res.Held, nil
		}
		if res.EnterGrace+res.Removed+res.Recalled == 0 {
			return res, "nothing expires now", nil
		}
		words := phrase.CountWords([]phrase.Counted{{N: int64(res.EnterGrace), What: "entered grace"},
			{N: int64(res.Removed), What: "removed"}, {N: int64(res.Recalled), What: "kept again"}})
		if res.RemovedBytes > 0 {
			words += "; a sweep gives back " + phrase.Size(res.RemovedBytes)
		}
		return res, words, nil
	})
}

func (s *Service) prune(ctx context.Context, j *run.Job, volume string) (*api.PruneResult, error) {
	if err := s.watchClock(); err != nil {
		return nil, err
	}
	s.verdicts.drop(nil) // what is decided now is of more use than what was
	over := outlived{}
	res, steps, err := s.planPrune(ctx, volume, over)
	if err == nil && volume == "" { // that it cannot be noted is no reason not to make room
		if nerr := s.Catalog.SetOutlived(over.rows(), catalog.At(s.Clock.Now())); nerr != nil {
			s.Log.Error("what outlived its rules could not be noted", "error", nerr)
		}
	}
	if err != nil || len(steps) == 0 {
		return res, err
	}
	defer s.run.Changed("snapshots")
	var gone []pruneStep
	j.Say(fmt.Sprintf("changing %s", phrase.Many(len(steps), "snapshot")))
	for part := range slices.Chunk(steps, stepsAtOnce) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := s.markSteps(part); err != nil {
			return nil, err
		}
	}
	for _, st := range steps {
		if st.what == removes {
			gone = append(gone, st)
		}
	}
	for part := range slices.Chunk(gone, stepsAtOnce) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := s.removeSteps(j, part); err != nil {
			return nil, err
		}
	}
	return res, nil
}

// removeSteps removes snapshots whose grace has ended.
func (s *Service) removeSteps(j *run.Job, steps []pruneStep) error {
	roots, ids, lines := make([]object.ID, len(steps)), make([]string, len(steps)), make([]string, len(steps))
	for i, st := range steps {
		var err error
		if roots[i], err = object.ParseID(st.row.ID); err != nil {
			return err
		}
		ids[i] = st.row.ID
		lines[i] = fmt.Sprintf("%s of %s, taken %s: %s", st.row.ID[:12], st.row.Volume, phrase.Stamp(st.row.Began.Time),
			st.why)
	}
	j.LogAll(lines)
	if err := s.Store.RemoveRoots(roots...); err != nil {
		return err
	}
	return s.Catalog.ForgetSnapshots(s.Place(), ids...)
}

// guarded reports whether something keeps the snapshot that not even a person's removal
// undercuts.
func guarded(v retention.Verdict) bool {
	return slices.ContainsFunc(v.Reasons, func(r retention.Reason) bool {
		return r.Rule == retention.RuleKeepMark || r.Rule == retention.RuleFloor
	})
}

// RemovedByHand is what a snapshot's expiry says when a person removed it.
const RemovedByHand = "removed by hand"

// putOut reports whether a snapshot in grace is there by hand or by a cap, so that rules
// which would keep it do not take it back.
func putOut(row *catalog.Snapshot) bool {
	return row.LetGoCause == string(object.ExpiredByHand) || row.LetGoCause == string(object.ExpiredByCap)
}

// stepsAtOnce is how many snapshots a pruning changes with one flush of the disk.
const stepsAtOnce = 5000

// markSteps puts the marks of all snapshots that enter grace or leave it, and then their
// rows: a crash between the two is made good by the marks.
func (s *Service) markSteps(steps []pruneStep) error {
	var marks []*object.Mark
	var rows []*catalog.Snapshot
	for _, st := range steps {
		var m *object.Mark
		var err error
		switch st.what {
		case expires:
			m, err = s.graceMark(st.row, st.until, st.cause, st.why)
		case recalls:
			m, err = s.recallMark(st.row, time.Time{})
		default:
			continue
		}
		if err != nil {
			return err
		}
		marks, rows = append(marks, m), append(rows, st.row)
	}
	if len(rows) == 0 {
		return nil
	}
	if err := s.Store.PutMarks(marks); err != nil {
		return err
	}
	return s.Catalog.SetGrace(rows...)
}

// graceMark is the mark that sends a snapshot into grace, as its row says afterwards.
func (s *Service) graceMark(row *catalog.Snapshot, until time.Time, cause object.MarkCause,
	why string) (*object.Mark, error) {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	row.GraceUntil, row.LetGo, row.LetGoCause = catalog.At(until), why, string(cause)
	return &object.Mark{Kind: object.MarkExpiry, Root: id, At: s.Clock.Now().UnixNano(), Until: until.UnixNano(),
		Text: why, Cause: cause, Place: s.Place()}, nil
}

// recallMark is the mark that takes a snapshot out of grace, as its row says afterwards; with
// a time it stays at least until then.
func (s *Service) recallMark(row *catalog.Snapshot, until time.Time) (*object.Mark, error) {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	row.GraceUntil, row.LetGo, row.LetGoCause, row.RecalledUntil = catalog.Time{}, "", "", catalog.At(until)
	m := &object.Mark{Kind: object.MarkRecall, Root: id, At: s.Clock.Now().UnixNano(), Place: s.Place()}
	if !until.IsZero() {
		m.Until = until.UnixNano()
	}
	return m, nil
}

func (s *Service) intoGrace(row *catalog.Snapshot, until time.Time, cause object.MarkCause, why string) error {
	m, err := s.graceMark(row, until, cause, why)
	if err != nil {
		return err
	}
	if err := s.Store.PutMark(m); err != nil {
		return err
	}
	return s.Catalog.SetGrace(row)
}

func (s *Service) outOfGrace(row *catalog.Snapshot, until time.Time) error {
	m, err := s.recallMark(row, until)
	if err != nil {
		return err
	}
	if err := s.Store.PutMark(m); err != nil {
		return err
	}
	return s.Catalog.SetGrace(row)
}
