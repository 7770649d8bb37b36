package demo

import (
	"fmt"
	"path/filepath"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/site"
)

// rules are the days on which somebody works on what is kept.
func (s *story) rules(day int) error {
	switch day {
	case s.opt.Days / 3:
		return s.audit()
	case s.opt.Days / 2:
		out, err := s.larkfield.Site.Rules.PauseVolume("greenhouse-telemetry")
		return s.step("The glasshouse is re-wired; its telemetry is paused.", out, err)
	case s.opt.Days/2 + 2:
		out, err := s.larkfield.Site.Rules.ResumeVolume("greenhouse-telemetry")
		return s.step("The glasshouse is back.", out, err)
	case s.groupDay():
		return s.together()
	case s.opt.Days * 3 / 4:
		return s.bound()
	case s.opt.Days - 8:
		return s.prepared()
	case s.opt.Days * 8 / 9:
		return s.shortening()
	}
	return nil
}

// audit keeps a state of the register for long.
func (s *story) audit() error {
	page, err := s.larkfield.Site.Recovery.Snapshots("accession-register", catalog.SnapshotFilter{Limit: 1})
	if err != nil || len(page.Items) == 0 {
		return s.step("The auditor asks for the register.", "", fmt.Errorf("no snapshot of it: %w", err))
	}
	end := s.clock.Now().AddDate(7, 0, 0)
	s.kept = page.Items[0].ID
	_, err = s.larkfield.Site.Rules.KeepSnapshot(s.kept, api.KeepAsk{Reason: "state that the auditor signed", Until: &end})
	return s.step("The auditor signs the register; its state is marked to keep for seven years.", s.kept[:12]+
		" stays whatever the rules say, here and at Stonewick", err)
}

// shortening tries a policy that would let much go, and is asked first.
func (s *story) shortening() error {
	body := strings.Replace(s.standard, "daily: 14", "daily: 5", 1)
	if err := s.check(body != s.standard, "the shorter policy differs"); err != nil {
		return err
	}
	check, err := s.larkfield.Site.Rules.CheckPolicy(s.ctx, body)
	if err != nil {
		return err
	}
	_, err = s.larkfield.Site.Rules.PutPolicy(body, "the demo", false)
	if err := s.check(refusal.ClassOf(err) == refusal.Conflict && len(check.Letting) > 0,
		"a policy that lets snapshots go is not stored unasked"); err != nil {
		return err
	}
	look, err := s.larkfield.Site.Rules.PreviewPolicy(s.ctx, api.PreviewAsk{Body: body, Days: 30})
	out := ""
	if err == nil {
		out = fmt.Sprintf("It would let %d snapshots go, so it is not stored unasked. %s", len(check.Letting),
			look.Sentences[1])
	}
	return s.step("Someone tries to keep five days instead of fourteen.", out, err)
}

// keptStays checks that the auditor's state is at both sites.
func (s *story) keptStays() error {
	if s.kept == "" {
		return nil
	}
	for _, svc := range []*site.Site{s.larkfield.Site, s.stonewick.Site} {
		snap, err := svc.Recovery.Snapshot(s.kept)
		if err != nil {
			return err
		}
		if err := s.check(snap.State == "kept" && snap.Keep != "", "the state that the auditor signed is kept at "+
			svc.Name()); err != nil {
			return err
		}
	}
	return nil
}

// prepared saves a restore that is done each night, and has restores tried.
func (s *story) prepared() error {
	site := s.larkfield.Site
	r, err := site.Recovery.PutRecipe(s.ctx, "test-register",
		api.RecipePut{Restore: api.RestoreAsk{Volume: "accession-register", At: "latest", To: filepath.Join(s.opt.Data,
			"restored", "test-register")}, Exact: true,
			When: "daily at 02:30", Zone: "Europe/Lisbon"}, false, "the demo")
	out := ""
	if err == nil {
		out = r.Sentence
	}
	if err := s.step("Whoever tests the register wants a fresh copy each night: a restore is saved.", out,
		err); err != nil {
		return err
	}
	_, err = site.Recovery.PutRestoreTests(s.ctx, api.TrialsPut{When: "daily at 04:10", Zone: "Europe/Lisbon", Files: 40})
	if err := s.step("From now on restores are tried each night: random files of a random moment.", "", err); err != nil {
		return err
	}
	return s.importTried()
}

// proven looks at what the nights of the story came to.
func (s *story) proven() error {
	site := s.larkfield.Site
	r, err := site.Recovery.Recipe("test-register")
	if err != nil {
		return err
	}
	whole := len(r.Runs) >= 4
	for _, run := range r.Runs {
		whole = whole && run.State == api.RunDone
	}
	if err := s.check(whole, "the test copy was refreshed each night"); err != nil {
		return err
	}
	if _, err := s.stonewick.Site.Recovery.PutRestoreTests(s.ctx, api.TrialsPut{When: "daily at 04:40",
		Zone: "Europe/Lisbon", Files: 40}); err != nil {
		return err
	}
	runs, err := s.stonewick.Site.Recovery.TestRestore("", "the demo")
	if err != nil {
		return err
	}
	for _, run := range runs {
		if _, err := s.run(s.stonewick)(run, nil); err != nil {
			return err
		}
	}
	t, err := site.Recovery.RestoreTests(s.ctx)
	if err != nil {
		return err
	}
	good, places := 0, map[string]bool{}
	for _, x := range t.Last {
		if places[x.Site] = true; x.Good {
			good++
		}
	}
	if err := s.step("What trials of restores came to, here and at Stonewick:",
		fmt.Sprintf("%d of %d came back as recorded", good, len(t.Last)), nil); err != nil {
		return err
	}
	return s.check(good == len(t.Last) && len(places) == 2, "every trial came back whole, at both sites")
}
