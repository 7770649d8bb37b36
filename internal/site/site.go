package site

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/authority"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/clock"
	"candidharbor/internal/clones"
	"candidharbor/internal/datadir"
	"candidharbor/internal/disks"
	"candidharbor/internal/failover"
	"candidharbor/internal/moment"
	"candidharbor/internal/outlet"
	"candidharbor/internal/overview"
	"candidharbor/internal/pairing"
	"candidharbor/internal/records"
	"candidharbor/internal/recovery"
	"candidharbor/internal/release"
	"candidharbor/internal/route"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/transfer"
	"candidharbor/internal/upkeep"
)

// Options of Open. The zero values of all but Data are usable.
type Options struct {
	Data       string
	Name       string // of a new site
	Listen     string
	PeerListen string
	DiskListen string                // for hosts that open disks; empty: as site.yaml says
	Roots      []string              // of a new site
	Setup      func(*datadir.Config) // of a new site, what else its site.yaml says; may be nil
	Clock      clock.Clock
	// Place is the site that this one is a further place of; nil: it is a site of its own.
	Place *Site
	// OnPlace is called with each further place of the site when it is attached; may be nil.
	OnPlace func(*Site)
	Logger  *slog.Logger
}

// Site is an open site: what lies in its data directory, and the parts that work there.
type Site struct {
	*datadir.Dir
	Console   string // where browsers find it; empty: it is not served
	Run       *run.Engine
	Records   *records.Service
	Access    *access.Service
	Pairing   *pairing.Service
	Authority *authority.Service
	Rules     *rules.Service
	Disks     *disks.Service
	Capture   *capture.Service
	Routes    *route.Service
	Recovery  *recovery.Service
	Clones    *clones.Service
	Outlets   *outlet.Service
	Upkeep    *upkeep.Service
	Failover  *failover.Service
	Overview  *overview.Service

	onPlace func(*Site) // told of each further place that is attached

	keepingMu sync.Mutex
	keeping   context.Context  // in which the schedule is kept; nil: it is not
	further   map[string]*Site // places that are attached, by name
}

// Open opens the site in a data directory, making a new one there when it is empty.
func Open(opt Options) (*Site, error) {
	if opt.Clock == nil {
		opt.Clock = clock.System{}
	}
	if opt.Logger == nil {
		opt.Logger = slog.New(slog.DiscardHandler)
	}
	dir, err := filepath.Abs(opt.Data)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	data, err := datadir.Lock(dir, opt.Clock, opt.Logger)
	if err != nil {
		return nil, err
	}
	s := &Site{Dir: data, further: map[string]*Site{}, onPlace: opt.OnPlace}
	s.makeParts()
	if err := s.open(opt); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// makeParts makes the parts, each given those before it.
func (s *Site) makeParts() {
	s.Run = run.New(s.Dir)
	s.Records = records.New(s.Dir)
	s.Access = access.New(s.Dir, s.Run)
	s.Pairing = pairing.New(s.Dir, s.Run, s.Access)
	s.Authority = authority.New(s.Dir, s.Run, s.Access, s.Pairing)
	s.Rules = rules.New(s.Dir, s.Run, s.Records, s.Pairing)
	s.Disks = disks.New(s.Dir, s.Run, s.Access)
	s.Capture = capture.New(s.Dir, s.Run, s.Records, s.Authority, s.Rules, s.Disks)
	s.Routes = route.New(s.Dir, s.Run, s.Records, s.Access, s.Pairing, s.Authority, s.Rules, s.Capture)
	s.Recovery = recovery.New(s.Dir, s.Run, s.Records, s.Access, s.Pairing, s.Authority, s.Rules, s.Disks,
		s.Capture, s.Routes)
	s.Clones = clones.New(s.Dir, s.Run, s.Access, s.Rules, s.Disks, s.Capture, s.Recovery)
	s.Outlets = outlet.New(s.Dir, s.Run, s.Pairing, s.Rules, s.Routes)
	s.Upkeep = upkeep.New(s.Dir, s.Run, s.Records, s.Pairing, s.Rules, s.Capture, s.Routes, s.Recovery)
	s.Failover = failover.New(s.Dir, s.Run, s.Access, s.Pairing, s.Authority, s.Rules, s.Disks, s.Capture, s.Routes,
		s.Recovery, s.Clones)
	s.Overview = overview.New(s.Dir, s.Run, s.Access, s.Pairing, s.Rules, s.Disks, s.Capture, s.Routes, s.Recovery,
		s.Outlets, s.Upkeep, s.Failover)
	s.Pairing.OpensPlaces(s.openHere)
}

// openHere opens a further place of this site.
func (s *Site) openHere(name, dir string) (*pairing.FurtherPlace, error) {
	off := false
	p, err := Open(Options{Data: dir, Name: name, Place: s, Listen: "127.0.0.1:0", PeerListen: "127.0.0.1:0",
		Roots: s.Conf.Roots, Clock: s.Clock,
		Logger: s.Log.With("place", name), Setup: func(c *datadir.Config) { c.Journal = &off }})
	if err != nil {
		return nil, err
	}
	begin := func() {
		s.keepingMu.Lock()
		s.further[name] = p
		keeping := s.keeping
		s.keepingMu.Unlock()
		if s.onPlace != nil {
			s.onPlace(p)
		}
		if keeping != nil {
			p.Run.Go(func(context.Context) { p.KeepSchedule(keeping) })
		}
	}
	end := func() error {
		s.keepingMu.Lock()
		delete(s.further, name)
		s.keepingMu.Unlock()
		return p.Close()
	}
	return &pairing.FurtherPlace{Peers: p.Pairing, Begin: begin, End: end}, nil
}

func (s *Site) open(opt Options) (err error) {
	fresh := datadir.Config{Name: opt.Name, Listen: opt.Listen, PeerListen: opt.PeerListen,
		DiskListen: opt.DiskListen, Roots: opt.Roots}
	if opt.Setup != nil {
		opt.Setup(&fresh)
	}
	var host *datadir.Config
	if opt.Place != nil {
		host = &opt.Place.Conf
	}
	if err := s.Dir.Open(fresh, host); err != nil {
		return err
	}
	s.Run.Begin()
	if s.Conf.Journal == nil || *s.Conf.Journal {
		s.Capture.FollowChanges()
	}
	n, err := s.Catalog.FailUnfinished(s.Run.Started(), "the service stopped while it ran; what was acknowledged is "+
		"safe, start it again")
	if err != nil {
		return err
	}
	if n > 0 {
		s.Log.Info("runs of the last service were ended", "runs", n)
	}
	if err := os.RemoveAll(filepath.Join(s.Path, recovery.ScratchDir)); err != nil { // of trials that were cut short
		return err
	}
	if err := s.Upkeep.Reconcile(); err != nil {
		return err
	}
	if err := s.Pairing.CountStart(false); err != nil {
		return err
	}
	if err := s.Authority.Load(); err != nil {
		return err
	}
	s.Run.Go(func(ctx context.Context) {
		err := s.Upkeep.CompareMarks(ctx)
		if err != nil && ctx.Err() == nil {
			s.Log.Error("the catalogue could not be compared with the marks in the store; nothing is removed until the "+
				"service starts anew", "error", err)
		}
		s.Rules.MarksAreCompared(err)
	})
	if err := s.Recovery.ForgetNames(); err != nil {
		return err
	}
	if s.IsPlace { // what its disk says was being restored, mounted or cloned on some host
		return nil
	}
	if err := s.Authority.Start(s.Run.Context()); err != nil {
		return err
	}
	if err := s.Disks.OpenAll(); err != nil {
		return err
	}
	if err := s.Recovery.ResumeRestores(); err != nil {
		return err
	}
	if err := s.Clones.ClonesAgain(); err != nil { // before those of drills are taken away
		return err
	}
	if err := s.Failover.Begin(); err != nil {
		return err
	}
	s.Pairing.OpenPlaces()
	return s.Clones.MountAgain()
}

// Close ends running work safely and releases the data directory.
func (s *Site) Close() error {
	for name, p := range s.Pairing.Attached() {
		if err := p.End(); err != nil {
			s.Log.Error("a place could not be closed", "place", name, "error", err)
		}
	}
	s.Clones.EndClones()
	s.Clones.EndMounts()
	s.Run.EndRuns()
	s.Pairing.CloseLines()
	return errors.Join(s.Capture.EndFollowing(), s.Upkeep.CountStop(), s.Disks.Close(), s.Dir.Close())
}

// Info describes the site.
func (s *Site) Info() (api.Site, error) {
	held, err := s.Catalog.Setting(rules.HoldSetting)
	now := s.Clock.Now()
	return api.Site{Name: s.Conf.Name, Release: release.Version(), Key: transfer.KeyText(s.Identity().Public()), Now: now,
		Zone: moment.Zone(), Roots: s.Conf.Roots,
		Listen: s.Conf.Listen, Console: s.Console, Peers: s.Pairing.PeerAddress(), Held: held}, err
}

// Answer returns the stored answer to a request with an idempotency key.
func (s *Site) Answer(key string) (*catalog.Answer, error) { return s.Catalog.Answer(key) }

// KeepAnswer stores the answer to a request with an idempotency key.
func (s *Site) KeepAnswer(key string, status int, kind string, body []byte) error {
	return s.Catalog.PutAnswer(&catalog.Answer{Key: key, At: catalog.At(s.Clock.Now()), Status: status, Kind: kind,
		Body: body})
}
