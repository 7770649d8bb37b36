package demo

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	"candidharbor/internal/service"
)

func (s *story) all() (out []*service.Service) {
	for _, svc := range []*service.Service{s.larkfield, s.stonewick, s.mereside} {
		if svc != nil {
			out = append(out, svc)
		}
	}
	return out
}

func (s *story) makeDirs() error {
	var errs []error
	for _, d := range []string{"restored", "standby", "drive", "field-station"} {
		errs = append(errs, os.MkdirAll(filepath.Join(s.opt.Data, d), 0o755))
	}
	return errors.Join(errs...)
}

// sites are the days on which somebody works on what goes where.
func (s *story) sites(day int) error {
	switch day {
	case 6:
		return s.slowLine()
	case s.opt.Days / 5:
		return s.vault()
	case s.opt.Days / 4:
		out, err := s.stonewick.Site.Routes.SetStandby("herbarium-scans@larkfield", api.StandbySet{Mode: "exact"}, "the demo")
		return s.step("Stonewick lays the scans out, ready for use.", out, err)
	case s.opt.Days/4 + 1:
		return s.station()
	case s.groupDay() + 1:
		return s.asSet()
	case s.opt.Days * 2 / 5:
		return s.drive()
	}
	return nil
}

// slowLine shares the line between the sites with the offices.
func (s *story) slowLine() error {
	p, err := s.larkfield.Site.Pairing.SetPace("stonewick", api.PaceSet{Zone: "Europe/Lisbon",
		Lines: []string{"200 Mbit/s between 08:00 and 18:00 on mon-fri", "600 Mbit/s between 06:00 and 22:00", "1 Gbit/s"}})
	if err != nil {
		return s.step("The line to Stonewick is shared with the offices by day.", "", err)
	}
	if err := s.step("The line to Stonewick is shared with the offices by day.", strings.Join(p.Pace.Lines, "; "),
		nil); err != nil {
		return err
	}
	within := api.RouteTerms{WithinSeconds: 4 * 3600}
	_, err = s.larkfield.Site.Routes.EditRoute("to-stonewick", api.RouteEdit{Terms: &within})
	return err
}

// vault lets Mereside take copies for itself. Larkfield cannot do anything there.
func (s *story) vault() error {
	inv, err := s.larkfield.Site.Pairing.Invite([]string{"read", "see"})
	if err != nil {
		return err
	}
	if _, err = s.mereside.Site.Pairing.Pair(s.ctx, inv.Text, []string{"nothing"}); err != nil {
		return s.step("Mereside, a vault, pairs and grants nothing.", "", err)
	}
	if _, err := s.larkfield.Site.Pairing.Grant(s.ctx, "mereside", api.GrantAsk{Grants: []string{"read"},
		Labels: map[string]string{"collection": "herbarium"}}); err != nil {
		return err
	}
	s.standard = strings.Replace(s.standard, "objectives: {larkfield: 7 hours, stonewick: 8 hours}",
		"objectives: {larkfield: 7 hours, stonewick: 8 hours, mereside: 3 days}", 1)
	s.standard = strings.Replace(s.standard, "objectives:", "  mereside: {weekly: 12, monthly: 24, yearly: 10, "+
		"by_hand: 60 days}\nobjectives:", 1)
	if _, err := s.larkfield.Site.Rules.PutPolicy(s.standard, "the demo", false); err != nil {
		return err
	}
	if err := s.step("Mereside, a vault, pairs and grants nothing; it may read the herbarium's volumes.", "",
		nil); err != nil {
		return err
	}
	r, err := s.mereside.Site.Routes.AddRoute(api.RouteAdd{Name: "from-larkfield", From: "larkfield",
		Labels: map[string]string{"collection": "herbarium"},
		Terms:  api.RouteTerms{When: "daily at 02:00", Zone: "Europe/Lisbon", Tell: "counts"}})
	if err != nil {
		return err
	}
	out, err := s.run(s.mereside)(s.mereside.Site.Routes.RunRoute(r.Name, "the demo"))
	if err := s.step("Mereside takes its first copies.", out, err); err != nil {
		return err
	}
	_, err = s.larkfield.Site.Routes.CheckRoute(s.ctx, api.RouteAdd{Name: "into-the-vault", To: "mereside",
		Labels: map[string]string{"survey": "daily"}})
	return s.check(refusal.ClassOf(err) == refusal.Conflict,
		fmt.Sprintf("Larkfield cannot bring anything into the vault: %v", err))
}

// drive sends the first copies of the office's files by post.
func (s *story) drive() error {
	_, err := s.larkfield.Site.Routes.AddRoute(api.RouteAdd{Name: "office-to-stonewick", To: "stonewick",
		Labels: map[string]string{"office": "yes"}, Terms: api.RouteTerms{When: "on demand"}})
	if err != nil {
		return s.step("A route for the office's files is opened.", "", err)
	}
	if _, err := s.larkfield.Site.Pairing.CheckPeer(s.ctx, "stonewick"); err != nil { // learns for whom to seal
		return err
	}
	path := filepath.Join(s.opt.Data, "drive", "office.crate")
	out, err := s.run(s.larkfield)(s.larkfield.Site.Routes.WriteCrate(api.CrateWrite{Path: path,
		Route: "office-to-stonewick", PartBytes: 1 << 20, Seal: true}, "the demo"))
	if err := s.step("The first copies of the office's files go by drive.", strings.ReplaceAll(out, s.opt.Data+"/", ""),
		err); err != nil {
		return err
	}
	parts, err := filepath.Glob(path + "*")
	if err != nil {
		return err
	}
	out, err = s.run(s.stonewick)(s.stonewick.Site.Routes.LoadCrate(api.CrateLoad{Paths: parts}, "the demo"))
	if err := s.step("The drive arrives at Stonewick.", out, err); err != nil {
		return err
	}
	out, err = s.run(s.larkfield)(s.larkfield.Site.Routes.RunRoute("office-to-stonewick", "the demo"))
	if err := s.step("The route goes on with changes only.", out, err); err != nil {
		return err
	}
	r, err := s.larkfield.Site.Routes.Route("office-to-stonewick")
	if err != nil {
		return err
	}
	when := api.RouteTerms{When: "daily at 21:00", Zone: "Europe/Lisbon"}
	if _, err := s.larkfield.Site.Routes.EditRoute(r.Name, api.RouteEdit{Terms: &when}); err != nil {
		return err
	}
	return s.check(r.State == "current" && r.SentBytes < 4096,
		fmt.Sprintf("after the drive next to nothing was sent: %d bytes, %s", r.SentBytes, r.State))
}

// sitesAreWhole checks what went where.
func (s *story) sitesAreWhole() error {
	if _, err := s.run(s.mereside)(s.mereside.Site.Routes.RunRoute("from-larkfield", "the demo")); err != nil {
		return err
	}
	page, err := s.mereside.Site.Recovery.Snapshots("herbarium-scans@larkfield", catalog.SnapshotFilter{Limit: 100})
	if err != nil {
		return err
	}
	if err := s.check(len(page.Items) >= 4, fmt.Sprintf("Mereside keeps weeks, not %d snapshots",
		len(page.Items))); err != nil {
		return err
	}
	v, err := s.larkfield.Site.Overview.Volume("herbarium-scans")
	if err != nil {
		return err
	}
	if err := s.check(len(v.Places) == 3 && v.Places[2].Place == "mereside" && v.Places[2].State == "on target",
		fmt.Sprintf("Larkfield knows how far Mereside is: %+v", v.Places)); err != nil {
		return err
	}
	begun, ended := 0, 0
	for _, m := range s.inbox.Came() {
		if m.By == "webhook" && strings.Contains(m.Body, `"about":"route to-stonewick"`) {
			begun += strings.Count(m.Body, `"event":"begins"`)
			ended += strings.Count(m.Body, `"event":"ends"`)
		}
	}
	return s.check(begun == 1 && ended == 1, fmt.Sprintf("the outage was told once, and its end: %d and %d", begun, ended))
}
