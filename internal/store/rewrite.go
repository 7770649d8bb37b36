package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"github.com/RoaringBitmap/roaring/v2"
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
}

// rewrite packs the living records of the given packs anew, replaces the index runs by
// one without the dead, and removes the old packs last. A record that is not whole stays
// in its old pack.
func (s *Store) rewrite(ctx context.Context, old map[uint32]packInfo, dead *roaring.Bitmap, deadIn map[uint32]int64,
	opt SweepOptions) (after int64, removed int, err error) {
	w := &rewriting{s: s, old: old, opt: opt, moving: s.newSpill(cmpOrdinal), moved: s.newSpill(cmpID),
		left: map[uint32]int64{}, alive: map[uint32]bool{}, out: newPackSet(s)}
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

// copyRecords reads the records in order, packs them tighter when settling, and appends
// them to the new packs.
func (w *rewriting) copyRecords(ctx context.Context) error {
	const batch = 256
	part := make([]indexEntry, 0, batch)
	done := int64(0)
	flush := func() error {
		if err := w.copyBatch(ctx, part); err != nil {
			return err
		}
		if done += int64(len(part)); w.opt.Progress != nil {
			w.opt.Progress(done, int64(w.moving.n))
		}
		part = part[:0]
		return nil
	}
	if err := w.moving.each(func(e *indexEntry) error {
		if part = append(part, *e); len(part) < batch {
			return nil
		}
		return flush()
	}); err != nil {
		return err
	}
	return flush()
}

func (w *rewriting) copyBatch(ctx context.Context, part []indexEntry) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	raws := make([][]byte, len(part))
	var g errgroup.Group
	g.SetLimit(4)
	for i := range part {
		g.Go(func() error {
			raw, err := w.s.readAt(part[i].location, nil)
			if passing(err) {
				return fmt.Errorf("pack %d: %w", part[i].pack, err)
			}
			if err != nil {
				return nil
			}
			if h, err := checkRecord(raw); err != nil || h.id != part[i].id {
				return nil
			}
			if w.opt.Settle {
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
		e := &part[i]
		if raws[i] == nil { // verification tells of it
			w.left[e.pack] += e.size()
			continue
		}
		before := e.size()
		if err := w.out.append(e, raws[i]); err != nil {
			return err
		}
		if e.size() != before {
			if err := w.s.ords.resize(e.ordinal, e.size()); err != nil {
				return err
			}
		}
		if err := w.moved.add(e); err != nil {
			return err
		}
	}
	return nil
}
