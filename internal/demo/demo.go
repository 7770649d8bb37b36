// Package demo lives through a story at two sites of a made-up survey: real files that
// change, real snapshots, expiry and routes, by a moved clock; with an accident, a link
// outage and a night without the service. Then it serves both sites.
package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/clock"
	"candidharbor/internal/inbox"
	"candidharbor/internal/moment"
	"candidharbor/internal/phrase"
	"candidharbor/internal/service"
	"candidharbor/internal/sftphost"
	"candidharbor/internal/site"
)

// Options of Run.
type Options struct {
	Data   string // empty: a new temporary directory, removed when the demo ends
	Days   int
	Once   bool
	Listen string
	Out    io.Writer
}

type story struct {
	opt       Options
	ctx       context.Context
	out       io.Writer
	clock     *clock.Moved
	files     *survey
	host      *host
	larkfield *service.Service
	stonewick *service.Service
	mereside  *service.Service
	inbox     *inbox.Inbox
	shelf     *sftphost.Host // the library's machine
	standard  string         // the policy survey-standard at present
	begin     time.Time
	tokens    map[string]string // of each site, which the people of the story show
	checks    int
	kept      string // the snapshot that the auditor signed
}

const policyStandard = `policy: survey-standard
volumes: {survey: daily}
take:
  - every 6 hours
  - daily at 23:30
zone: Europe/Lisbon
skip_unchanged: true
keep:
  larkfield: {newest: 6, daily: 14, weekly: 4, by_hand: 60 days}
  stonewick: {daily: 21, weekly: 8, monthly: 12, yearly: 7, by_hand: 60 days}
objectives: {larkfield: 7 hours, stonewick: 8 hours, recovery: 30 minutes}
grace: 24 hours
`

const policyRegister = `policy: register-close
volumes: {names: [accession-register]}
take:
  - every 2 hours between 08:00 and 18:00 on mon-fri
zone: Europe/Lisbon
skip_unchanged: true
keep:
  larkfield: {hourly: 24, daily: 30}
  stonewick: {daily: 60, monthly: 12}
milestones:
  - {name: month-end, on: monthly on last day, for: 7 years, at: [stonewick]}
objectives: {larkfield: 4 days, stonewick: 4 days}
grace: 24 hours
`

// Run lives through the story and, unless Once, serves all sites until ctx ends.
func Run(ctx context.Context, opt Options) (err error) {
	if opt.Data == "" {
		dir, err := os.MkdirTemp("", "candid-demo-")
		if err != nil {
			return err
		}
		opt.Data = dir
		defer os.RemoveAll(dir)
	} else if entries, err := os.ReadDir(opt.Data); err == nil && len(entries) > 0 {
		return fmt.Errorf("the demo needs a directory of its own, and %s is not empty", opt.Data)
	}
	if opt.Data, err = filepath.Abs(opt.Data); err != nil {
		return err
	}
	zone, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		return err
	}
	now := time.Now()
	y, m, d := now.In(zone).Date()
	begin := time.Date(y, m, d-opt.Days, 9, 0, 0, 0, zone)
	s := &story{opt: opt, tokens: map[string]string{}, ctx: ctx, out: opt.Out, clock: clock.NewMoved(begin), begin: begin,
		files: &survey{dir: filepath.Join(opt.Data, "shares"), rng: rand.New(rand.NewPCG(1931, 7))}}
	defer func() {
		for _, svc := range s.all() {
			svc.Stop()
		}
		if s.inbox != nil {
			s.inbox.Close()
		}
		if s.shelf != nil {
			s.shelf.End()
		}
	}()
	began := time.Now()
	if err := s.live(now); err != nil {
		return err
	}
	s.say("")
	s.say("%d days lived through in %.0f seconds; %d checks held.", opt.Days, time.Since(began).Seconds(), s.checks)
	if opt.Once {
		return nil
	}
	return s.serve()
}

func (s *story) say(format string, args ...any) {
	fmt.Fprintln(s.out, moment.Here().Text(fmt.Sprintf(format, args...)))
}

// step prints a step of the story and its outcome.
func (s *story) step(what string, outcome string, err error) error {
	day := int(s.clock.Now().Sub(s.begin).Hours()/24) + 1
	if err != nil {
		s.say("day %2d  %s: FAILED: %v", day, what, err)
		return fmt.Errorf("%s: %w", what, err)
	}
	s.say("day %2d  %s", day, what)
	if outcome != "" {
		s.say("        %s", outcome)
	}
	return nil
}

// check counts a claim of the story that was put to the test.
func (s *story) check(ok bool, what string) error {
	if !ok {
		return errors.New("this should be so and is not: " + what)
	}
	s.checks++
	return nil
}

func (s *story) open(name, listen string) (*service.Service, error) {
	host, port, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	if n != 0 {
		n += map[string]int{"stonewick": 2, "mereside": 4}[name]
	}
	addr := func(off int) string {
		if n == 0 {
			return net.JoinHostPort(host, "0")
		}
		return net.JoinHostPort(host, strconv.Itoa(n+off))
	}
	svc, err := service.Start(site.Options{Data: filepath.Join(s.opt.Data, name), Name: name, Listen: addr(0),
		PeerListen: addr(1),
		Roots: []string{s.files.dir, filepath.Join(s.opt.Data, "restored"), filepath.Join(s.opt.Data, "standby"),
			filepath.Join(s.opt.Data, "drive"), s.stationDir()},
		Setup: s.hooks, Clock: s.clock, Logger: slog.New(slog.DiscardHandler)})
	if err != nil || svc.FirstToken.Text == "" {
		return svc, err
	}
	// The story goes on for longer than the first token does.
	t, err := svc.Site.Access.NewToken(api.TokenAdd{Name: "desk"})
	s.tokens[name] = t.Text
	return svc, errors.Join(err, svc.Site.Access.RemoveToken(svc.FirstToken.Name))
}

// run waits for a run and returns its outcome.
func (s *story) run(svc *service.Service) func(r api.Run, err error) (string, error) {
	return func(r api.Run, err error) (string, error) {
		if err != nil {
			return "", err
		}
		done, err := svc.Site.Run.Wait(s.ctx, r.ID)
		if err == nil && !done.Worked() {
			err = fmt.Errorf("run %d %s: %s", done.ID, done.State, done.Outcome)
		}
		return done.Outcome, err
	}
}

// live goes through the days up to now.
func (s *story) live(now time.Time) error {
	if err := s.setUp(); err != nil {
		return err
	}
	events := s.events()
	for day := 0; ; day++ {
		morning := s.begin.AddDate(0, 0, day)
		if morning.After(now) {
			break
		}
		if s.clock.Now().After(morning.AddDate(0, 0, 1)) {
			continue // an event went on over it
		}
		if day > 0 {
			if err := s.advance(morning); err != nil {
				return err
			}
		}
		if err := errors.Join(s.files.work(morning), s.useDisk(morning)); err != nil {
			return err
		}
		for _, e := range events {
			if e.day != day {
				continue
			}
			if err := e.happens(); err != nil {
				return err
			}
		}
		if err := errors.Join(s.rules(day), s.sites(day)); err != nil {
			return err
		}
		if err := s.keepHouse(day); err != nil {
			return err
		}
	}
	if err := s.advance(now); err != nil {
		return err
	}
	if err := errors.Join(s.keptStays(), s.setsAreWhole(), s.sitesAreWhole(), s.disksAreWhole(), s.drillsHeld(),
		s.outletIsCurrent(), s.proven()); err != nil {
		return err
	}
	return s.proof()
}

// event is what happens on a day of the story. Several may on one: which days they are hangs on the day it is told.
type event struct {
	day     int
	happens func() error
}

func (s *story) events() []event {
	accident, night := s.opt.Days*4/9, s.opt.Days*7/9
	outage := s.outageDay()
	events := []event{
		{accident, s.accident},
		{accident + 3, s.badImport},
		{outage, func() error {
			s.larkfield.Site.Pairing.CutLine(true)
			return s.step("The line between the sites goes down.", "", nil)
		}},
		{outage + 2, s.lineBack},
		{night, s.nightWithout},
		{s.opt.Days - 3, s.opensOutlet},
		{s.opt.Days - 4, s.peopleSignIn},
		{s.opt.Days - 5, func() error {
			out, err := s.run(s.larkfield)(s.larkfield.Site.Capture.TakeSnapshot("grant-office",
				api.SnapshotTake{Note: "before the server room is painted"}, "the demo"))
			return s.step("Someone takes a snapshot of grant-office by hand.", out, err)
		}},
	}
	return append(events, event{s.fireDay(events), s.fire})
}

// advance moves the clock from one due time to the next, doing what is due.
func (s *story) advance(to time.Time) error { return s.advanceAt(s.larkfield, to) }

// advanceAt is advance with the schedule of any site.
func (s *story) advanceAt(svc *service.Service, to time.Time) error {
	for s.ctx.Err() == nil {
		next, err := svc.Site.Step(s.ctx, true)
		if err != nil {
			return err
		}
		if next.IsZero() || next.After(to) {
			if to.After(s.clock.Now()) { // an event may have taken the clock further: it never goes back
				s.clock.Set(to)
			}
			return nil
		}
		s.clock.Set(next)
	}
	return s.ctx.Err()
}

func (s *story) setUp() (err error) {
	if err := errors.Join(s.files.begin(s.begin), s.makeDirs(), s.writeHooks()); err != nil {
		return err
	}
	if s.inbox, err = inbox.Open(); err != nil {
		return err
	}
	if s.larkfield, err = s.open("larkfield", s.opt.Listen); err != nil {
		return err
	}
	if s.stonewick, err = s.open("stonewick", s.opt.Listen); err != nil {
		return err
	}
	if s.mereside, err = s.open("mereside", s.opt.Listen); err != nil {
		return err
	}
	s.say("The Larkfield Botanical Survey, from %s to today. Files, snapshots and copies are real; only the "+
		"clock is moved.", s.begin.Format("2 January 2006"))
	s.say("")
	for _, v := range []api.VolumeAdd{
		{Name: "herbarium-scans", Labels: map[string]string{"survey": "daily", "collection": "herbarium"}},
		{Name: "field-notebooks", Labels: map[string]string{"survey": "daily", "collection": "field"}},
		{Name: "accession-register", Labels: map[string]string{"survey": "daily", "collection": "herbarium"}},
		{Name: "greenhouse-telemetry", Labels: map[string]string{"survey": "daily", "collection": "glasshouse"}},
		{Name: "grant-office", Labels: map[string]string{"office": "yes"}},
	} {
		v.Path = s.files.path(v.Name)
		if v.Name == "greenhouse-telemetry" {
			if err := s.files.telemetry(s.begin); err != nil {
				return err
			}
		}
		f, err := s.larkfield.Site.Capture.AddVolume(s.ctx, v)
		out := ""
		if err == nil {
			out = fmt.Sprintf("%d files, %d bytes", f.Files, f.Bytes)
		}
		if err := s.step("Protect "+v.Name+".", out, err); err != nil {
			return err
		}
	}
	if err := s.addDisk(); err != nil {
		return err
	}
	s.standard = policyStandard
	for _, body := range []string{s.standard, policyRegister} {
		p, err := s.larkfield.Site.Rules.PutPolicy(body, "the demo", true)
		what := "Store a policy."
		if err == nil {
			what = fmt.Sprintf("Store the policy %s for %d volumes.", p.Name, len(p.Volumes))
		}
		if err := s.step(what, "", err); err != nil {
			return err
		}
	}
	inv, err := s.stonewick.Site.Pairing.Invite(nil)
	if err == nil {
		_, err = s.larkfield.Site.Pairing.Pair(s.ctx, inv.Text, nil)
	}
	if err := s.step("Stonewick invites, Larkfield pairs.", "", err); err != nil {
		return err
	}
	r, err := s.larkfield.Site.Routes.AddRoute(api.RouteAdd{Name: "to-stonewick", To: "stonewick",
		Labels: map[string]string{"survey": "daily"}})
	out := ""
	if err == nil {
		out = fmt.Sprintf("for %d volumes", len(r.Volumes))
		_, err = s.larkfield.Site.Overview.Describe(catalog.DescribedRoute, r.Name,
			api.Description{Text: "all surveys, over the leased line"})
	}
	if err := s.step("Open the route to-stonewick.", out, err); err != nil {
		return err
	}
	out, err = s.run(s.larkfield)(s.larkfield.Site.Capture.TakeSnapshot("grant-office",
		api.SnapshotTake{Note: "as it was when the harbor came"}, "the demo"))
	return s.step("Take a first snapshot of grant-office by hand.", out, err)
}

func (s *story) serve() error {
	s.clock.Follow()
	for _, svc := range s.all() {
		svc.Work()
	}
	s.say("")
	for _, svc := range []*service.Service{s.larkfield, s.stonewick, s.mereside} {
		l, err := svc.SignInLink()
		if err != nil {
			return err
		}
		s.say("%-10s  open, once: %s", phrase.UpperFirst(svc.Site.Name()), l.Address)
		s.say("            later: %s with the token %s", svc.URL, s.tokens[svc.Site.Name()])
	}
	s.say("")
	s.say("Each address signs in once within 10 minutes; candid token link prints another.")
	s.say("At Larkfield also by name, with the password %q: marta (operator), tomas (auditor), ines (file owner)",
		password)
	s.say("")
	s.say("First steps, in another terminal:")
	s.say("  export CANDID_SITE=%s", s.larkfield.Socket)
	s.say("  candid status")
	s.say("  candid snapshot list field-notebooks")
	s.say("  candid browse field-notebooks --at -30d")
	s.say("  candid restore field-notebooks --at -30d --to %s", filepath.Join(s.opt.Data, "restored", "notebooks"))
	s.say("Press Ctrl+C to end; what the demo made goes with it%s.", map[bool]string{true: "",
		false: " unless you gave it a directory"}[s.opt.Data == ""])
	select {
	case <-s.ctx.Done():
		return nil
	case err := <-s.larkfield.Failed:
		return err
	case err := <-s.stonewick.Failed:
		return err
	case err := <-s.mereside.Failed:
		return err
	}
}
