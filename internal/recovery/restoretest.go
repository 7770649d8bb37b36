package recovery

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/tree"
)

// testRestore restores random files of a snapshot to a scratch directory and compares them with
// what was recorded. From the time it took it estimates how long all of newest would take.
func (s *Service) testRestore(ctx context.Context, j *run.Job, v *catalog.Volume, row, newest *catalog.Snapshot,
	files int) (any, string, error) {
	j.Say("waiting for another trial")
	free, err := s.run.Hold(ctx, run.KeyTests.Of("")) // one at a time: they measure
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
	j.Begin(func() api.Progress {
		return api.Progress{DoneBytes: prog.WrittenBytes.Load(), Files: prog.WrittenFiles.Load()}
	})
	beneath := filepath.Join(s.Path, ScratchDir)
	if err := os.MkdirAll(beneath, 0o700); err != nil {
		return nil, "", err
	}
	target := filepath.Join(beneath, fmt.Sprint(j.ID()))
	defer os.RemoveAll(target)
	began := time.Now()
	j.Say("choosing files")
	paths, err := sample(h.get, h.root, row.Files, files)
	if err != nil {
		return nil, "", err
	}
	ck, err := capture.ChunkerOf(v)
	if err != nil {
		return nil, "", err
	}
	opt := tree.RestoreOptions{Source: s.Store, Root: h.root, Paths: paths, Target: target, Beneath: beneath,
		OnConflict: tree.Replace, Chunker: ck, Progress: &prog}
	if len(paths) == 0 && row.Files > 0 {
		return nil, "", errors.New("no file could be chosen")
	}
	j.Say("restoring to scratch space")
	out := &api.Trial{Volume: v.Name, Site: s.Name(), Snapshot: row.ID, Taken: row.Began.Time, Files: int64(len(paths))}
	res := &tree.Restored{}
	if len(paths) > 0 {
		if res, err = tree.Restore(ctx, opt); err != nil {
			return out, "", fmt.Errorf("%s as of %s could not be brought back: %w", v.Name, phrase.Stamp(row.Began.Time), err)
		}
	}
	took := time.Since(began)
	out.Bytes, out.Seconds = prog.WrittenBytes.Load(), took.Seconds()
	j.Say("comparing with what was recorded")
	wrong, err := s.compareTest(ctx, opt, res)
	if err != nil {
		return out, "", err
	}
	rs, err := s.rules.RulesFor(v)
	if err != nil {
		return out, "", err
	}
	out.At, out.Good, out.ObjectiveSecs = s.Clock.Now(), wrong == "", int64(rs.Recovery.Seconds())
	out.WholeSeconds = wholeTime(out, newest)
	if wrong != "" {
		return out, "", fmt.Errorf("of %s as of %s not all came back as it was recorded: %s", phrase.Many(len(paths), "file"),
			phrase.Stamp(row.Began.Time), wrong)
	}
	out.Sentence = fmt.Sprintf("%s of %s as of %s came back as recorded: %s in %s; all of the newest state in about %s",
		phrase.Many(len(paths), "file"), v.Name, phrase.Stamp(row.Began.Time), phrase.Size(out.Bytes),
		phrase.Ago(took), phrase.Ago(time.Duration(out.WholeSeconds)*time.Second))
	out.Sentence += s.withinObjective(j, out)
	return out, out.Sentence, nil
}

// withinObjective says how a trial stands to what the policy allows.
func (s *Service) withinObjective(j *run.Job, t *api.Trial) string {
	allowed := phrase.Ago(time.Duration(t.ObjectiveSecs) * time.Second)
	switch {
	case t.ObjectiveSecs <= 0:
		return ""
	case t.WholeSeconds > t.ObjectiveSecs:
		j.Remark()
		return fmt.Sprintf(", more than the %s of the objective", allowed)
	}
	return fmt.Sprintf(", within the %s of the objective", allowed)
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

// compareTest plans the same restore once more: whatever it would still do is wrong.
func (s *Service) compareTest(ctx context.Context, opt tree.RestoreOptions, done *tree.Restored) (wrong string,
	err error) {
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
			return phrase.Printable(m.Path) + ": " + m.What, nil
		}
	}
	for _, a := range again.Samples {
		if a.What != "adjust" || asRoot {
			return fmt.Sprintf("%s would have to be done again (%s)", phrase.Printable([]byte(a.Path)), a.What), nil
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
