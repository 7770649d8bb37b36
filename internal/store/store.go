package store

import (
	"bytes"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sync"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/klauspost/compress/zstd"
)

// Store holds the objects, roots and marks of one place. It is safe for concurrent
// use. One process at a time may open a directory; the caller holds the lock.
//
// Locks are taken in the order maint, adm, pub, mu.
type Store struct {
	dir   string
	media Media
	key   ed25519.PrivateKey
	log   *slog.Logger

	ballast ballast

	maint sync.Mutex // one of sweep, seal, run merge, verify's write-back
	adm   sync.Mutex // admissions, one after the other
	pub   sync.Mutex // changes of the manifest, one after the other; publish takes it

	numbers  numbers
	obsolete []func() // removes what a change replaced, once a change is durable; under pub

	verifying sync.Mutex // one verification at a time; before all others

	removal sync.Mutex // roots are unlinked and forgotten under it in one step; before mu

	thorough *zstd.Encoder // of what is put; nil: the fast codec does. Set once

	mu     sync.RWMutex
	epoch  uint64
	files  contents
	next   uint32 // ordinal; moved under adm and mu
	heals  uint64
	runs   []*run // oldest first
	mem    map[object.ID]location
	logf   *logFile
	absent *roaring.Bitmap // gone, condemned or tainted ordinals
	gone   *roaring.Bitmap
	lost   *roaring.Bitmap      // ordinals that were given and that the index does not know any more
	taint  *roaring.Bitmap      // damaged objects and all that lead to them
	stale  *roaring.Bitmap      // ordinals of damaged copies that a good one stands for now
	blind  map[object.ID]uint32 // of which it is not known what they need, see mostBlind
	leases map[*Lease]struct{}
	roots  map[object.ID]struct{}
	rootNo uint64 // counts roots added

	findings []Finding
	anew     map[uint32]bool // packs with damage, which the next sweep packs anew

	ords  *ordinalTable
	packs *lru.Cache[uint32, *packHandle]
	nodes *lru.Cache[object.ID, []byte]

	bundles *lru.Cache[place, *openedBundle]
	counts  countsCache

	rebuilt bool
	syncs   syncCounter
}

// Options of Open.
type Options struct {
	// Thorough compresses at once as hard as a sweep does later: an archive has time.
	Thorough bool
	Key      ed25519.PrivateKey // signs roots and marks
	Logger   *slog.Logger
}

// Open opens the store in dir, making it when the directory is new. After a crash it
// removes what was not finished; a missing or unreadable index is rebuilt from packs.
func Open(dir string, opt Options) (*Store, error) {
	for _, d := range []string{"packs", "log", "roots", "marks", "index", "census", "leases"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o700); err != nil {
			return nil, err
		}
	}
	s := &Store{dir: dir, key: opt.Key, log: opt.Logger,
		mem: map[object.ID]location{}, leases: map[*Lease]struct{}{}, roots: map[object.ID]struct{}{},
		blind: map[object.ID]uint32{}}
	s.forget()
	if opt.Thorough {
		s.thorough = thorough()
	}
	s.media = &dirMedia{dir, &s.ballast}
	if s.log == nil {
		s.log = slog.New(slog.DiscardHandler)
	}
	s.packs, _ = lru.NewWithEvict(256, func(_ uint32, h *packHandle) { h.close() })
	s.nodes, _ = lru.New[object.ID, []byte](4096)
	s.bundles, _ = lru.New[place, *openedBundle](bundlesKept)
	s.counts.init()
	for _, d := range []string{"packs", "roots", "marks"} {
		removeParts(filepath.Join(dir, d))
	}
	if err := s.loadRoots(); err != nil {
		return nil, err
	}
	m, err := readManifest(dir)
	if err == nil && m == nil {
		var used bool
		if used, err = s.used(); used {
			err = fmt.Errorf("%w: manifest missing", errIndex)
		} else if err == nil {
			err = s.create()
		}
	} else if err == nil {
		err = s.load(m)
	}
	if errors.Is(err, errIndex) {
		s.log.Warn("the index is rebuilt from packs", "store", dir, "cause", err)
		err = s.rebuildIndex()
	}
	if err == nil {
		err = s.loadLeases()
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	s.keepReserve()
	return s, nil
}

// used reports whether the directory holds anything besides what is derived.
func (s *Store) used() (bool, error) {
	for _, d := range []string{"log", "packs", "aside"} {
		if names, err := namesIn(filepath.Join(s.dir, d)); err != nil || len(names) > 0 {
			return err == nil, err
		}
	}
	return len(s.roots) > 0, nil
}

func (s *Store) create() error {
	m := manifest{Form: 2, Epoch: newEpoch(), Pack: 1, Serial: 2, contents: contents{Logs: []uint32{1}}}
	f, err := createLog(s.dir, 1)
	if err != nil {
		return err
	}
	f.Close()
	if err := s.writeManifest(&m); err != nil {
		return err
	}
	return s.load(&m)
}

func (s *Store) ordinalsPath(epoch uint64) string {
	return filepath.Join(s.dir, "index", fmt.Sprintf("places-%013x", epoch))
}

// forget empties everything that a manifest describes.
func (s *Store) forget() {
	s.mem = map[object.ID]location{}
	s.absent, s.gone, s.lost, s.taint, s.stale = roaring.New(), roaring.New(), roaring.New(), roaring.New(), roaring.New()
}

// load takes over the state that a manifest describes.
func (s *Store) load(m *manifest) (err error) {
	s.epoch, s.files, s.next, s.heals = m.Epoch, m.contents.clone(), m.Next, m.Heals
	if m.Next >= renumberAt {
		return fmt.Errorf("%w: ordinals are running out", errIndex)
	}
	s.numbers.raise(m.Pack, m.Serial)
	if err := s.raiseNumbers(); err != nil {
		return err
	}
	if s.gone, err = bitmapFrom(m.Gone); err == nil {
		s.lost, err = bitmapFrom(m.Lost)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", errIndex, err)
	}
	s.absent = s.gone.Clone()
	for _, name := range m.Runs {
		r, err := openRun(filepath.Join(s.dir, "index"), name, m.Epoch)
		if err != nil {
			return err
		}
		s.runs = append(s.runs, r)
	}
	if err := s.openOrdinals(); err != nil {
		return err
	}
	if err := s.loadCondemned(); err != nil {
		return err
	}
	if err := s.loadDamaged(); err != nil {
		return err
	}
	if err := s.openLogs(); err != nil {
		return err
	}
	return s.sortLeftovers()
}

// Close releases files. Nothing needs to be written: all that was acknowledged is
// on the medium already.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.runs {
		r.f.Close()
	}
	s.runs = nil
	if s.logf != nil {
		s.logf.f.Close()
	}
	s.packs.Purge()
	if s.ords != nil {
		return s.ords.close()
	}
	return nil
}

// Rebuilt reports whether Open had to rebuild the index.
func (s *Store) Rebuilt() bool { return s.rebuilt }

// Dir returns the store's directory.
func (s *Store) Dir() string { return s.dir }

// lookup finds where an object lies, damaged ones included. The caller holds mu.
func (s *Store) lookup(id *object.ID) (location, bool, error) { return s.lookupIn(nil, id) }

// present is lookup for writers and peers: condemned and damaged is absent.
func (s *Store) present(id *object.ID) (location, bool, error) {
	loc, ok, err := s.lookup(id)
	if ok && s.absent.Contains(loc.ordinal) {
		return loc, false, err
	}
	return loc, ok, err
}

// ErrNoObject is wrapped when an object is not in the store.
var ErrNoObject = errors.New("object not in the store")

// Get returns an object after recomputing its identity and comparing it with the one
// that was asked for.
func (s *Store) Get(id object.ID) (object.Envelope, error) {
	if b, ok := s.nodes.Get(id); ok {
		return object.Decode(b)
	}
	buf := scratch.Get().(*[]byte)
	defer scratch.Put(buf)
	raw, err := s.readRecord(id, *buf)
	if err != nil {
		return object.Envelope{}, err
	}
	*buf = raw
	b, err := openRecord(nil, raw, id)
	if err != nil {
		return object.Envelope{}, fmt.Errorf("object %s: %w", id, err)
	}
	if len(b) > 0 && &b[0] == &raw[recordHead] { // it was not compressed, and raw is used again
		b = bytes.Clone(b)
	}
	env, err := object.Decode(b)
	if err == nil && env.Kind != object.KindChunk && len(b) <= 64<<10 {
		s.nodes.Add(id, b)
	}
	return env, err
}

// Buffers holds reusable memory for GetInto.
type Buffers struct{ raw, plain []byte }

// GetInto is Get with the caller's memory; the result is valid until the next call.
func (s *Store) GetInto(id object.ID, buf *Buffers) (object.Envelope, error) {
	raw, err := s.readRecord(id, buf.raw)
	if err != nil {
		return object.Envelope{}, err
	}
	buf.raw = raw
	if buf.plain == nil {
		buf.plain = make([]byte, object.MaxSize(object.KindChunk))
	}
	b, err := openRecord(buf.plain, raw, id)
	if err != nil {
		return object.Envelope{}, fmt.Errorf("object %s: %w", id, err)
	}
	return object.Decode(b)
}

// readRecord reads the stored record of an object. A record may move to another pack
// between look-up and reading; then it is looked up again.
func (s *Store) readRecord(id object.ID, buf []byte) ([]byte, error) {
	raw, _, err := s.findRecord(id, buf)
	return raw, err
}

func (s *Store) findRecord(id object.ID, buf []byte) ([]byte, location, error) {
	for try := 0; ; try++ {
		s.mu.RLock()
		loc, ok, err := s.lookup(&id)
		s.mu.RUnlock()
		if err != nil {
			return nil, loc, err
		}
		if !ok {
			return nil, loc, fmt.Errorf("%w: %s", ErrNoObject, id)
		}
		raw, err := s.readAt(id, loc, buf)
		if err == nil || (try > 3) || !(errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrClosed)) {
			if err != nil {
				err = fmt.Errorf("object %s in pack %d: %w: %w", id, loc.pack, ErrDamaged, err)
			}
			return raw, loc, err
		}
	}
}

// readAt reads the record of an object at a place that the index had for it.
func (s *Store) readAt(id object.ID, loc location, buf []byte) ([]byte, error) {
	if loc.codec == codecBundle {
		return s.readMember(id, loc, buf)
	}
	return s.readPack(loc, buf)
}

// readPack reads what lies at a place: a record or a bundle.
func (s *Store) readPack(loc location, buf []byte) ([]byte, error) {
	n := loc.reads()
	if cap(buf) < n {
		buf = make([]byte, n)
	}
	buf = buf[:n]
	if loc.pack&logBit != 0 {
		s.mu.RLock()
		defer s.mu.RUnlock()
		if s.logf == nil || s.logf.num != loc.pack&^logBit {
			return nil, fs.ErrClosed
		}
		_, err := s.logf.f.ReadAt(buf, int64(loc.offset))
		return buf, err
	}
	h, err := s.pack(loc.pack)
	if err != nil {
		return nil, err
	}
	h.mu.RLock()
	defer h.mu.RUnlock()
	if h.r == nil {
		return nil, fs.ErrClosed
	}
	_, err = h.r.ReadAt(buf, int64(loc.offset))
	return buf, err
}

// packHandle is an open pack; its lock keeps it open while it is read.
type packHandle struct {
	mu sync.RWMutex
	r  MediaReader
}

func (h *packHandle) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.r != nil {
		h.r.Close()
		h.r = nil
	}
}

func (s *Store) pack(num uint32) (*packHandle, error) {
	if h, ok := s.packs.Get(num); ok {
		return h, nil
	}
	s.mu.RLock()
	i := s.files.packIndex(num)
	name := ""
	if i >= 0 {
		name = s.files.Packs[i].Name
	}
	s.mu.RUnlock()
	if i < 0 {
		return nil, fs.ErrNotExist
	}
	r, err := s.media.Open(name)
	if err != nil {
		return nil, err
	}
	h := &packHandle{r: r}
	if old, ok, _ := s.packs.PeekOrAdd(num, h); ok {
		h.close()
		return old, nil
	}
	return h, nil
}

// Usage describes what the store holds, in bytes.
type Usage struct {
	Objects     int64 `json:"objects"`
	Packs       int   `json:"packs"`
	StoredBytes int64 `json:"storedBytes"` // packs and log as they lie on the medium
	DeadBytes   int64 `json:"deadBytes"`   // in packs, waiting to be packed anew
	Snapshots   int   `json:"snapshots"`
	FreeBytes   int64 `json:"freeBytes"` // free to this process on the filesystem
}

// Usage returns the figures of the store.
func (s *Store) Usage() Usage {
	s.mu.RLock()
	defer s.mu.RUnlock()
	u := Usage{Objects: int64(s.next) - int64(s.gone.GetCardinality()) - int64(s.lost.GetCardinality()),
		Packs: len(s.files.Packs), Snapshots: len(s.roots)}
	for _, p := range s.files.Packs {
		u.StoredBytes += p.Bytes
		u.DeadBytes += p.Dead
	}
	u.StoredBytes += s.logf.size
	u.FreeBytes = freeBytes(s.dir)
	return u
}

// Record returns the stored record of an object as it lies in its pack, after
// comparing its checksum. Of a member of a bundle it makes one: bundles do not travel.
func (s *Store) Record(id object.ID, buf []byte) ([]byte, error) {
	raw, loc, err := s.findRecord(id, buf)
	if err != nil {
		return raw, err
	}
	h, err := checkRecord(raw)
	if err != nil || h.id != id {
		return raw, fmt.Errorf("object %s: %w", id, ErrDamaged)
	}
	if loc.codec == codecBundle {
		return compressedBy(zstdFast, raw, &h, raw[recordHead:]), nil
	}
	return raw, nil
}

// RecordLength returns how many bytes the record at the beginning of b takes.
func RecordLength(b []byte) (int, object.Kind, error) {
	h, err := parseHeader(b)
	return int(h.size()), h.kind, err
}
