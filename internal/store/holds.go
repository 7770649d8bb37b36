package store

import (
	"errors"
	"runtime"
	"sync/atomic"
	"syscall"

	"candidharbor/core/object"
	"candidharbor/core/space"

	"github.com/RoaringBitmap/roaring/v2"
	"golang.org/x/sync/errgroup"
)

// passing reports whether an error says nothing about what is stored: the process has too
// little of something, and asking again later may succeed.
func passing(err error) bool {
	for _, e := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOMEM, syscall.EINTR, syscall.ENOSPC} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// holds returns the ordinals that are known to be needed by a snapshot, damaged or not.
// Blind is true when it may need others too, because what leads to them is unreadable and
// no census of it was kept.
func (s *Store) holds(id object.ID) (set *roaring.Bitmap, blind bool, err error) {
	kept, current, err := s.loadCensus(id)
	if err == nil && current {
		return kept, false, nil
	}
	root, _, err := s.Root(id)
	if err == nil {
		if set, err = s.takeCensus(id, root); err == nil {
			return set, false, nil
		}
	}
	if passing(err) {
		return nil, false, err
	}
	if !s.stillThere(id) {
		return roaring.New(), false, nil // removed meanwhile
	}
	w := &holdWalk{s: s, seen: roaring.New(), cut: root == nil}
	if root != nil {
		for _, top := range tops(root) {
			if err := w.visit(top); err != nil {
				return nil, false, err
			}
		}
	}
	if kept != nil {
		space.Include(w.seen, kept)
		return w.seen, false, nil
	}
	return w.seen, w.cut, nil
}

// eachHeld calls do with what each snapshot holds, one call at a time, and reads ahead on all
// cores.
func (s *Store) eachHeld(ids []object.ID, do func(id object.ID, set *roaring.Bitmap)) error {
	type held struct {
		id  object.ID
		set *roaring.Bitmap
	}
	var reading errgroup.Group
	var next atomic.Int64
	found := make(chan held, 16)
	for range runtime.GOMAXPROCS(0) {
		reading.Go(func() error {
			for i := next.Add(1) - 1; i < int64(len(ids)); i = next.Add(1) - 1 {
				set, _, err := s.holds(ids[i])
				if err != nil {
					next.Store(int64(len(ids))) // the others end too
					return err
				}
				found <- held{ids[i], set}
			}
			return nil
		})
	}
	var err error
	go func() { // ends when the readers have, which the loop below waits for
		err = reading.Wait()
		close(found)
	}()
	for h := range found {
		do(h.id, h.set)
	}
	return err
}

// holdWalk collects what can be reached, past what is damaged.
type holdWalk struct {
	s    *Store
	seen *roaring.Bitmap
	cut  bool // something that may lead on cannot be read
}

func (w *holdWalk) visit(id object.ID) error {
	loc, err := w.s.ordinalOf(id)
	switch {
	case errors.Is(err, ErrNoObject):
		w.cut = true
		return nil
	case err != nil:
		return err
	}
	if !w.seen.CheckedAdd(loc.ordinal) {
		return nil
	}
	err = w.s.eachChild(id, loc.kind, w.visit)
	if err != nil && !passing(err) && errors.Is(err, ErrDamaged) {
		w.cut = true
		return nil
	}
	return err
}

// mostBlind notes from when on it is not known what snapshots, or objects that leases hold, need, and returns the
// ordinal below which nothing may be condemned because of them. The caller holds mu.
func (s *Store) mostBlind(blind []object.ID) uint32 {
	was := s.blind
	s.blind = map[object.ID]uint32{}
	most := uint32(0)
	for _, id := range blind {
		at, ok := was[id]
		if !ok {
			at = s.next
		}
		s.blind[id] = at
		most = max(most, at)
	}
	return most
}
