package site

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
)

// freed returns the stored bytes that removing snapshots gives back.
func (s *Site) freed(ids []string) (int64, error) {
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
func (s *Site) freedEach(choices ...[]string) ([]int64, error) {
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
	return s.store.FreedEach(all...)
}

// PlanPrune tells what pruning would do, changing nothing.
func (s *Site) PlanPrune(ctx context.Context, volume string) (*api.PruneResult, error) {
	res, _, err := s.planPrune(ctx, volume)
	if res != nil {
		res.DryRun = true
	}
	return res, err
}

// goingListed bounds what a pruning lists, for its result is kept with its run.
const goingListed = 1000

// pruneStep is what happens to one snapshot.
type pruneStep struct {
	row   *catalog.Snapshot
	what  string
	why   string
	until time.Time
}

func (s *Site) planPrune(ctx context.Context, volume string) (*api.PruneResult, []pruneStep, error) {
	held, err := s.cat.Setting(holdSetting)
	if err != nil {
		return nil, nil, err
	}
	res := &api.PruneResult{Going: []api.Going{}, Held: held}
	if held != "" {
		return res, nil, nil
	}
	vols, err := s.cat.Volumes()
	if err != nil {
		return nil, nil, err
	}
	if volume != "" {
		v, err := s.cat.Volume(volume)
		if err != nil {
			return nil, nil, err
		}
		vols = []*catalog.Volume{v}
	}
	now := s.clock.Now()
	var steps []pruneStep
	var removed, both []string
	caps, err := s.cat.Caps()
	if err != nil {
		return nil, nil, err
	}
	capped := volume == "" && len(caps) > 0 // a cap may count more than one volume
	verdicts, leaving := map[string]retention.Verdict{}, map[string]bool{}
	for _, v := range vols {
		if err := ctx.Err(); err != nil {
			return nil, nil, err
		}
		rs, err := s.rulesFor(v)
		if err != nil {
			return nil, nil, err
		}
		d, err := s.decideWith(v, rs, now)
		if err != nil {
			return nil, nil, err
		}
		for i, row := range d.rows {
			kept, graced := d.verdicts[i].Kept(), !row.GraceUntil.IsZero()
			byHand := graced && putOut(row)
			if capped {
				verdicts[row.ID] = d.verdicts[i]
				leaving[row.ID] = graced || !kept
			}
			step := pruneStep{row: row, why: d.verdicts[i].LetGo}
			switch {
			case kept && graced && !byHand:
				step.what, step.why = "stays", "kept again as "+d.verdicts[i].Reasons[0].String()
				res.Recalled++
			case (!kept || byHand) && graced && !guarded(d.verdicts[i]) && !now.Before(row.GraceUntil.Time):
				step.what, step.why = "is removed", row.LetGo+"; its grace ended "+stamp(row.GraceUntil.Time)
				res.Removed++
				removed, both = append(removed, row.ID), append(both, row.ID)
			case !kept && !graced:
				step.what, step.until = "enters grace", now.Add(rs.grace)
				res.EnterGrace++
				both = append(both, row.ID)
			default:
				continue
			}
			steps = append(steps, step)
		}
	}
	if capped {
		over, err := s.overCaps(verdicts, leaving)
		if err != nil {
			return nil, nil, err
		}
		for _, step := range over {
			v, err := s.cat.Volume(step.row.Volume)
			if err != nil {
				return nil, nil, err
			}
			rs, err := s.rulesFor(v)
			if err != nil {
				return nil, nil, err
			}
			step.what, step.until = "enters grace", now.Add(rs.grace)
			res.EnterGrace++
			both = append(both, step.row.ID)
			steps = append(steps, step)
		}
	}
	for _, st := range steps[:min(len(steps), goingListed)] {
		res.Going = append(res.Going, api.Going{ID: st.row.ID, Volume: st.row.Volume, Place: s.Place(), Taken: st.row.Began.Time, What: st.what, Why: st.why})
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
func (s *Site) Prune(volume, by string) (api.Run, error) {
	if volume != "" {
		if _, err := s.cat.Volume(volume); err != nil {
			return api.Run{}, err
		}
	}
	j, err := s.startPrune(volume, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

func (s *Site) startPrune(volume, by string) (*job, error) {
	s.store.MakeRoom() // also for the record of the run
	subject := volume
	if subject == "" {
		subject = s.Place()
	}
	return s.start("prune", subject, by, func(ctx context.Context, j *job) (any, string, error) {
		if err := s.whenMarksAgree(ctx); err != nil { // before the key, which comparing takes
			return nil, "", err
		}
		j.say("waiting for another pruning")
		release, err := s.hold(ctx, "prune")
		if err != nil {
			return nil, "", err
		}
		defer release()
		j.say("deciding what goes")
		j.begin(nil)
		if err := errors.Join(s.noteUsage(), s.store.KeepBallast()); err != nil { // no reason not to make room
			s.log.Error("it could not be noted how full the store is, or the ballast not be kept", "error", err)
		}
		res, err := s.prune(ctx, j, volume)
		if err != nil {
			return nil, "", err
		}
		if res.Held != "" {
			return res, "nothing is removed: " + res.Held, nil
		}
		return res, fmt.Sprintf("%d entered grace, %d removed, %d kept again; a sweep gives back %s", res.EnterGrace, res.Removed, res.Recalled, size(res.RemovedBytes)), nil
	})
}

func (s *Site) prune(ctx context.Context, j *job, volume string) (*api.PruneResult, error) {
	if err := s.watchClock(); err != nil {
		return nil, err
	}
	s.verdicts.drop(nil) // what is decided now is of more use than what was
	res, steps, err := s.planPrune(ctx, volume)
	if err != nil || len(steps) == 0 {
		return res, err
	}
	defer s.changed("snapshots")
	var gone []pruneStep
	j.say(fmt.Sprintf("changing %s", many(len(steps), "snapshot")))
	for part := range slices.Chunk(steps, stepsAtOnce) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := s.markSteps(part); err != nil {
			return nil, err
		}
	}
	for _, st := range steps {
		if st.what == "is removed" {
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
func (s *Site) removeSteps(j *job, steps []pruneStep) error {
	roots, ids, lines := make([]object.ID, len(steps)), make([]string, len(steps)), make([]string, len(steps))
	for i, st := range steps {
		var err error
		if roots[i], err = object.ParseID(st.row.ID); err != nil {
			return err
		}
		ids[i] = st.row.ID
		lines[i] = fmt.Sprintf("%s of %s, taken %s: %s", st.row.ID[:12], st.row.Volume, stamp(st.row.Began.Time), st.why)
	}
	j.logAll(lines)
	if err := s.store.RemoveRoots(roots...); err != nil {
		return err
	}
	return s.cat.ForgetSnapshots(s.Place(), ids...)
}

// guarded reports whether something keeps the snapshot that not even a person's removal
// undercuts.
func guarded(v retention.Verdict) bool {
	return slices.ContainsFunc(v.Reasons, func(r retention.Reason) bool { return r.Rule == "keep mark" || r.Rule == "floor" })
}

const removedByHand = "removed by hand"

// putOut reports whether a snapshot in grace is there by hand or by a cap, so that rules
// which would keep it do not take it back.
func putOut(row *catalog.Snapshot) bool {
	return row.LetGo == removedByHand || strings.HasPrefix(row.LetGo, capSays)
}

// stepsAtOnce is how many snapshots a pruning changes with one flush of the disk.
const stepsAtOnce = 5000

// markSteps puts the marks of all snapshots that enter grace or leave it, and then their
// rows: a crash between the two is made good by the marks.
func (s *Site) markSteps(steps []pruneStep) error {
	var marks []*object.Mark
	var rows []*catalog.Snapshot
	for _, st := range steps {
		var m *object.Mark
		var err error
		switch st.what {
		case "enters grace":
			m, err = s.graceMark(st.row, st.until, st.why)
		case "stays":
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
	if err := s.store.PutMarks(marks); err != nil {
		return err
	}
	return s.cat.SetGrace(rows...)
}

// graceMark is the mark that sends a snapshot into grace, as its row says afterwards.
func (s *Site) graceMark(row *catalog.Snapshot, until time.Time, why string) (*object.Mark, error) {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	row.GraceUntil, row.LetGo = catalog.At(until), why
	return &object.Mark{Kind: object.MarkExpiry, Root: id, At: s.clock.Now().UnixNano(), Until: until.UnixNano(), Text: why, Place: s.Place()}, nil
}

// recallMark is the mark that takes a snapshot out of grace, as its row says afterwards; with
// a time it stays at least until then.
func (s *Site) recallMark(row *catalog.Snapshot, until time.Time) (*object.Mark, error) {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	row.GraceUntil, row.LetGo, row.RecalledUntil = catalog.Time{}, "", catalog.At(until)
	m := &object.Mark{Kind: object.MarkRecall, Root: id, At: s.clock.Now().UnixNano(), Place: s.Place()}
	if !until.IsZero() {
		m.Until = until.UnixNano()
	}
	return m, nil
}

func (s *Site) intoGrace(row *catalog.Snapshot, until time.Time, why string) error {
	m, err := s.graceMark(row, until, why)
	if err != nil {
		return err
	}
	if err := s.store.PutMark(m); err != nil {
		return err
	}
	return s.cat.SetGrace(row)
}

func (s *Site) outOfGrace(row *catalog.Snapshot, until time.Time) error {
	m, err := s.recallMark(row, until)
	if err != nil {
		return err
	}
	if err := s.store.PutMark(m); err != nil {
		return err
	}
	return s.cat.SetGrace(row)
}

// RemoveSnapshot sends a snapshot into grace by hand.
func (s *Site) RemoveSnapshot(id string) (*api.Snapshot, error) {
	s.store.MakeRoom()
	if err := s.whenMarksAgree(s.closing()); err != nil {
		return nil, err
	}
	release, err := s.hold(s.closing(), "prune") // what is decided there must still be so when it is done
	if err != nil {
		return nil, err
	}
	defer release()
	row, err := s.cat.Snapshot(id)
	if err != nil {
		return nil, err
	}
	if !row.GraceUntil.IsZero() {
		return nil, conflict("snapshot %s is in grace already, until %s", row.ID[:12], stamp(row.GraceUntil.Time))
	}
	if held, err := s.cat.Setting(holdSetting); err != nil || held != "" {
		return nil, errors.Join(err, conflict("nothing is removed at present: %s", held))
	}
	set, err := s.set(row) // a set goes as a whole
	if err != nil {
		return nil, err
	}
	now := s.clock.Now()
	used, err := s.clonesOf()
	if err != nil {
		return nil, err
	}
	for _, m := range set {
		if names := used[m.ID]; len(names) > 0 {
			return nil, conflict("snapshot %s%s is what the clone %s stands on: candid clone discard %s first", m.ID[:12], ofSet(row, m), names[0], names[0])
		}
		switch floor := s.floorOf(m); {
		case m.KeepWhy != "" && (m.KeepUntil.IsZero() || now.Before(m.KeepUntil.Time)):
			return nil, conflict("snapshot %s%s is marked to keep: %s. If that is over: candid snapshot let-go %s", m.ID[:12], ofSet(row, m), m.KeepWhy, m.ID[:12])
		case now.Before(floor):
			return nil, conflict("snapshot %s%s stays until %s: the floor of this place is %s, and nobody removes anything here before that", m.ID[:12], ofSet(row, m), stamp(floor), s.cfg.Floor)
		}
	}
	for _, m := range set {
		if !m.GraceUntil.IsZero() {
			continue
		}
		grace := 24 * time.Hour
		if v, err := s.cat.Volume(m.Volume); err == nil {
			rs, err := s.rulesFor(v)
			if err != nil {
				return nil, err
			}
			grace = rs.grace
		}
		if err := s.intoGrace(m, now.Add(grace), removedByHand); err != nil {
			return nil, err
		}
	}
	return s.afterHand(row, set)
}

// recallPeriod is how long a recalled snapshot stays at least.
const recallPeriod = 30 * 24 * time.Hour

// RecallSnapshot takes a snapshot back out of grace.
func (s *Site) RecallSnapshot(id string) (*api.Snapshot, error) {
	release, err := s.hold(s.closing(), "prune") // a recall that was answered must not be overtaken
	if err != nil {
		return nil, err
	}
	defer release()
	row, err := s.cat.Snapshot(id)
	if err != nil {
		return nil, err
	}
	if row.GraceUntil.IsZero() {
		return nil, conflict("snapshot %s is not in grace: it is kept", row.ID[:12])
	}
	set, err := s.set(row)
	if err != nil {
		return nil, err
	}
	for _, m := range set {
		if m.GraceUntil.IsZero() {
			continue
		}
		if err := s.outOfGrace(m, s.clock.Now().Add(recallPeriod)); err != nil {
			return nil, err
		}
	}
	return s.afterHand(row, set)
}

func ofSet(row, m *catalog.Snapshot) string {
	if row.ID == m.ID {
		return ""
	}
	return fmt.Sprintf(" of %s, which is of the same set,", m.Volume)
}

// afterHand shows a snapshot after its set was removed or recalled by hand.
func (s *Site) afterHand(row *catalog.Snapshot, set []*catalog.Snapshot) (*api.Snapshot, error) {
	var volumes []string
	for _, m := range set {
		volumes = append(volumes, m.Volume)
	}
	s.changed("snapshots", volumes...)
	row, err := s.cat.Snapshot(row.ID)
	if err != nil {
		return nil, err
	}
	return s.snapshotView(row, nil)
}
