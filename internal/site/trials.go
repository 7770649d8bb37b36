package site

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/volume/tree"
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

// trialAsk asks a peer what came of trials of what this site gave it.
type trialAsk struct{}

// serveTrials tells a peer the last trials of its own volumes.
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
			if s.askPeer(ctx, p, "trials", trialAsk{}, &raw) != nil || json.Unmarshal(raw, &told) != nil {
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
		rows, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return started, err
		}
		if len(rows) == 0 {
			if volume != "" {
				return nil, missing("volume %s has no snapshot here yet: there is nothing to try", v.Name)
			}
			continue
		}
		row := rows[rand.IntN(len(rows))]
		j, err := s.start(trialKind, v.Name, by, func(ctx context.Context, j *job) (any, string, error) {
			return s.try(ctx, j, v, row, rows[0], cmp.Or(t.Files, trialFiles))
		})
		if err != nil {
			return started, err
		}
		started = append(started, j)
	}
	return started, nil
}

// try restores random files of a snapshot to a scratch directory and compares them with
// what was recorded. newest is what the time for all is told of.
func (s *Site) try(ctx context.Context, j *job, v *catalog.Volume, row, newest *catalog.Snapshot, files int) (any, string, error) {
	j.say("waiting for another trial")
	free, err := s.hold(ctx, "trials") // one at a time: they measure
	if err != nil {
		return nil, "", err
	}
	defer free()
	h, err := s.holdMoment(v.Name, row.ID)
	if err != nil {
		return nil, "", err
	}
	defer h.release()
	var prog tree.Progress
	j.begin(func() api.Progress {
		return api.Progress{DoneBytes: prog.WrittenBytes.Load(), Files: prog.WrittenFiles.Load()}
	})
	beneath := filepath.Join(s.dir, scratchDir)
	if err := os.MkdirAll(beneath, 0o700); err != nil {
		return nil, "", err
	}
	target := filepath.Join(beneath, fmt.Sprint(j.row.ID))
	defer os.RemoveAll(target)
	began := time.Now()
	j.say("choosing files")
	paths, err := sample(h.get, h.root, row.Files, files)
	if err != nil {
		return nil, "", err
	}
	ck, err := chunkerOf(v)
	if err != nil {
		return nil, "", err
	}
	opt := tree.RestoreOptions{Source: s.store, Root: h.root, Paths: paths, Target: target, Beneath: beneath, OnConflict: tree.Replace, Chunker: ck, Progress: &prog}
	if len(paths) == 0 && row.Files > 0 {
		return nil, "", errors.New("no file could be chosen")
	}
	j.say("restoring to scratch space")
	out := &api.Trial{Volume: v.Name, Site: s.Name(), Snapshot: row.ID, Taken: row.Began.Time, Files: int64(len(paths))}
	res := &tree.Restored{}
	if len(paths) > 0 {
		if res, err = tree.Restore(ctx, opt); err != nil {
			return out, "", fmt.Errorf("%s as of %s could not be brought back: %w", v.Name, stamp(row.Began.Time), err)
		}
	}
	took := time.Since(began)
	out.Bytes, out.Seconds = prog.WrittenBytes.Load(), took.Seconds()
	j.say("comparing with what was recorded")
	wrong, err := s.compareTrial(ctx, opt, res)
	if err != nil {
		return out, "", err
	}
	rs, err := s.rulesFor(v)
	if err != nil {
		return out, "", err
	}
	out.At, out.Good, out.ObjectiveSecs = s.clock.Now(), wrong == "", int64(rs.recovery.Seconds())
	out.WholeSeconds = wholeTime(out, newest)
	if wrong != "" {
		return out, "", fmt.Errorf("of %s as of %s not all came back as it was recorded: %s", many(len(paths), "file"), stamp(row.Began.Time), wrong)
	}
	out.Sentence = fmt.Sprintf("%s of %s as of %s came back as recorded: %s in %s; all of the newest state in about %s", many(len(paths), "file"), v.Name, stamp(row.Began.Time), size(out.Bytes),
		ago(took), ago(time.Duration(out.WholeSeconds)*time.Second))
	if rs.recovery > 0 {
		if out.WholeSeconds > out.ObjectiveSecs {
			j.remark()
			out.Sentence += fmt.Sprintf(", more than the %s of the objective", ago(rs.recovery))
		} else {
			out.Sentence += fmt.Sprintf(", within the %s of the objective", ago(rs.recovery))
		}
	}
	return out, out.Sentence, nil
}

// wholeTime is how long all of a snapshot would take at the rate of a trial: by bytes or by
// files, whichever is longer.
func wholeTime(t *api.Trial, whole *catalog.Snapshot) int64 {
	if t.Files == 0 || t.Seconds <= 0 {
		return 0
	}
	secs := t.Seconds * float64(whole.Files) / float64(t.Files)
	if t.Bytes > 0 {
		secs = max(secs, t.Seconds*float64(whole.Bytes)/float64(t.Bytes))
	}
	return int64(secs) + 1
}

// compareTrial plans the same restore once more: whatever it would still do is wrong.
func (s *Site) compareTrial(ctx context.Context, opt tree.RestoreOptions, done *tree.Restored) (wrong string, err error) {
	if len(opt.Paths) == 0 {
		return "", nil
	}
	opt.Plan, opt.Progress = true, nil
	again, err := tree.Restore(ctx, opt)
	if err != nil {
		return "", err
	}
	asRoot := os.Geteuid() == 0
	for _, m := range done.Remarks {
		if asRoot || !again.OnlyMetadata() {
			return printable(m.Path) + ": " + m.What, nil
		}
	}
	for _, a := range again.Samples {
		if a.What != "adjust" || asRoot {
			return fmt.Sprintf("%s would have to be done again (%s)", printable([]byte(a.Path)), a.What), nil
		}
	}
	return "", nil
}

// sample chooses up to n different files of a tree: all of them when there are no more, else
// by random descents, in which each name of a directory is as likely as another.
func sample(get object.Getter, root *object.Root, files int64, n int) ([]string, error) {
	chosen := map[string]bool{}
	if files <= int64(n) {
		var walk func(id object.ID, rel string) error
		walk = func(id object.ID, rel string) error {
			return object.WalkDir(get, id, nil, func(e object.Entry) error {
				at := path.Join(rel, string(e.Name))
				switch e.Kind {
				case object.Dir:
					return walk(e.Content, at)
				case object.File:
					chosen[at] = true
				}
				return nil
			})
		}
		if err := walk(root.Top.Content, ""); err != nil {
			return nil, err
		}
		return slices.Sorted(maps.Keys(chosen)), nil
	}
	for tries := 0; len(chosen) < n && tries < 20*n; tries++ {
		at, id := "", root.Top.Content
		for {
			e, ok, err := randomEntry(get, id)
			if err != nil {
				return nil, err
			}
			if !ok {
				break
			}
			at = path.Join(at, string(e.Name))
			if e.Kind == object.File {
				chosen[at] = true
			}
			if e.Kind != object.Dir {
				break
			}
			id = e.Content
		}
	}
	return slices.Sorted(maps.Keys(chosen)), nil
}

// randomEntry is any entry of a directory, read by one page per level.
func randomEntry(get object.Getter, id object.ID) (e object.Entry, ok bool, err error) {
	for {
		env, err := get(id)
		if err != nil {
			return e, false, err
		}
		below, err := object.DirPages(env)
		if err != nil {
			return e, false, err
		}
		if len(below) > 0 {
			id = below[rand.IntN(len(below))]
			continue
		}
		n := 0
		err = object.PageEntries(env, func(one object.Entry) error {
			if n++; rand.IntN(n) == 0 {
				e, ok = one, true
			}
			return nil
		})
		return e, ok, err
	}
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
