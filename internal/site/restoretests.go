package site

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
)

const (
	trialsSetting = "trials"
	trialFiles    = 100
	trialKind     = "trial"
	scratchDir    = "scratch"
)

func (s *Site) trials() (api.TrialsPut, error) {
	var t api.TrialsPut
	raw, err := s.cat.Setting(trialsSetting)
	if err != nil || raw == "" {
		return t, err
	}
	return t, json.Unmarshal([]byte(raw), &t)
}

// PutTrials says when restores are tried, and with how many files.
func (s *Site) PutTrials(ctx context.Context, ask api.TrialsPut) (*api.Trials, error) {
	if _, once, err := parseWhenDue(ask.When, ask.Zone); err != nil {
		return nil, err
	} else if !once.IsZero() {
		return nil, bad("give a cadence, such as daily at 04:10: trials that happen once prove one day")
	}
	if ask.Files == 0 {
		ask.Files = trialFiles
	}
	raw, err := json.Marshal(ask)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(s.cat.Set(trialsSetting, string(raw)), s.kept("trials", s.clock.Now())); err != nil {
		return nil, err
	}
	s.tell("trials")
	return s.Trials(ctx)
}

// Trials tells how restores are tried, and the last trial of each volume, here and at the
// sites that tell.
func (s *Site) Trials(ctx context.Context) (*api.Trials, error) {
	t, err := s.trials()
	if err != nil {
		return nil, err
	}
	out := &api.Trials{TrialsPut: t, Last: []api.Trial{}}
	if by, _, err := parseWhenDue(t.When, t.Zone); err != nil {
		return nil, err
	} else if by != nil {
		if at, ok := by.Next(s.clock.Now()); ok {
			out.NextDue = &at
		}
	}
	last, err := s.lastTrials()
	if err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(last)) {
		out.Last = append(out.Last, last[name])
	}
	out.Last = append(out.Last, s.trialsElsewhere(ctx)...)
	slices.SortStableFunc(out.Last, func(a, b api.Trial) int { return cmp.Compare(a.Volume, b.Volume) })
	return out, nil
}

// trialStates are those of trials that told something.
var trialStates = []string{"done", "done with remarks", "failed"}

// mostTrials bounds how many trials a report goes through.
const mostTrials = 20_000

func (s *Site) trialOf(r *catalog.Run) (api.Trial, error) {
	t := api.Trial{Volume: r.Subject, Site: s.Name(), Sentence: r.Outcome}
	if len(r.Result) > 0 && string(r.Result) != "null" {
		if err := json.Unmarshal(r.Result, &t); err != nil {
			return t, fmt.Errorf("result of run %d: %w", r.ID, err)
		}
	}
	t.At, t.Run, t.Sentence = r.Ended.Time, r.ID, r.Outcome
	return t, nil
}

// lastTrials is the newest trial of each volume here.
func (s *Site) lastTrials() (map[string]api.Trial, error) {
	rows, err := s.cat.LastRuns(trialKind, trialStates)
	out := make(map[string]api.Trial, len(rows))
	for _, r := range rows {
		t, terr := s.trialOf(r)
		if terr != nil {
			return nil, terr
		}
		out[r.Subject] = t
	}
	return out, err
}

// ownTrials tells a peer the last trials of its own volumes.
func (s *Site) ownTrials(peer string) ([]byte, error) {
	last, err := s.lastTrials()
	if err != nil {
		return nil, err
	}
	out := []api.Trial{}
	for _, name := range slices.Sorted(maps.Keys(last)) {
		v, err := s.cat.Volume(name)
		if err != nil || v.Origin != peer {
			continue
		}
		t := last[name]
		t.Volume, t.Run = nameAtOrigin(v), 0
		out = append(out, t)
	}
	return json.Marshal(out)
}

// trialsElsewhere asks the other sites, all at the same time; one that is silent has told
// nothing.
func (s *Site) trialsElsewhere(ctx context.Context) (out []api.Trial) {
	peers, err := s.peersInOrder()
	if err != nil {
		return nil
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	for _, p := range peers {
		if !s.up(p.Name) {
			continue
		}
		all.Go(func() {
			var raw []byte
			var told []api.Trial
			if s.askPeer(ctx, p, "trials", struct{}{}, &raw) != nil || json.Unmarshal(raw, &told) != nil {
				return
			}
			mu.Lock()
			for _, t := range told {
				t.Site = p.Name
				out = append(out, t)
			}
			mu.Unlock()
		})
	}
	all.Wait()
	slices.SortFunc(out, func(a, b api.Trial) int { return cmp.Or(cmp.Compare(a.Volume, b.Volume), cmp.Compare(a.Site, b.Site)) })
	return out
}

func (s *Site) trialAppointment() (*appointment, error) {
	t, err := s.trials()
	if err != nil {
		return nil, err
	}
	by, _, err := parseWhenDue(t.When, t.Zone)
	if err != nil || by == nil {
		return nil, err
	}
	return &appointment{key: "trials", what: "trials", by: by, do: func() ([]*job, error) { return s.startTrials("", "the schedule") }}, nil
}

// Try tries a restore of a volume now, or of all that have snapshots.
func (s *Site) Try(volume, by string) ([]api.Run, error) {
	started, err := s.startTrials(volume, by)
	out := []api.Run{}
	for _, j := range started {
		out = append(out, j.view())
	}
	return out, err
}

func (s *Site) startTrials(volume, by string) (started []*job, err error) {
	t, err := s.trials()
	if err != nil {
		return nil, err
	}
	vols, err := s.cat.Volumes()
	if err != nil {
		return nil, err
	}
	if volume != "" {
		v, err := s.cat.Volume(volume)
		if err != nil {
			return nil, err
		}
		vols = []*catalog.Volume{v}
	}
	for _, v := range vols {
		all, err := s.cat.Moments(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return started, err
		}
		if len(all) == 0 {
			if volume != "" {
				return nil, missing("volume %s has no snapshot here yet: there is nothing to try", v.Name)
			}
			continue
		}
		newest, err := s.cat.Snapshot(all[0].ID)
		if err != nil {
			return started, err
		}
		row, err := s.cat.Snapshot(all[rand.IntN(len(all))].ID)
		if err != nil {
			return started, err
		}
		j, err := s.start(trialKind, v.Name, by, func(ctx context.Context, j *job) (any, string, error) {
			return s.try(ctx, j, v, row, newest, cmp.Or(t.Files, trialFiles))
		})
		if err != nil {
			return started, err
		}
		started = append(started, j)
	}
	return started, nil
}

// trialSentences tells of restores that were tried and did not come back whole, or would take
// too long.
func (s *Site) trialSentences(add func(api.Sentence)) {
	last, err := s.lastTrials()
	if err != nil {
		s.log.Error("the trials of restores cannot be told", "error", err)
		return
	}
	for _, name := range slices.Sorted(maps.Keys(last)) {
		t := last[name]
		show := fmt.Sprintf("candid run show %d", t.Run)
		switch {
		case !t.Good:
			add(api.Sentence{Text: fmt.Sprintf("A restore of %s was tried %s and did not come back whole: %s", name, stamp(t.At), t.Sentence), Weight: "act", About: "trial of " + name, Next: "Look at the trial, then verify the store", Command: show, Link: fmt.Sprintf("/runs/%d", t.Run)})
		case t.ObjectiveSecs > 0 && t.WholeSeconds > t.ObjectiveSecs:
			add(api.Sentence{Text: fmt.Sprintf("All of %s would take about %s to bring back, more than the %s that its policy allows.", name, ago(time.Duration(t.WholeSeconds)*time.Second), ago(time.Duration(t.ObjectiveSecs)*time.Second)), Weight: "look", About: "recovery time of " + name, Next: "Look at the trial", Command: show, Link: fmt.Sprintf("/runs/%d", t.Run)})
		}
	}
}
