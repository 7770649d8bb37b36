package demo

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"time"

	"candidharbor/api"
)

// outageDay is the day on which the line to Stonewick goes down, for two days: a working day, so that there is
// something to catch up with, and one from which on nobody needs the line for anything else. The accident has a day
// of its own.
func (s *story) outageDay() int {
	from, accident := s.opt.Days*5/9, s.opt.Days*4/9
	needed := s.lineNeeded()
	for _, weekday := range []time.Weekday{time.Tuesday, time.Monday, time.Wednesday, time.Thursday} {
		for day := from + 1; day > from-7; day-- {
			if s.begin.AddDate(0, 0, day).Weekday() == weekday && day != accident && !needed[day] && !needed[day+1] {
				return day
			}
		}
	}
	return from
}

// lineNeeded are the days on which somebody works over the line, and would fail without it.
func (s *story) lineNeeded() map[int]bool {
	d := s.opt.Days
	return map[int]bool{0: true, d / 5: true, d/4 + 1: true, d * 2 / 5: true, s.groupDay() + 1: true, d * 7 / 9: true}
}

func (s *story) lineBack() error {
	r, err := s.larkfield.Site.Routes.Route("to-stonewick")
	if err != nil {
		return err
	}
	if err := s.check(r.State == "no line", "there is no line to Stonewick, and the route says "+r.State); err != nil {
		return err
	}
	if err := s.step("Two days later the line is mended.", r.Sentence, nil); err != nil {
		return err
	}
	s.larkfield.Site.Pairing.CutLine(false)
	out, err := s.run(s.larkfield)(s.larkfield.Site.Routes.RunRoute("to-stonewick", "the demo"))
	return s.step("The route goes on by what is missing, the newest first.", out, err)
}

// nightWithout stops the service for fourteen hours.
func (s *story) nightWithout() error {
	if err := s.advance(s.clock.Now().Add(9 * time.Hour)); err != nil {
		return err
	}
	s.larkfield.Stop()
	s.clock.Set(s.clock.Now().Add(14 * time.Hour))
	var err error
	if s.larkfield, err = s.open("larkfield", s.opt.Listen); err != nil {
		return err
	}
	for _, p := range []string{"stonewick", "mereside"} { // each learns where Larkfield is now
		if _, err := s.larkfield.Site.Pairing.CheckPeer(s.ctx, p); err != nil {
			return err
		}
	}
	if _, err := s.larkfield.Site.Step(s.ctx, true); err != nil {
		return err
	}
	tl, err := s.larkfield.Site.Recovery.Timeline("field-notebooks", s.clock.Now().Add(-24*time.Hour), s.clock.Now())
	if err != nil {
		return err
	}
	if err := s.check(len(tl.Gaps) > 0, "the night is a gap in history"); err != nil {
		return err
	}
	return s.step("Larkfield's service was off for a night.", fmt.Sprintf("%d snapshots of field-notebooks were "+
		"missed: %s. One was taken at once.", tl.Gaps[0].Count, tl.Gaps[0].Cause), nil)
}

// keepHouse prunes every day and sweeps every two weeks, at all sites.
func (s *story) keepHouse(day int) error {
	for _, svc := range s.all() {
		if svc != s.larkfield { // whose clock is moved from one due time to the next
			if _, err := svc.Site.Step(s.ctx, true); err != nil {
				return err
			}
		}
		out, err := s.run(svc)(svc.Site.Rules.Prune("", "the schedule"))
		if err != nil {
			return err
		}
		if day%14 != 13 {
			continue
		}
		if err := s.step("Pruning at "+svc.Site.Name()+".", out, nil); err != nil {
			return err
		}
		out, err = s.run(svc)(svc.Site.Upkeep.Sweep(false, "the schedule"))
		if err := s.step("Sweeping at "+svc.Site.Name()+".", out, err); err != nil {
			return err
		}
	}
	return nil
}

// proof restores the newest state of a volume at the far site and compares it, and
// verifies both stores.
func (s *story) proof() error {
	target := filepath.Join(s.opt.Data, "restored", "herbarium-scans")
	out, err := s.run(s.larkfield)(s.larkfield.Site.Capture.TakeSnapshot("herbarium-scans",
		api.SnapshotTake{Note: "for the proof"}, "the demo"))
	if err := s.step("Take a snapshot of herbarium-scans by hand.", out, err); err != nil {
		return err
	}
	if _, err = s.run(s.larkfield)(s.larkfield.Site.Routes.RunRoute("to-stonewick", "the demo")); err != nil {
		return err
	}
	out, err = s.run(s.stonewick)(s.stonewick.Site.Recovery.Restore(s.ctx,
		api.RestoreAsk{Volume: "herbarium-scans@larkfield", At: "latest", To: target}, "the demo"))
	if err := s.step("Restore herbarium-scans at Stonewick.", out, err); err != nil {
		return err
	}
	live, err := sum(s.files.path("herbarium-scans"))
	if err != nil {
		return err
	}
	copied, err := sum(target)
	if err != nil {
		return err
	}
	if err := s.check(live == copied, "the copy restored at Stonewick is the original"); err != nil {
		return err
	}
	for _, svc := range s.all() {
		out, err := s.run(svc)(svc.Site.Upkeep.Verify("the demo"))
		if err := s.step("Verify everything stored at "+svc.Site.Name()+".", out, err); err != nil {
			return err
		}
		u := svc.Site.Conf.Name
		st, err := svc.Site.Overview.Status()
		if err != nil {
			return err
		}
		if err := s.check(st.Usage.Snapshots > 0, u+" has snapshots"); err != nil {
			return err
		}
	}
	st, err := s.larkfield.Site.Overview.Status()
	if err != nil {
		return err
	}
	s.say("")
	for _, x := range st.Sentences {
		s.say("Today: %s", x.Text)
	}
	return nil
}

// sum describes a directory independently of this program's own code.
func sum(dir string) (string, error) {
	cmd := exec.Command("sh", "-c",
		`find . -printf '%y %m %U:%G %s %T@ %P\n' | sed 's/^d \([^ ]* [^ ]*\) [^ ]* /d \1 /' | LC_ALL=C sort
		find . -type f -print0 | LC_ALL=C sort -z | xargs -0 -r sha256sum`)
	cmd.Dir = dir
	out, err := cmd.Output()
	return string(out), err
}
