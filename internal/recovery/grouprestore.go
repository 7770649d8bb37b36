package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
)

// groupRestoreKind is the kind of runs that bring a group back; each volume is a run of its
// own below it.
const groupRestoreKind = "group restore"

// setAt finds the set that stands for a moment of a group: the newest that was taken before,
// or the one that a snapshot is of.
func (s *Service) setAt(group, at string) ([]*catalog.Snapshot, error) {
	t := s.Clock.Now()
	var id string
	if at != "" && at != "latest" {
		var err error
		if t, err = time.Parse(time.RFC3339Nano, at); err != nil {
			row, rerr := s.Catalog.Snapshot(at)
			if rerr != nil || row.SetName != group {
				return nil, refusal.Badf("%q is neither a moment, nor latest, nor the id of a snapshot of the group %s", at, group)
			}
			id = row.SetID
		}
	}
	if id == "" {
		var err error
		if id, err = s.Catalog.SetBefore(s.Place(), group, t); errors.Is(err, catalog.ErrNone) {
			return nil, refusal.Missingf("there is no set of the group %s here of %s or before: candid group show %s tells "+
				"of its sets", group, phrase.Stamp(t), group)
		} else if err != nil {
			return nil, err
		}
	}
	rows, err := s.Catalog.SetRows(s.Place(), id)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(rows, func(a, b *catalog.Snapshot) int { return strings.Compare(a.Volume, b.Volume) })
	return rows, nil
}

// groupAsks are the restores of the volumes of a set.
func (s *Service) groupAsks(ask api.GroupRestoreAsk) (asks []api.RestoreAsk, taken time.Time, lacking []string,
	err error) {
	rows, err := s.setAt(ask.Group, ask.At)
	if err != nil {
		return nil, taken, nil, err
	}
	if (ask.To == "") == !ask.InPlace {
		return nil, taken, nil, refusal.Badf("say where to: either a directory on the site's host, which gets one for " +
			"each volume, or in place")
	}
	have := map[string]bool{}
	for _, r := range rows {
		if taken.IsZero() || r.Began.Before(taken) {
			taken = r.Began.Time
		}
		have[r.Volume] = true
		one := api.RestoreAsk{Volume: r.Volume, At: r.ID, InPlace: ask.InPlace, OnConflict: ask.OnConflict,
			Disconnect: ask.Disconnect && s.ViewerFor(nil).isDisk(r.Volume)}
		if !ask.InPlace {
			one.To = filepath.Join(ask.To, r.Volume)
		}
		asks = append(asks, one)
	}
	if g, err := s.Catalog.Group(ask.Group); err == nil {
		for _, m := range g.Members.V {
			if !have[m] {
				lacking = append(lacking, m)
			}
		}
	} else if !errors.Is(err, catalog.ErrNone) {
		return nil, taken, nil, err
	}
	return asks, taken, lacking, nil
}

// PlanGroupRestore tells what bringing a group back would do, volume by volume.
func (s *Service) PlanGroupRestore(ctx context.Context, ask api.GroupRestoreAsk) (*api.GroupRestore, error) {
	asks, taken, lacking, err := s.groupAsks(ask)
	if err != nil {
		return nil, err
	}
	out := &api.GroupRestore{Group: ask.Group, Taken: taken, Volumes: []api.RestoreResult{}, Lacking: append([]string{},
		lacking...)}
	for _, one := range asks {
		p, err := s.PlanRestore(ctx, one)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", one.Volume, err)
		}
		out.Volumes = append(out.Volumes, *p)
	}
	return out, nil
}

// RestoreGroup brings all volumes of a group back to one common instant. Each is a restore
// of its own, with a safety snapshot and a way back; undo of this run takes all of them back.
func (s *Service) RestoreGroup(ctx context.Context, ask api.GroupRestoreAsk, by string) (api.Run, error) {
	asks, taken, lacking, err := s.groupAsks(ask)
	if err != nil {
		return api.Run{}, err
	}
	// All or none begins: what one refuses would leave the others at another instant.
	var ready []readyRestore
	e := s.ViewerFor(nil)
	for _, one := range asks {
		var r readyRestore
		if e.isDisk(one.Volume) {
			r, err = e.prepareDisk(one)
		} else {
			r, err = e.PrepareRestore(ctx, one)
		}
		if err != nil {
			return api.Run{}, fmt.Errorf("%s: %w", one.Volume, err)
		}
		ready = append(ready, r)
	}
	return s.runTogether(groupRestoreKind, ask.Group, by, lacking, ready, fmt.Sprintf("%s as of %s", ask.Group,
		phrase.Stamp(taken)))
}

// runTogether is a run of several restores, which it starts and waits for.
func (s *Service) runTogether(kind, subject, by string, lacking []string, ready []readyRestore, what string) (api.Run,
	error) {
	j, err := s.run.Start(kind, subject, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		j.Begin(nil)
		j.Say("volume by volume")
		out := &api.GroupRestore{Group: subject, Lacking: append([]string{}, lacking...), Runs: []int64{},
			Volumes: []api.RestoreResult{}}
		var errs []error
		var started []*run.Job
		// All are remembered before any begins, so that a start after a kill goes on with all or with none.
		gate := make(chan struct{})
		for _, r := range ready {
			one, err := s.beginRestore(r, fmt.Sprintf("run %d", j.ID()), gate)
			if err != nil {
				errs = append(errs, err)
				break
			}
			started = append(started, one)
			out.Runs = append(out.Runs, one.ID())
		}
		if len(errs) == 0 {
			if err := j.Keep(out); err != nil { // so that it can be taken back whatever ends the service
				errs = append(errs, err)
			}
		}
		if len(errs) == 0 {
			if err := s.noteAll(started, ready); err != nil {
				errs = append(errs, err)
			}
		}
		begun := len(errs) == 0
		if begun {
			close(gate)
		} else {
			for _, one := range started {
				one.Stop()
			}
		}
		var parts []string
		for _, one := range started {
			if err := one.Wait(ctx); err != nil {
				errs = append(errs, fmt.Errorf("%s (run %d): %w", one.Subject(), one.ID(), err))
				continue
			}
			v := one.View()
			if v.State != api.RunDone {
				j.Remark()
			}
			parts = append(parts, fmt.Sprintf("%s (run %d)", v.Subject, v.ID))
			j.Logf("run %d, %s: %s", v.ID, v.Subject, v.Outcome)
		}
		for _, name := range lacking {
			j.Remark()
			j.Logf("%s is of the group and not in that set: nothing of it was brought back", name)
		}
		back := ""
		if kind == groupRestoreKind && slices.ContainsFunc(ready, readyRestore.goesBack) {
			back = fmt.Sprintf(". To take all of it back: candid undo %d", j.ID())
		}
		if err := errors.Join(errs...); err != nil {
			switch {
			case !begun:
				return nil, "", fmt.Errorf("nothing was brought back: %w", err)
			case s.run.Context().Err() != nil:
				return out, "", &run.Partly{Leaves: "its next start goes on with each volume" + back}
			case ctx.Err() != nil:
				for _, one := range started {
					one.Stop()
					_ = one.Wait(s.run.Context()) // its own run says how it ended
				}
				return out, "", &run.Partly{Leaves: "what was begun of its volumes is cancelled too, and their runs say " +
					"what they leave" + back}
			}
			return out, "", fmt.Errorf("%w%s", err, back)
		}
		return out, what + ": " + strings.Join(parts, ", ") + back, nil
	})
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

// undoGroup takes back what bringing a group back did, volume by volume.
func (s *Service) undoGroup(row *catalog.Run, by string) (api.Run, error) {
	if row.Ended.IsZero() {
		return api.Run{}, refusal.Conflictf("run %d is not over: wait for it, or end it with candid run cancel %d", row.ID,
			row.ID)
	}
	var was api.GroupRestore
	if len(row.Result) > 0 {
		if err := json.Unmarshal(row.Result, &was); err != nil {
			return api.Run{}, fmt.Errorf("result of run %d: %w", row.ID, err)
		}
	}
	var ready []readyRestore
	for _, id := range was.Runs {
		r, err := s.ViewerFor(nil).prepareUndo(id)
		if refusal.ClassOf(err) == refusal.Misuse { // it wrote nothing
			continue
		}
		if err != nil {
			return api.Run{}, err
		}
		ready = append(ready, r)
	}
	if len(ready) == 0 {
		return api.Run{}, refusal.Badf("run %d wrote nothing in place: there is nothing to take back", row.ID)
	}
	return s.runTogether("undo", row.Subject, by, nil, ready, fmt.Sprintf("run %d is taken back", row.ID))
}
