package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync/atomic"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"
)

// rewriting packs the living records of some packs anew.
type rewriting struct {
	s    *Store
	old  map[uint32]packInfo
	opt  SweepOptions
	runs []*run // when it began; runs that came since are newer than what was moved

	moving *spill           // by ordinal, so that what was written together stays together
	moved  *spill           // by identity
	left   map[uint32]int64 // bytes of records that were not whole, by pack: they stay where they are
	alive  map[uint32]bool
	out    *packSet
	best   *zstd.Encoder
}

// rewrite packs the living records of the given packs anew, replaces the index runs by
// one without the dead, and removes the old packs last. A record that is not whole stays
// in its old pack.
func (s *Store) rewrite(ctx context.Context, old map[uint32]packInfo, dead *roaring.Bitmap, deadIn map[uint32]int64,
	opt SweepOptions) (after int64, removed int, err error) {
	w := &rewriting{s: s, old: old, opt: opt, moving: s.newSpill(cmpOrdinal), moved: s.newSpill(cmpID),
		left: map[uint32]int64{}, alive: map[uint32]bool{}, out: newPackSet(s), best: thorough()}
	defer w.moving.close()
	defer w.moved.close()
	w.out.settled = opt.Settle
	s.mu.RLock()
	w.runs = slices.Clone(s.runs)
	gone := s.gone.Clone() // commits beside this one add to it
	s.mu.RUnlock()
	err = mergeRuns(w.runs, gone, func(e *indexEntry) error {
		if _, ok := old[e.pack]; !ok || dead.Contains(e.ordinal) {
			return nil
		}
		w.alive[e.pack] = true
		return w.moving.add(e)
	})
	if err == nil {
		err = w.copyRecords(ctx)
	}
	if err != nil {
		w.out.abort()
		return 0, 0, explainFull(s.dir, err)
	}
	packs, err := w.out.finish()
	if err != nil {
		return 0, 0, err
	}
	for _, p := range packs {
		after += p.Bytes
	}
	removed, err = w.install(packs, dead, deadIn)
	return after, removed, err
}

// install makes the new packs and one run of all entries current.
func (w *rewriting) install(packs []packInfo, dead *roaring.Bitmap, deadIn map[uint32]int64) (removed int, err error) {
	s := w.s
	s.adm.Lock()
	defer s.adm.Unlock()
	index := filepath.Join(s.dir, "index")
	moved, err := writeRun(index, s.runName(), s.epoch, w.moved.n, w.moved.each)
	if err != nil {
		w.out.abort()
		return 0, explainFull(s.dir, err)
	}
	defer moved.drop(s.dir)
	gone := roaring.Or(s.gone, dead)
	all := append(append(slices.Clone(w.runs), moved), s.runs[len(w.runs):]...)
	n := 0
	for _, r := range s.runs {
		n += r.n
	}
	merged, err := writeRun(index, s.runName(), s.epoch, n, func(emit func(*indexEntry) error) error {
		return mergeRuns(all, gone, emit)
	})
	if err != nil {
		w.out.abort()
		return 0, explainFull(s.dir, err)
	}
	oldRuns := s.runs
	var drop []string
	err = s.publish(change{
		edit: func(files *contents) {
			keep := files.Packs[:0]
			for _, p := range files.Packs {
				if _, ok := w.old[p.Num]; !ok {
					p.Dead += deadIn[p.Num]
					keep = append(keep, p)
				} else if w.left[p.Num] > 0 {
					p.Dead = p.Bytes - packHead - w.left[p.Num]
					keep = append(keep, p)
				} else {
					drop = append(drop, p.Name)
					if !w.alive[p.Num] {
						removed++
					}
				}
			}
			files.Packs = append(keep, packs...)
			files.Runs = []string{merged.name}
		},
		gone: gone,
		take: func() {
			s.runs = []*run{merged}
			s.gone = gone
			s.absent.Or(gone)
			s.stale.AndNot(gone)
		},
		undo: func() { w.out.abort(); merged.drop(s.dir) },
		obsolete: func() {
			os.Remove(filepath.Join(s.dir, "condemned"))
			for _, r := range oldRuns {
				r.drop(s.dir)
			}
			for num := range w.old {
				if w.left[num] == 0 {
					s.packs.Remove(num)
				}
			}
			if err := s.media.Remove(drop...); err != nil {
				s.log.Error("packs that nothing needs could not be removed; they are put aside at the next start", "error", err)
			}
		},
	})
	return removed, err
}

// copyRecords reads the records in order, packs them tighter when settling, and appends them to the new packs: those of
// one batch while the next is read.
func (w *rewriting) copyRecords(ctx context.Context) error {
	var part, before []indexEntry
	var blocks []movedBlock // of those before
	done, bytes := int64(0), int64(0)
	step := func() error {
		var placing errgroup.Group
		placing.Go(func() error { return w.placeAll(before, blocks) })
		next, err := w.prepare(ctx, part)
		if perr := placing.Wait(); err == nil {
			err = perr
		}
		if done += int64(len(before)); w.opt.Progress != nil {
			w.opt.Progress(done, int64(w.moving.n))
		}
		part, before, blocks, bytes = before[:0], part, next, 0
		return err
	}
	if err := w.moving.each(func(e *indexEntry) error {
		part = append(part, *e)
		if bytes += int64(e.plain); len(part) < batchRecords && bytes < batchBytes {
			return nil
		}
		return step()
	}); err != nil {
		return err
	}
	if err := step(); err != nil {
		return err
	}
	return step() // places the last
}

// What is read and packed side by side, before it is placed in order.
const (
	batchRecords = 1 << 10
	batchBytes   = 4 << 20
)

// sideBySide does what is to be done for each of n, a few at a time.
func sideBySide(n int, do func(i int) error) error {
	var g errgroup.Group
	var next atomic.Int64
	for range min(n, 2*runtime.GOMAXPROCS(0)) {
		g.Go(func() error {
			for {
				i := int(next.Add(1)) - 1
				if i >= n {
					return nil
				}
				if err := do(i); err != nil {
					return err
				}
			}
		})
	}
	return g.Wait()
}

// prepare reads what is to be moved, and makes the bundles.
func (w *rewriting) prepare(ctx context.Context, part []indexEntry) ([]movedBlock, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	blocks := make([]movedBlock, len(part))
	if err := sideBySide(len(part), func(i int) (err error) {
		blocks[i], err = w.read(&part[i])
		return err
	}); err != nil {
		return nil, err
	}
	bundles := bundlesOf(part, blocks)
	return blocks, sideBySide(len(bundles), func(i int) error { return w.bundleUp(part, blocks, bundles[i]) })
}

func (w *rewriting) placeAll(part []indexEntry, blocks []movedBlock) error {
	for i := range part {
		e, b := &part[i], &blocks[i]
		switch {
		case b.members != nil:
			if err := w.place(b.raw, b.members...); err != nil {
				return err
			}
		case b.raw != nil:
			if err := w.place(b.raw, e); err != nil {
				return err
			}
		case b.envelope == nil: // verification tells of it
			w.left[e.pack] += e.size()
		}
	}
	return nil
}

// movedBlock is what becomes of a record: a record again, or a member of a bundle. The last member has the bundle.
type movedBlock struct {
	raw      []byte
	envelope []byte // of what is to be a member
	members  []*indexEntry
}

// read reads what is to be moved. Nothing is returned for what is not whole.
func (w *rewriting) read(e *indexEntry) (m movedBlock, err error) {
	raw, err := w.s.readAt(e.id, e.location, nil)
	if passing(err) {
		return m, fmt.Errorf("pack %d: %w", e.pack, err)
	}
	if err != nil {
		return m, nil
	}
	if h, err := checkRecord(raw); err != nil || h.id != e.id {
		return m, nil
	}
	// What is in a bundle goes into one again, whether settling or not.
	if e.kind == object.KindChunk && e.plain < bundledBelow && (w.opt.Settle || e.codec == codecBundle) {
		if m.envelope, err = openRecord(nil, raw, e.id); err != nil {
			m.envelope = nil
		}
		return m, nil
	}
	if w.opt.Settle {
		if small, err := recompress(w.best, raw); err == nil {
			raw = small
		}
	}
	m.raw = raw
	return m, nil
}

// bundlesOf returns which of a batch come into one bundle each, in their order.
func bundlesOf(part []indexEntry, blocks []movedBlock) (bundles [][]int) {
	var open []int
	bytes := 0
	for i := range part {
		if blocks[i].envelope == nil {
			continue
		}
		open = append(open, i)
		if bytes += len(blocks[i].envelope); bytes >= bundleAt || len(open) == bundleMost {
			bundles, open, bytes = append(bundles, open), nil, 0
		}
	}
	if len(open) > 0 {
		bundles = append(bundles, open)
	}
	return bundles
}

// bundleUp makes a bundle of those at some places of a batch; of a single one a record.
func (w *rewriting) bundleUp(part []indexEntry, blocks []movedBlock, at []int) (err error) {
	last := &blocks[at[len(at)-1]]
	if len(at) == 1 {
		last.raw, err = recompress(w.best, appendRecord(nil, object.KindChunk, part[at[0]].id, last.envelope))
		return err
	}
	ids, envelopes := make([]object.ID, len(at)), make([][]byte, len(at))
	for k, i := range at {
		ids[k], envelopes[k] = part[i].id, blocks[i].envelope
		last.members = append(last.members, &part[i])
	}
	last.raw, err = makeBundle(ids, envelopes)
	return err
}

// place appends a record or a bundle to the new packs, and notes where everything in it is.
func (w *rewriting) place(raw []byte, entries ...*indexEntry) (err error) {
	before := make([]int64, len(entries))
	for i, e := range entries {
		before[i] = e.size()
	}
	if isBundle(raw) {
		err = w.out.appendBundle(entries, raw)
	} else {
		err = w.out.append(entries[0], raw)
	}
	for i, e := range entries {
		if err == nil && e.size() != before[i] {
			err = w.s.ords.resize(e.ordinal, e.size())
		}
		if err == nil {
			err = w.moved.add(e)
		}
	}
	return err
}
