package site

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/clock"
	"candidharbor/internal/store"
	"candidharbor/internal/transfer"
	"candidharbor/internal/volume/journal"
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
	Logger     *slog.Logger
}

// Site is an open site.
type Site struct {
	dir   string
	cfg   Config
	floor time.Duration // of site.yaml
	room  func() (free, total int64)
	clock clock.Clock
	log   *slog.Logger
	lock  *os.File
	id    *transfer.Identity
	cat   *catalog.Catalog
	store *store.Store

	ctx    context.Context // ends when the site closes
	cancel context.CancelFunc
	jobs   sync.WaitGroup

	journal   *journal.Journal // nil: every snapshot looks at everything
	followers followers

	events        *hub
	started       time.Time
	awaitsChanges atomic.Bool  // some volume is taken on change
	lookTook      atomic.Int64 // how long the last look of the schedule was, nanoseconds
	wake          chan struct{}
	verdicts      verdictCache
	policies      policyCache

	mu       sync.Mutex
	active   map[int64]*job
	busy     map[string]chan struct{} // one snapshot, restore in place or carry per key
	links    map[string]*transfer.Link
	peerAddr net.Addr
	cut      bool // the peer line is cut, for demos and tests
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
	lock, err := lockDir(dir)
	if err != nil {
		return nil, err
	}
	s := &Site{dir: dir, clock: opt.Clock, log: opt.Logger, lock: lock, wake: make(chan struct{}, 1), events: newHub(),
		active: map[int64]*job{}, busy: map[string]chan struct{}{}, links: map[string]*transfer.Link{}}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	if err := s.open(opt); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Site) open(opt Options) (err error) {
	fresh := Config{Name: opt.Name, Listen: opt.Listen, PeerListen: opt.PeerListen, Roots: opt.Roots}
	if opt.Setup != nil {
		opt.Setup(&fresh)
	}
	s.cfg, err = loadConfig(s.dir, fresh)
	if err != nil {
		return err
	}
	s.room = func() (int64, int64) { return roomOn(s.dir) }
	var ballast int64
	if s.cfg.Ballast != "" {
		_, total := s.room()
		if ballast, err = parseShare("ballast", s.cfg.Ballast, total); err != nil {
			return fmt.Errorf("%s: %w", filepath.Join(s.dir, "site.yaml"), err)
		}
		if _, _, headroom := s.lacking(); ballast+headroom > total {
			return fmt.Errorf("%s: a ballast of %s and a headroom of %s are more than the %s of the store's filesystem: make one smaller", filepath.Join(s.dir, "site.yaml"), size(ballast), size(headroom), size(total))
		}
	}
	if s.cfg.Floor != "" {
		if s.floor, err = retention.ParseDuration(s.cfg.Floor); err != nil {
			return err
		}
	}
	key, err := loadKey(s.dir)
	if err != nil {
		return err
	}
	if s.id, err = transfer.NewIdentity(key); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(s.dir, "scan"), 0o700); err != nil {
		return err
	}
	if s.store, err = store.Open(filepath.Join(s.dir, "store"), store.Options{Key: key, Logger: s.log}); err != nil {
		return err
	}
	if err := s.store.SetBallast(ballast); err != nil {
		s.log.Warn("the ballast could not be set aside", "bytes", ballast, "error", err)
	}
	if s.cat, err = catalog.Open(filepath.Join(s.dir, "catalog.db")); err != nil {
		return err
	}
	s.started = s.clock.Now()
	if s.cfg.Journal == nil || *s.cfg.Journal {
		s.journal = journal.New(s.dir, s.clock.Now, s.changeTold)
	}
	n, err := s.cat.FailUnfinished(s.started, "the service stopped while it ran; what was acknowledged is safe, start it again")
	if err != nil {
		return err
	}
	if n > 0 {
		s.log.Info("runs of the last service were ended", "runs", n)
	}
	if err := s.clearTargets(); err != nil {
		return err
	}
	return s.reconcile()
}

// Close ends running work safely and releases the data directory.
func (s *Site) Close() error {
	s.cancel()
	s.jobs.Wait()
	s.mu.Lock()
	for _, l := range s.links {
		l.Close()
	}
	s.mu.Unlock()
	var errs []error
	if s.journal != nil {
		errs = append(errs, s.journal.Close())
	}
	if s.cat != nil {
		errs = append(errs, s.cat.Close())
	}
	if s.store != nil {
		errs = append(errs, s.store.Close())
	}
	errs = append(errs, s.lock.Close())
	return errors.Join(errs...)
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
	peer := s.cfg.PeerListen
	s.mu.Lock()
	if s.peerAddr != nil {
		peer = s.peerAddr.String()
	}
	s.mu.Unlock()
	return api.Site{Name: s.cfg.Name, Key: transfer.KeyText(s.id.Public()), Now: now, Zone: now.Location().String(), Roots: s.cfg.Roots,
		Listen: s.cfg.Listen, Peers: peer, Held: held}, err
}

// changed wakes the scheduler and tells subscribers that a kind of record changed, of the
// named volumes or of all.
func (s *Site) changed(topic string, volumes ...string) {
	s.verdicts.drop(volumes)
	s.tell(topic)
}

// tell wakes the scheduler and subscribers where no verdict can have changed.
func (s *Site) tell(topic string) {
	s.events.publish(Event{Topic: topic})
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// hold takes a key that one job at a time may have, waiting for the one before.
func (s *Site) hold(ctx context.Context, key string) (release func(), err error) {
	for {
		s.mu.Lock()
		ch, taken := s.busy[key]
		if !taken {
			ch = make(chan struct{})
			s.busy[key] = ch
			s.mu.Unlock()
			return func() {
				s.mu.Lock()
				delete(s.busy, key)
				s.mu.Unlock()
				close(ch)
			}, nil
		}
		s.mu.Unlock()
		select {
		case <-ch:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// holdSetting is the setting that says why nothing is removed.
const holdSetting = "removal held"

// reconcile brings the catalogue in line with the store after a crash or a loss.
func (s *Site) reconcile() error {
	known, err := s.cat.SnapshotIDs(s.Place())
	if err != nil {
		return err
	}
	roots := s.store.Roots()
	have := make(map[string]bool, len(known))
	for _, id := range known {
		have[id] = true
	}
	var lost []object.ID
	for _, id := range roots {
		if !have[id.String()] {
			lost = append(lost, id)
		}
		delete(have, id.String())
	}
	var dead []string
	for id := range have {
		dead = append(dead, id)
	}
	if len(dead) > 0 {
		s.log.Info("snapshots that the store does not have were taken from the catalogue", "snapshots", len(dead))
		if err := s.cat.ForgetSnapshots(s.Place(), dead...); err != nil {
			return err
		}
	}
	if len(lost) == 0 {
		return nil
	}
	if len(known) > 0 {
		if lost, err = s.dropTorn(lost); err != nil {
			return err
		}
	}
	s.log.Info("snapshots that the catalogue lacks are taken up from the store", "snapshots", len(lost))
	if err := s.takeUp(lost); err != nil {
		return err
	}
	if len(known) == 0 {
		return s.cat.Set(holdSetting, fmt.Sprintf("the catalogue was rebuilt from the store on %s; look at what is there, put your policies back, then release it with: candid store release", s.clock.Now().Format("2006-01-02 15:04")))
	}
	return nil
}

// RebuildCatalogue makes the records of volumes and snapshots anew from the store and
// holds all removal until a person releases it.
func (s *Site) RebuildCatalogue() (int, error) {
	known, err := s.cat.SnapshotIDs(s.Place())
	if err != nil {
		return 0, err
	}
	if err := s.cat.Set(holdSetting, "the catalogue was rebuilt from the store on request; look at what is there, then release it with: candid store release"); err != nil {
		return 0, err
	}
	roots := s.store.Roots()
	if err := s.takeUp(roots); err != nil {
		return 0, err
	}
	have := map[string]bool{}
	for _, id := range roots {
		have[id.String()] = true
	}
	var dead []string
	for _, id := range known {
		if !have[id] {
			dead = append(dead, id)
		}
	}
	s.changed("snapshots")
	return len(roots), s.cat.ForgetSnapshots(s.Place(), dead...)
}

// Release lets removal go on after a rebuild.
func (s *Site) Release() error {
	s.changed("snapshots")
	return s.cat.Set(holdSetting, "")
}

// takeUp enters snapshots from their roots and marks.
func (s *Site) takeUp(ids []object.ID) error {
	rows := make([]*catalog.Snapshot, 0, len(ids))
	newest := map[string]*object.Root{}
	for _, id := range ids {
		root, _, err := s.store.Root(id)
		if err != nil {
			s.log.Error("a snapshot's record is damaged; it is left where it is", "snapshot", id, "error", err)
			continue
		}
		row, err := s.rowOf(id, root)
		if err != nil {
			return err
		}
		rows = append(rows, row)
		lin := hex.EncodeToString(root.Lineage[:])
		if old := newest[lin]; old == nil || old.Term < root.Term || (old.Term == root.Term && old.Sequence < root.Sequence) {
			newest[lin] = root
		}
	}
	for lin, root := range newest {
		if _, err := s.cat.VolumeOfLineage(lin); err == nil {
			continue
		} else if !errors.Is(err, catalog.ErrNone) {
			return err
		}
		v := s.volumeOf(root)
		v.Protected = root.Origin == s.Name()
		v.ScheduledUntil = catalog.At(s.clock.Now())
		if err := s.cat.PutVolume(v); err != nil {
			return err
		}
	}
	for _, r := range rows {
		if v, err := s.cat.VolumeOfLineage(r.Lineage); err == nil {
			r.Volume = v.Name
		}
	}
	return s.cat.PutSnapshots(rows)
}

// volumeOf describes a volume from a root of it.
func (s *Site) volumeOf(r *object.Root) *catalog.Volume {
	name := r.Volume
	if r.Origin != s.Name() {
		name += "@" + r.Origin
	}
	labels := r.Labels
	if labels == nil {
		labels = map[string]string{}
	}
	excludes := r.Excludes
	if excludes == nil {
		excludes = []string{}
	}
	return &catalog.Volume{Name: name, Lineage: hex.EncodeToString(r.Lineage[:]), Kind: "tree", Origin: r.Origin, Path: string(r.Path),
		Labels: catalog.JSON[catalog.Labels]{V: labels}, Excludes: catalog.JSON[[]string]{V: excludes}, ChunkAvg: int(r.ChunkAvg),
		Added: catalog.At(s.clock.Now())}
}

// rowOf makes a snapshot's row from its root and marks.
func (s *Site) rowOf(id object.ID, r *object.Root) (*catalog.Snapshot, error) {
	row := &catalog.Snapshot{ID: id.String(), Place: s.Place(), Volume: s.volumeOf(r).Name, Lineage: hex.EncodeToString(r.Lineage[:]),
		Origin: r.Origin, Term: int64(r.Term), Sequence: int64(r.Sequence), Began: catalog.At(r.BeganTime()), Ended: catalog.At(r.EndedTime()),
		Cause: string(r.Cause), Consistency: string(r.Consistency), Files: r.Files, Dirs: r.Dirs, Others: r.Others, Bytes: r.Bytes,
		Remarks: r.RemarkCount, Labels: catalog.JSON[catalog.Labels]{V: map[string]string{}}}
	if r.Set != nil {
		row.SetID, row.SetName = hex.EncodeToString(r.Set.ID[:]), r.Set.Group
	}
	marks, _, err := s.store.Marks(id)
	if err != nil {
		return nil, err
	}
	for _, m := range marks {
		applyMark(row, m, s.Place())
	}
	return row, nil
}

func applyMark(row *catalog.Snapshot, m *object.Mark, place string) {
	until := time.Unix(0, m.Until)
	here := m.Place == "" || m.Place == place
	if at := time.Unix(0, m.At); m.Kind.Travels() && m.Kind != object.MarkSighting && at.After(row.Marked.Time) {
		row.Marked = catalog.At(at)
	}
	switch m.Kind {
	case object.MarkSighting:
		if until.After(row.SeenUntil.Time) {
			row.SeenUntil = catalog.At(until)
		}
		if watched := time.Unix(0, m.Watched); m.Watched != 0 && watched.After(row.WatchedUntil.Time) {
			row.WatchedUntil = catalog.At(watched)
		}
	case object.MarkNote:
		row.Note = m.Text
	case object.MarkLabels:
		row.Labels.V = m.Labels
	case object.MarkEnd:
		row.OwnEnd = catalog.At(until)
	case object.MarkKeep:
		row.KeepWhy, row.KeepUntil = m.Text, catalog.Time{}
		if m.Until != 0 {
			row.KeepUntil = catalog.At(until)
		}
	case object.MarkLetGo:
		row.KeepWhy, row.KeepUntil = "", catalog.Time{}
	case object.MarkArrival:
		if here {
			row.Arrived = catalog.At(time.Unix(0, m.At))
		}
	case object.MarkExpiry:
		if here {
			row.GraceUntil, row.LetGo = catalog.At(until), m.Text
		}
	case object.MarkRecall:
		if here {
			row.GraceUntil, row.LetGo, row.RecalledUntil = catalog.Time{}, "", catalog.Time{}
			if m.Until != 0 {
				row.RecalledUntil = catalog.At(until)
			}
		}
	}
}

// NewToken makes a token for clients that come by HTTP. Its text is not kept.
func (s *Site) NewToken(name string) (api.Token, error) {
	if name == "" {
		return api.Token{}, bad("a token needs a name, so that you can tell later whose it is")
	}
	tokens, err := s.cat.Tokens()
	if err != nil {
		return api.Token{}, err
	}
	if slices.ContainsFunc(tokens, func(t *catalog.Token) bool { return t.Name == name }) {
		return api.Token{}, conflict("there is a token %q already: choose another name, or remove that one first, with candid token remove %s", name, name)
	}
	var b [24]byte
	rand.Read(b[:])
	text := "cht_" + hex.EncodeToString(b[:])
	t := &catalog.Token{Name: name, Hash: object.Sum([]byte(text)).String(), Made: catalog.At(s.clock.Now())}
	if err := s.cat.PutToken(t); err != nil {
		return api.Token{}, err
	}
	return api.Token{Name: name, Made: t.Made.Time, Text: text}, nil
}

// TokenName tells whose token a text is; empty when it is none.
func (s *Site) TokenName(text string) string {
	if !strings.HasPrefix(text, "cht_") {
		return ""
	}
	t, err := s.cat.TokenByHash(object.Sum([]byte(text)).String())
	if err != nil {
		return ""
	}
	return t.Name
}

// Tokens lists the tokens without their texts.
func (s *Site) Tokens() ([]api.Token, error) {
	rows, err := s.cat.Tokens()
	out := make([]api.Token, len(rows))
	for i, t := range rows {
		out[i] = api.Token{Name: t.Name, Made: t.Made.Time}
	}
	return out, err
}

// RemoveToken makes a token useless.
func (s *Site) RemoveToken(name string) error { return s.cat.RemoveToken(name) }

// Answer returns the stored answer to a request with an idempotency key.
func (s *Site) Answer(key string) (*catalog.Answer, error) { return s.cat.Answer(key) }

// KeepAnswer stores the answer to a request with an idempotency key.
func (s *Site) KeepAnswer(key string, status int, kind string, body []byte) error {
	return s.cat.PutAnswer(&catalog.Answer{Key: key, At: catalog.At(s.clock.Now()), Status: status, Kind: kind, Body: body})
}
