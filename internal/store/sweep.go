package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"candidharbor/core/object"
	"candidharbor/core/space"

	"github.com/RoaringBitmap/roaring/v2"
)

// SweepOptions say how thorough a sweep is.
type SweepOptions struct {
	Settle   bool    // pack settled data again with the thorough codec
	MinDead  float64 // packs with at least this share of dead bytes are packed anew; 0 means 0.1
	Progress func(done, total int64)
}

// SweepResult is what a sweep found and did, in bytes of records.
type SweepResult struct {
	Condemned      int64 `json:"condemned"` // objects found dead
	CondemnedBytes int64 `json:"condemnedBytes"`
	FreedBytes     int64 `json:"freedBytes"` // given back to the filesystem
	PacksRewritten int   `json:"packsRewritten"`
	PacksRemoved   int   `json:"packsRemoved"`
	WaitingBytes   int64 `json:"waitingBytes"` // dead bytes left in packs that are mostly alive
	// Blind are damaged snapshots of which it is not known what they need: what was stored
	// before that was found out is kept until they are healed or removed.
	Blind []object.ID `json:"blind,omitempty"`
}

type condemnedFile struct {
	Epoch uint64 `json:"epoch"`
	Set   []byte `json:"set"`
}

// loadCondemned takes up what an interrupted sweep condemned: it stays absent and the
// next sweep goes on with it.
func (s *Store) loadCondemned() error {
	raw, err := readSealed(filepath.Join(s.dir, "condemned"))
	if os.IsNotExist(err) || errors.Is(err, errSeal) { // the next sweep condemns anew
		return nil
	}
	if err != nil {
		return err
	}
	var c condemnedFile
	if json.Unmarshal(raw, &c) != nil || c.Epoch != s.epoch {
		return nil
	}
	set, err := bitmapFrom(c.Set)
	if err != nil {
		return nil
	}
	s.absent.Or(set)
	return nil
}

// live returns what all snapshots are known to need, those of which that is not all, and
// the number of roots added when it was computed.
func (s *Store) live(ctx context.Context) (set *roaring.Bitmap, blind []object.ID, at uint64, err error) {
	s.mu.RLock()
	at = s.rootNo
	s.mu.RUnlock()
	set = roaring.New()
	for _, id := range s.Roots() {
		if err := ctx.Err(); err != nil {
			return nil, nil, 0, err
		}
		c, isBlind, err := s.holds(id)
		if err != nil {
			return nil, nil, 0, fmt.Errorf("nothing is swept, because it could not be found out what the snapshot %s needs: %w",
				id, err)
		}
		if isBlind {
			blind = append(blind, id)
		}
		space.Include(set, c)
	}
	return set, blind, at, nil
}

// condemn makes the whole dead set absent in one durable step and returns it.
func (s *Store) condemn(ctx context.Context) (*roaring.Bitmap, []object.ID, error) {
	for {
		live, blind, at, err := s.live(ctx)
		if err != nil {
			return nil, nil, err
		}
		// What leases hold is walked before the lock; under it only what came since.
		s.mu.RLock()
		held := s.leased()
		s.mu.RUnlock()
		down := &descent{live: live, below: roaring.New(), reading: reading{s.Get, s.ordinalOf, s.entryAt}}
		if err := down.from(held); err != nil {
			return nil, nil, err
		}
		s.mu.Lock()
		if s.rootNo != at {
			s.mu.Unlock()
			continue // a snapshot came meanwhile; its census is needed too
		}
		dead, err := func() (*roaring.Bitmap, error) {
			held = s.leased()
			down.reading = reading{s.getLocked, s.ordinalLocked, s.entryLocked}
			if err := down.from(held); err != nil {
				return nil, err
			}
			if len(down.unreadable) > 0 {
				s.log.Error("what leads to more cannot be read, and something relies on it: what was stored before this was "+
					"known is kept", "object", down.unreadable[0], "objects", len(down.unreadable))
			}
			spared := s.mostBlind(append(down.unreadable, blind...))
			dead := roaring.New()
			dead.AddRange(uint64(spared), uint64(max(spared, s.next)))
			dead.AndNot(s.gone)
			dead.AndNot(s.lost)
			dead.AndNot(live)
			dead.AndNot(down.below)
			if dead.IsEmpty() {
				return dead, nil
			}
			raw, err := json.Marshal(condemnedFile{Epoch: s.epoch, Set: bitmapBytes(dead)})
			if err != nil {
				return nil, err
			}
			s.syncs.add()
			return dead, ReplaceFile(filepath.Join(s.dir, "condemned"), sealed(raw))
		}()
		if err == nil {
			s.absent.Or(dead)
		}
		s.mu.Unlock()
		return dead, blind, err
	}
}

// reading is how objects are looked up and read, with or without mu held.
type reading struct {
	get   object.Getter
	find  func(object.ID) (location, error)
	entry func(uint32) (object.ID, int64, object.Kind, error)
}

// descent finds all that leases rely on beyond what snapshots need.
type descent struct {
	reading
	live, below *roaring.Bitmap
	unreadable  []object.ID // that may lead to more
}

// from adds to below everything under the held ordinals that live does not have.
func (d *descent) from(held *roaring.Bitmap) error {
	todo := roaring.AndNot(held, d.live)
	todo.AndNot(d.below)
	for it := todo.Iterator(); it.HasNext(); {
		if err := d.descend(it.Next()); err != nil {
			return err
		}
	}
	return nil
}

func (d *descent) descend(ordinal uint32) error {
	if d.live.Contains(ordinal) || !d.below.CheckedAdd(ordinal) {
		return nil
	}
	id, _, kind, err := d.entry(ordinal)
	if err == nil && kind == object.KindChunk {
		return nil
	}
	var env object.Envelope
	if err == nil {
		env, err = d.get(id)
	}
	switch {
	case errors.Is(err, ErrNoObject): // it went before it was held
		return nil
	case passing(err):
		return err
	case err != nil:
		d.unreadable = append(d.unreadable, id)
		return nil
	}
	for i := range env.NumChildren() {
		loc, err := d.find(env.Child(i))
		if errors.Is(err, ErrNoObject) {
			continue
		}
		if err != nil {
			return err
		}
		if err := d.descend(loc.ordinal); err != nil {
			return err
		}
	}
	return nil
}

// entryLocked is entryAt for a caller that holds mu; the table was made anew before, if
// that was needed.
func (s *Store) entryLocked(ordinal uint32) (object.ID, int64, object.Kind, error) {
	id, size, kind, ok := s.ords.get(ordinal)
	if !ok {
		return id, 0, 0, fmt.Errorf("%w: ordinal %d: %w", ErrDamaged, ordinal, errOrdinalEntry)
	}
	return id, size, kind, nil
}

// getLocked is Get for a caller that holds mu.
func (s *Store) getLocked(id object.ID) (object.Envelope, error) {
	if b, ok := s.nodes.Get(id); ok {
		return object.Decode(b)
	}
	loc, err := s.ordinalLocked(id)
	if err != nil {
		return object.Envelope{}, err
	}
	raw := make([]byte, loc.reads())
	if loc.pack&logBit != 0 {
		_, err = s.logf.f.ReadAt(raw, int64(loc.offset))
	} else if i := s.files.packIndex(loc.pack); i < 0 {
		err = fmt.Errorf("%w: %s lies in pack %d, which is not there", ErrDamaged, id, loc.pack)
	} else {
		var r MediaReader
		if r, err = s.media.Open(s.files.Packs[i].Name); err == nil {
			_, err = r.ReadAt(raw, int64(loc.offset))
			r.Close()
		}
	}
	if err != nil {
		return object.Envelope{}, err
	}
	if loc.codec == codecBundle {
		o, err := openBundle(raw)
		if err != nil {
			return object.Envelope{}, err
		}
		if raw, err = o.record(id, nil); err != nil {
			return object.Envelope{}, err
		}
	}
	b, err := openRecord(nil, raw, id)
	if err != nil {
		return object.Envelope{}, err
	}
	return object.Decode(b)
}

// Sweep takes away what no snapshot and no lease needs. It runs beside everything
// else and never waits for a copy or breaks one.
func (s *Store) Sweep(ctx context.Context, opt SweepOptions) (SweepResult, error) {
	if opt.MinDead == 0 {
		opt.MinDead = 0.1
	}
	var res SweepResult
	s.maint.Lock()
	defer s.maint.Unlock()
	s.MakeRoom()
	defer s.keepReserve()
	dead, blind, err := s.condemn(ctx)
	if err != nil {
		return res, err
	}
	res.Blind = blind
	res.Condemned = int64(dead.GetCardinality())
	res.CondemnedBytes = space.Sum(dead, s.SizeOf)
	s.adm.Lock()
	err = s.seal()
	s.adm.Unlock()
	if err != nil {
		return res, err
	}
	deadIn, err := s.deadByPack(dead)
	if err != nil {
		return res, err
	}
	rewrite := map[uint32]packInfo{}
	var before int64
	s.mu.RLock()
	for _, p := range s.files.Packs {
		d := p.Dead + deadIn[p.Num]
		small := p.Bytes < packSize/8 && len(s.files.Packs) > 16
		if (d > 0 && float64(d) >= opt.MinDead*float64(p.Bytes)) || small || (opt.Settle && !p.Settled) || s.anew[p.Num] {
			rewrite[p.Num] = p
			before += p.Bytes
		} else {
			res.WaitingBytes += d
		}
	}
	s.mu.RUnlock()
	if dead.IsEmpty() && len(rewrite) == 0 {
		return res, nil
	}
	after, removed, err := s.rewrite(ctx, rewrite, dead, deadIn, opt)
	if err != nil {
		return res, err
	}
	res.PacksRewritten, res.PacksRemoved = len(rewrite)-removed, removed
	res.FreedBytes = before - after
	return res, nil
}

// packAnew has the next sweep pack what is whole in a damaged pack anew.
func (s *Store) packAnew(num uint32) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.anew == nil {
		s.anew = map[uint32]bool{}
	}
	s.anew[num] = true
}

// deadByPack sums the record bytes that became dead, by pack.
func (s *Store) deadByPack(dead *roaring.Bitmap) (map[uint32]int64, error) {
	sums := map[uint32]int64{}
	err := s.eachPlaced(func(e *indexEntry) error {
		if dead.Contains(e.ordinal) {
			sums[e.pack] += e.size()
		}
		return nil
	})
	return sums, err
}

// eachPlaced visits every index entry of every run, superseded ones too.
func (s *Store) eachPlaced(visit func(*indexEntry) error) error {
	s.mu.RLock()
	runs, gone := s.runs, s.gone.Clone() // commits beside this one add to it
	s.mu.RUnlock()
	for _, r := range runs {
		c, err := r.cursor(gone)
		if err != nil {
			return err
		}
		for c.ok {
			if err := visit(&c.cur); err != nil {
				return err
			}
			if err := c.next(); err != nil {
				return err
			}
		}
	}
	return nil
}
