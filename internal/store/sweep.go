package store

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"candidharbor/core/object"
	"candidharbor/core/space"

	"github.com/RoaringBitmap/roaring/v2"
	"golang.org/x/sync/errgroup"
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
}

type condemnedFile struct {
	Epoch uint64 `json:"epoch"`
	Set   []byte `json:"set"`
}

// loadCondemned takes up what an interrupted sweep condemned: it stays absent and the
// next sweep goes on with it.
func (s *Store) loadCondemned() error {
	raw, err := os.ReadFile(filepath.Join(s.dir, "condemned"))
	if os.IsNotExist(err) {
		return nil
	}
	if err != nil {
		return err
	}
	var c condemnedFile
	if json.Unmarshal(raw, &c) != nil || c.Epoch != s.man.Epoch {
		return nil
	}
	set, err := bitmapFrom(c.Set)
	if err != nil {
		return nil
	}
	s.absent.Or(set)
	return nil
}

// live returns what all snapshots need and the number of roots added when it was
// computed.
func (s *Store) live(ctx context.Context) (set *roaring.Bitmap, at uint64, err error) {
	s.mu.RLock()
	at = s.rootNo
	s.mu.RUnlock()
	set = roaring.New()
	for _, id := range s.Roots() {
		if err := ctx.Err(); err != nil {
			return nil, 0, err
		}
		c, err := s.Census(id)
		if err != nil {
			if !s.HasRoot(id) { // removed meanwhile
				continue
			}
			return nil, 0, fmt.Errorf("nothing is swept, because the census of a snapshot cannot be made: %w", err)
		}
		set.Or(c)
	}
	return set, at, nil
}

// condemn makes the whole dead set absent in one durable step and returns it.
func (s *Store) condemn(ctx context.Context) (*roaring.Bitmap, error) {
	for {
		live, at, err := s.live(ctx)
		if err != nil {
			return nil, err
		}
		// What leases hold is walked before the lock; under it only what came since.
		s.mu.RLock()
		held := s.leased()
		s.mu.RUnlock()
		below := roaring.New()
		if err := s.closure(held, live, below, s.Get, s.ordinalOf); err != nil {
			return nil, err
		}
		s.mu.Lock()
		if s.rootNo != at {
			s.mu.Unlock()
			continue // a snapshot came meanwhile; its census is needed too
		}
		dead, err := func() (*roaring.Bitmap, error) {
			held = s.leased()
			if err := s.closure(held, live, below, s.getLocked, s.ordinalLocked); err != nil {
				return nil, err
			}
			dead := roaring.New()
			dead.AddRange(0, uint64(s.man.Next))
			dead.AndNot(s.gone)
			dead.AndNot(live)
			dead.AndNot(below)
			if dead.IsEmpty() {
				return dead, nil
			}
			raw, err := json.Marshal(condemnedFile{Epoch: s.man.Epoch, Set: bitmapBytes(dead.Clone())})
			if err != nil {
				return nil, err
			}
			s.syncs.add()
			return dead, ReplaceFile(filepath.Join(s.dir, "condemned"), raw)
		}()
		if err == nil {
			s.absent.Or(dead)
		}
		s.mu.Unlock()
		return dead, err
	}
}

// closure adds to below everything under the held ordinals that live does not have.
func (s *Store) closure(held, live, below *roaring.Bitmap, get object.Getter, find finder) error {
	todo := roaring.AndNot(held, live)
	todo.AndNot(below)
	for it := todo.Iterator(); it.HasNext(); {
		if err := s.descend(it.Next(), live, below, get, find); err != nil {
			return err
		}
	}
	return nil
}

// finder is ordinalOf, or ordinalLocked for a caller that holds mu.
type finder func(object.ID) (location, error)

func (s *Store) descend(ordinal uint32, live, below *roaring.Bitmap, get object.Getter, find finder) error {
	if live.Contains(ordinal) || !below.CheckedAdd(ordinal) {
		return nil
	}
	id, _, kind := s.ords.get(ordinal)
	if kind == object.KindChunk {
		return nil
	}
	env, err := get(id)
	if err != nil {
		return err
	}
	for i := range env.NumChildren() {
		loc, err := find(env.Child(i))
		if err != nil {
			return err
		}
		if err := s.descend(loc.ordinal, live, below, get, find); err != nil {
			return err
		}
	}
	return nil
}

// getLocked is Get for a caller that holds mu.
func (s *Store) getLocked(id object.ID) (object.Envelope, error) {
	if b, ok := s.nodes.Get(id); ok {
		return object.Decode(b)
	}
	loc, ok, err := s.lookup(&id)
	if err != nil || !ok {
		return object.Envelope{}, fmt.Errorf("%w: %s (%v)", ErrNoObject, id, err)
	}
	raw := make([]byte, loc.size())
	if loc.pack&logBit != 0 {
		_, err = s.logf.f.ReadAt(raw, int64(loc.offset))
	} else if i := s.man.packIndex(loc.pack); i < 0 {
		err = ErrNoObject
	} else {
		var r MediaReader
		if r, err = s.media.Open(s.man.Packs[i].Name); err == nil {
			_, err = r.ReadAt(raw, int64(loc.offset))
			r.Close()
		}
	}
	if err != nil {
		return object.Envelope{}, err
	}
	b, err := openRecord(nil, raw)
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
	s.releaseReserve()
	defer s.keepReserve()
	dead, err := s.condemn(ctx)
	if err != nil {
		return res, err
	}
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
	for _, p := range s.man.Packs {
		d := p.Dead + deadIn[p.Num]
		small := p.Bytes < packSize/8 && len(s.man.Packs) > 16
		if (d > 0 && float64(d) >= opt.MinDead*float64(p.Bytes)) || small || (opt.Settle && !p.Settled) {
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
	runs, gone := s.runs, s.gone
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

// rewrite packs the living records of the given packs anew, replaces the index runs
// by one without the dead, and removes the old packs last.
func (s *Store) rewrite(ctx context.Context, old map[uint32]packInfo, dead *roaring.Bitmap, deadIn map[uint32]int64, opt SweepOptions) (after int64, removed int, err error) {
	var moving []indexEntry
	alive := map[uint32]bool{}
	err = s.eachPlaced(func(e *indexEntry) error {
		if _, ok := old[e.pack]; ok && !dead.Contains(e.ordinal) {
			moving = append(moving, *e)
			alive[e.pack] = true
		}
		return nil
	})
	if err != nil {
		return 0, 0, err
	}
	byOrdinal(moving)
	out := newPackSet(s)
	out.settled = opt.Settle
	if err := s.copyRecords(ctx, moving, out, opt); err != nil {
		out.abort()
		return 0, 0, err
	}
	packs, err := out.finish()
	if err != nil {
		return 0, 0, err
	}
	for _, p := range packs {
		after += p.Bytes
	}
	moved := make(map[uint32]location, len(moving))
	for i := range moving {
		moved[moving[i].ordinal] = moving[i].location
	}

	s.adm.Lock()
	defer s.adm.Unlock()
	gone := roaring.Or(s.gone, dead)
	n := 0
	for _, r := range s.runs {
		n += r.n
	}
	merged, err := writeRun(filepath.Join(s.dir, "index"), s.runName(), s.man.Epoch, n, func(emit func(*indexEntry) error) error {
		return mergeRuns(s.runs, gone, func(e *indexEntry) error {
			if loc, ok := moved[e.ordinal]; ok {
				e.location = loc
			}
			return emit(e)
		})
	})
	if err != nil {
		out.abort()
		return 0, 0, explainFull(s.dir, err)
	}
	next := s.man.clone()
	next.Packs = next.Packs[:0]
	var drop []string
	for _, p := range s.man.Packs {
		if _, ok := old[p.Num]; ok {
			drop = append(drop, p.Name)
			if !alive[p.Num] {
				removed++
			}
			continue
		}
		p.Dead += deadIn[p.Num]
		next.Packs = append(next.Packs, p)
	}
	next.Packs = append(next.Packs, packs...)
	sortPacks(next.Packs)
	next.Runs = []string{merged.name}
	next.Gone = bitmapBytes(gone.Clone())
	if err := s.writeManifest(&next); err != nil {
		out.abort()
		return 0, 0, err
	}
	s.mu.Lock()
	next.Pack = max(next.Pack, s.man.Pack)
	s.man = next
	oldRuns := s.runs
	s.runs = []*run{merged}
	s.gone = gone
	s.absent.Or(gone)
	s.mu.Unlock()
	for o, loc := range moved {
		s.ords.resize(o, loc.size())
	}
	os.Remove(filepath.Join(s.dir, "condemned"))
	for _, r := range oldRuns {
		r.f.Close()
		os.Remove(filepath.Join(s.dir, "index", r.name))
	}
	for num := range old {
		s.packs.Remove(num)
	}
	return after, removed, s.media.Remove(drop...)
}

// copyRecords reads the records, packs them tighter when settling, and appends them
// in order. Damaged records are copied as they are: they may still be healed.
func (s *Store) copyRecords(ctx context.Context, entries []indexEntry, out *packSet, opt SweepOptions) error {
	const batch = 256
	var done int64
	for begin := 0; begin < len(entries); begin += batch {
		if err := ctx.Err(); err != nil {
			return err
		}
		part := entries[begin:min(begin+batch, len(entries))]
		raws := make([][]byte, len(part))
		var g errgroup.Group
		g.SetLimit(4)
		for i := range part {
			g.Go(func() error {
				raw, err := s.readAt(part[i].location, nil)
				if err != nil {
					return fmt.Errorf("pack %d: %w", part[i].pack, err)
				}
				if opt.Settle {
					if small, err := recompress(raw); err == nil {
						raw = small
					}
				}
				raws[i] = raw
				return nil
			})
		}
		if err := g.Wait(); err != nil {
			return err
		}
		for i := range part {
			if _, err := parseHeader(raws[i]); err != nil {
				continue // not even a head is left; verify has told of it
			}
			if err := out.append(&part[i], raws[i]); err != nil {
				return err
			}
			done += part[i].size()
		}
		if opt.Progress != nil {
			opt.Progress(int64(begin+len(part)), int64(len(entries)))
		}
	}
	return nil
}
