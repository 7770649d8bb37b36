package recovery

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
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/route"
	"candidharbor/internal/run"
)

const (
	trialsSetting = "trials"
	trialFiles    = 100
	TrialKind     = "trial"
	ScratchDir    = "scratch"
)

// testSchedule says when restores are tried, as it is stored.
type testSchedule struct {
	When  string `json:"when"`
	Zone  string `json:"zone,omitempty"`
	Files int    `json:"files,omitempty"`
}

func (s *Service) restoreTests() (t testSchedule, err error) {
	raw, err := s.Catalog.Setting(trialsSetting)
	if err != nil || raw == "" {
		return t, err
	}
	return t, json.Unmarshal([]byte(raw), &t)
}

// PutRestoreTests says when restores are tried, and with how many files.
func (s *Service) PutRestoreTests(ctx context.Context, ask api.TrialsPut) (*api.Trials, error) {
	if _, once, err := parseDue(ask.When, ask.Zone); err != nil {
		return nil, err
	} else if !once.IsZero() {
		return nil, refusal.Badf("give a cadence, such as daily at 04:10: trials that happen once prove one day")
	}
	if ask.Files == 0 {
		ask.Files = trialFiles
	}
	raw, err := json.Marshal(testSchedule{When: ask.When, Zone: ask.Zone, Files: ask.Files})
	if err != nil {
		return nil, err
	}
	err = s.Catalog.Atomically(func(c *catalog.Catalog) error {
		return errors.Join(c.Set(trialsSetting, string(raw)), c.KeepTask(catalog.RestoreTestTask, s.Clock.Now()))
	})
	if err != nil {
		return nil, err
	}
	s.run.Tell("trials")
	return s.RestoreTests(ctx)
}

// RestoreTests tells how restores are tried, and the last trial of each volume, here and at the
// sites that tell.
func (s *Service) RestoreTests(ctx context.Context) (*api.Trials, error) {
	t, err := s.restoreTests()
	if err != nil {
		return nil, err
	}
	out := &api.Trials{TrialsPut: api.TrialsPut{When: t.When, Zone: t.Zone, Files: t.Files}, Last: []api.Trial{}}
	if by, _, err := parseDue(t.When, t.Zone); err != nil {
		return nil, err
	} else if by != nil {
		if at, ok := by.Next(s.Clock.Now()); ok {
			out.NextDue = &at
		}
	}
	last, err := s.lastTests()
	if err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(last)) {
		out.Last = append(out.Last, last[name])
	}
	out.Last = append(out.Last, s.TestsAtPeers(ctx)...)
	slices.SortStableFunc(out.Last, func(a, b api.Trial) int { return cmp.Compare(a.Volume, b.Volume) })
	return out, nil
}

// TrialStates are those of trials that told something.
var TrialStates = []string{api.RunDone, api.RunDoneWithRemarks, api.RunFailed}

// MostTrials bounds how many trials a report goes through.
const MostTrials = 20_000

// LastTestOf reads what a run of a test found.
func (s *Service) LastTestOf(r *catalog.Run) (api.Trial, error) {
	t := api.Trial{Volume: r.Subject, Site: s.Name(), Sentence: r.Outcome}
	if len(r.Result) > 0 && string(r.Result) != "null" {
		if err := json.Unmarshal(r.Result, &t); err != nil {
			return t, fmt.Errorf("result of run %d: %w", r.ID, err)
		}
	}
	t.At, t.Run, t.Sentence = r.Ended.Time, r.ID, r.Outcome
	return t, nil
}

// lastTests is the newest trial of each volume here.
func (s *Service) lastTests() (map[string]api.Trial, error) {
	rows, err := s.Catalog.LastRuns(TrialKind, TrialStates)
	out := make(map[string]api.Trial, len(rows))
	for _, r := range rows {
		t, terr := s.LastTestOf(r)
		if terr != nil {
			return nil, terr
		}
		out[r.Subject] = t
	}
	return out, err
}

// ownTests tells a peer the last trials of its own volumes.
func (s *Service) ownTests(peer string) ([]byte, error) {
	last, err := s.lastTests()
	if err != nil {
		return nil, err
	}
	out := []api.Trial{}
	for _, name := range slices.Sorted(maps.Keys(last)) {
		v, err := s.Catalog.Volume(name)
		if err != nil || v.Origin != peer {
			continue
		}
		t := last[name]
		t.Volume, t.Run = route.NameAtOrigin(v), 0
		out = append(out, t)
	}
	return json.Marshal(out)
}

// TestsAtPeers asks the other sites, all at the same time; one that is silent has told
// nothing.
func (s *Service) TestsAtPeers(ctx context.Context) (out []api.Trial) {
	peers, err := s.peersInOrder()
	if err != nil {
		return nil
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	for _, p := range peers {
		if !s.pairing.Up(p.Name) {
			continue
		}
		all.Go(func() {
			var raw []byte
			var told []api.Trial
			if s.pairing.AskPeer(ctx, p, "trials", struct{}{}, &raw) != nil || json.Unmarshal(raw, &told) != nil {
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
	slices.SortFunc(out, func(a, b api.Trial) int {
		return cmp.Or(cmp.Compare(a.Volume, b.Volume), cmp.Compare(a.Site, b.Site))
	})
	return out
}

func (s *Service) testTask() (*ScheduledTask, error) {
	t, err := s.restoreTests()
	if err != nil {
		return nil, err
	}
	by, _, err := parseDue(t.When, t.Zone)
	if err != nil || by == nil {
		return nil, err
	}
	return &ScheduledTask{Key: catalog.RestoreTestTask, What: "trials", By: by, Do: func() ([]*run.Job, error) {
		return s.startTests("", "the schedule")
	}}, nil
}

// TestRestore tries a restore of a volume now, or of all that have snapshots.
func (s *Service) TestRestore(volume, by string) ([]api.Run, error) {
	started, err := s.startTests(volume, by)
	out := []api.Run{}
	for _, j := range started {
		out = append(out, j.View())
	}
	return out, err
}

func (s *Service) startTests(volume, by string) (started []*run.Job, err error) {
	t, err := s.restoreTests()
	if err != nil {
		return nil, err
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	if volume != "" {
		v, err := s.Catalog.Volume(volume)
		if err != nil {
			return nil, err
		}
		vols = []*catalog.Volume{v}
	}
	for _, v := range vols {
		all, err := s.Catalog.Moments(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return started, err
		}
		if len(all) == 0 {
			if volume != "" {
				return nil, refusal.Missingf("volume %s has no snapshot here yet: there is nothing to try", v.Name)
			}
			continue
		}
		newest, err := s.Catalog.Snapshot(all[0].ID)
		if err != nil {
			return started, err
		}
		row, err := s.Catalog.Snapshot(all[rand.IntN(len(all))].ID)
		if err != nil {
			return started, err
		}
		j, err := s.run.Start(TrialKind, v.Name, by, func(ctx context.Context, j *run.Job) (any, string, error) {
			test := s.testRestore
			if v.IsDisk() {
				test = s.testDisk
			}
			return test(ctx, j, v, row, newest, cmp.Or(t.Files, trialFiles))
		})
		if err != nil {
			return started, err
		}
		started = append(started, j)
	}
	return started, nil
}

// TestSentences tells of restores that were tried and did not come back whole, or would take
// too long.
func (s *Service) TestSentences(add func(api.Sentence)) {
	last, err := s.lastTests()
	if err != nil {
		s.Log.Error("the trials of restores cannot be told", "error", err)
		return
	}
	for _, name := range slices.Sorted(maps.Keys(last)) {
		t := last[name]
		show := fmt.Sprintf("candid run show %d", t.Run)
		switch {
		case !t.Good:
			add(api.Sentence{Text: fmt.Sprintf("A restore of %s was tried %s and did not come back whole: %s", name,
				phrase.Stamp(t.At), t.Sentence), Weight: "act", About: "trial of " + name,
				Next: "Look at the trial, then verify the store", Command: show, Link: fmt.Sprintf("/runs/%d", t.Run)})
		case t.ObjectiveSecs > 0 && t.WholeSeconds > t.ObjectiveSecs:
			add(api.Sentence{Text: fmt.Sprintf("All of %s would take about %s to bring back, more than the %s that its "+
				"policy allows.", name, phrase.Ago(time.Duration(t.WholeSeconds)*time.Second),
				phrase.Ago(time.Duration(t.ObjectiveSecs)*time.Second)), Weight: "look", About: "recovery time of " + name,
				Next: "Look at the trial", Command: show, Link: fmt.Sprintf("/runs/%d", t.Run)})
		}
	}
}
