package site

import (
	"context"
	"crypto/x509"
	"errors"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/clock"
	"candidharbor/internal/limit"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
	shown "candidharbor/internal/views"
	"candidharbor/internal/volume/journal"

	"filippo.io/age"
)

// Options of Open. The zero values of all but Data are usable.
type Options struct {
	Data       string
	Name       string // of a new site
	Listen     string
	PeerListen string
	Roots      []string      // of a new site
	Setup      func(*Config) // of a new site, what else its site.yaml says; may be nil
	Clock      clock.Clock
	// Place is the site that this one is a further place of; nil: it is a site of its own.
	Place *Site
	// OnPlace is told of each further place of the site when it is attached; may be nil.
	OnPlace func(*Site)
	Logger  *slog.Logger
}

// Site is an open site.
type Site struct {
	dir     string
	isPlace bool // it is a further place of another site
	cfg     Config
	floor   time.Duration // of site.yaml
	room    func() (free, total int64)
	clock   clock.Clock
	log     *slog.Logger
	lock    *os.File
	id      atomic.Pointer[transfer.Identity] // replaced when the key is
	sealed  *age.X25519Identity               // opens crates that are sealed for this site
	cat     *catalog.Catalog
	store   *store.Store

	ctx     context.Context // ends when the site closes
	stopAll context.CancelFunc
	jobs    sync.WaitGroup

	onPlace   func(*Site)      // told of each further place that is attached
	journal   *journal.Journal // nil: every snapshot looks at everything
	followers followers

	events        *hub
	onChanged     func(volumes []string) // empty: of all
	started       time.Time
	awaitsChanges atomic.Bool  // some volume is taken on change
	lookTook      atomic.Int64 // how long the last look of the schedule was, nanoseconds
	wake          chan struct{}
	verdicts      verdictCache
	finders       finders
	signing       *signing
	strangers     limit.Places // by address
	lines         limit.Places // by paired site
	handlers      map[string]handler
	onPace        func(peer string) error                       // the pace towards it is another
	onAttached    func(place string) (waiting int, err error)   // a place of the site is there again
	setQuota      func(peer string, bytes int64) error          // of what it brings
	openFurther   func(name, dir string) (*furtherPlace, error) // a place of this site
	describe      func(volume string) (*api.Volume, error)      // of one just added
	clonesOf      func() (map[string][]string, error)           // by snapshot that they stand on
	owedFar       owedFunc
	certOnce      sync.Once
	cert          *x509.Certificate // of the console, as site.yaml names it; nil: none
	mounts        sync.Mutex
	mounted       map[string]mountedView  // by directory
	cloned        map[string]*shown.Clone // by name; under mounts
	usesMu        sync.Mutex
	cloneUses     map[string]cloneUse // what was changed in them, as looked at last
	policies      policyCache

	generation    uint64        // of starts and stops, see catalogue.go
	marksCompared chan struct{} // closed when the catalogue was compared with the marks
	marksError    error         // why it could not be; set before

	startsMu  sync.Mutex // what was seen of starts is read, compared and stored as one step
	routeRows sync.Mutex // a row of routes is read, changed and stored as one step

	runsMu     sync.Mutex
	active     map[int64]*job
	busy       map[string]chan struct{} // one snapshot, restore in place or carry per key
	linesMu    sync.Mutex
	links      map[string]*transfer.Link
	peerAddr   net.Addr
	cut        bool                     // the peer line is cut, for demos and tests
	placesHere map[string]*furtherPlace // that are attached, by name
	keepingMu  sync.Mutex
	further    map[string]*Site  // places that are attached, by name
	keeping    context.Context   // in which the schedule is kept; nil: it is not
	paces      map[string]*paced // by peer
	routesMu   sync.Mutex
	going      map[string]*going  // runs of routes, by route
	looked     map[string]*looked // looks of routes that pull, by route
	toldMu     sync.Mutex
	told       map[string]toldRows // what peers have of volumes, as they told of late
	headTold   map[string]int64    // entries of the ledger that peers know of
	alarmsMu   sync.Mutex
	alarmed    time.Time     // when alarms were last looked for
	alarmEvery time.Duration // how long to the next look
	desk       *deskListener // nil: other sites are not answered over it
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
	s := &Site{further: map[string]*Site{}, onPlace: opt.OnPlace}
	if err := s.lockData(dir, opt.Clock, opt.Logger); err != nil {
		return nil, err
	}
	s.initRuns()
	s.initAccess()
	s.initPairing()
	s.initRules()
	s.initRoutes()
	s.initRecovery()
	s.tie()
	if err := s.open(opt); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// tie has each part do for the others what they cannot do themselves.
func (s *Site) tie() {
	s.describe = s.Volume
	s.openFurther = s.openHere
}

// openHere opens a further place of this site.
func (s *Site) openHere(name, dir string) (*furtherPlace, error) {
	off := false
	p, err := Open(Options{Data: dir, Name: name, Place: s, Listen: "127.0.0.1:0", PeerListen: "127.0.0.1:0", Roots: s.cfg.Roots, Clock: s.clock,
		Logger: s.log.With("place", name), Setup: func(c *Config) { c.Journal = &off }})
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
			go p.KeepSchedule(keeping)
		}
	}
	end := func() error {
		s.keepingMu.Lock()
		delete(s.further, name)
		s.keepingMu.Unlock()
		return p.Close()
	}
	return &furtherPlace{p, begin, end}, nil
}

func (s *Site) open(opt Options) (err error) {
	fresh := Config{Name: opt.Name, Listen: opt.Listen, PeerListen: opt.PeerListen, Roots: opt.Roots}
	if opt.Setup != nil {
		opt.Setup(&fresh)
	}
	var host *Config
	if opt.Place != nil {
		host = &opt.Place.cfg
	}
	if err := s.openData(fresh, host); err != nil {
		return err
	}
	s.beginRuns()
	if s.cfg.Journal == nil || *s.cfg.Journal {
		s.followChanges()
	}
	n, err := s.cat.FailUnfinished(s.started, "the service stopped while it ran; what was acknowledged is safe, start it again")
	if err != nil {
		return err
	}
	if n > 0 {
		s.log.Info("runs of the last service were ended", "runs", n)
	}
	if err := os.RemoveAll(filepath.Join(s.dir, scratchDir)); err != nil { // of trials that were cut short
		return err
	}
	if err := s.reconcile(); err != nil {
		return err
	}
	if err := s.countStart(false); err != nil {
		return err
	}
	s.background(func(ctx context.Context) {
		err := s.compareMarks(ctx)
		if err != nil && ctx.Err() == nil {
			s.log.Error("the catalogue could not be compared with the marks in the store; nothing is removed until the service starts anew", "error", err)
		}
		s.marksAreCompared(err)
	})
	if err := s.forgetNames(); err != nil {
		return err
	}
	if s.isPlace { // what its disk says was being restored, mounted or cloned on some host
		return nil
	}
	if err := s.goOnRestoring(); err != nil {
		return err
	}
	s.openPlaces()
	return errors.Join(s.mountAgain(), s.clonesAgain())
}

// Close ends running work safely and releases the data directory.
func (s *Site) Close() error {
	for name, p := range s.attached() {
		if err := p.end(); err != nil {
			s.log.Error("a place could not be closed", "place", name, "error", err)
		}
	}
	s.endClones()
	s.endMounts()
	s.endRuns()
	s.closeLines()
	var errs []error
	return errors.Join(append(errs, s.endFollowing(), s.countStop(), s.closeData())...)
}

// Place is the name of the site's own store.
func (s *Site) Place() string { return s.cfg.Name }

// Name is the site's name.
func (s *Site) Name() string { return s.cfg.Name }

// Dir is the data directory.
func (s *Site) Dir() string { return s.dir }

// Config returns the site's configuration.
func (s *Site) Config() Config { return s.cfg }

// Info describes the site.
func (s *Site) Info() (api.Site, error) {
	held, err := s.cat.Setting(holdSetting)
	now := s.clock.Now()
	return api.Site{Name: s.cfg.Name, Key: transfer.KeyText(s.identity().Public()), Now: now, Zone: now.Location().String(), Roots: s.cfg.Roots,
		Listen: s.cfg.Listen, Peers: s.peerAddress(), Held: held}, err
}

// changed wakes the scheduler and tells subscribers that a kind of record changed, of the
// named volumes or of all.
func (s *Site) changed(topic string, volumes ...string) {
	s.onChanged(volumes)
	s.tell(topic)
}

// tell wakes the scheduler and subscribers where no verdict can have changed.
func (s *Site) tell(topic string) {
	s.publish(topic)
	s.wakeUp()
}

// publish tells subscribers alone.
func (s *Site) publish(topic string) { s.events.publish(Event{Topic: topic}) }

// wakeUp has the schedule look what is due.
func (s *Site) wakeUp() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// woken is ready when the schedule is to look what is due.
func (s *Site) woken() <-chan struct{} { return s.wake }

// closing ends when the site closes.
func (s *Site) closing() context.Context { return s.ctx }

// background does work beside others that Close waits for.
func (s *Site) background(work func(ctx context.Context)) {
	s.jobs.Go(func() { work(s.ctx) })
}

// endRuns ends all that goes on and waits for it.
func (s *Site) endRuns() {
	s.stopAll()
	s.jobs.Wait()
}

// hold takes a key that one job at a time may have, waiting for the one before.
func (s *Site) hold(ctx context.Context, key string) (release func(), err error) {
	for {
		s.runsMu.Lock()
		ch, taken := s.busy[key]
		if !taken {
			ch = make(chan struct{})
			s.busy[key] = ch
			s.runsMu.Unlock()
			return func() {
				s.runsMu.Lock()
				delete(s.busy, key)
				s.runsMu.Unlock()
				close(ch)
			}, nil
		}
		s.runsMu.Unlock()
		select {
		case <-ch:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// Answer returns the stored answer to a request with an idempotency key.
func (s *Site) Answer(key string) (*catalog.Answer, error) { return s.cat.Answer(key) }

// KeepAnswer stores the answer to a request with an idempotency key.
func (s *Site) KeepAnswer(key string, status int, kind string, body []byte) error {
	return s.cat.PutAnswer(&catalog.Answer{Key: key, At: catalog.At(s.clock.Now()), Status: status, Kind: kind, Body: body})
}
