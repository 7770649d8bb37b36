package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/refusal"
	"candidharbor/internal/volume/tree"
)

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
