package store

import (
	"maps"
	"slices"

	"candidharbor/core/object"
	"candidharbor/core/space"

	"github.com/RoaringBitmap/roaring/v2"
)

// Referenced returns the stored bytes that a snapshot needs.
func (s *Store) Referenced(id object.ID) (int64, error) {
	set, _, err := s.holds(id)
	if err != nil {
		return 0, err
	}
	return space.Sum(set, s.SizeOf), nil
}

// Freed returns exactly how many bytes of records leave the store once the given
// snapshots are removed and swept, all others staying.
func (s *Store) Freed(ids []object.ID) (int64, error) {
	n, err := s.FreedEach(ids)
	if err != nil {
		return 0, err
	}
	return n[0], nil
}

// FreedEach is Freed for several choices of snapshots, each for itself, in one pass over the
// censuses.
func (s *Store) FreedEach(choices ...[]object.ID) ([]int64, error) {
	type choice struct {
		going map[object.ID]bool
		space.Freeing
	}
	all := make([]choice, len(choices))
	for i, ids := range choices {
		all[i].going = map[object.ID]bool{}
		for _, id := range ids {
			all[i].going[id] = true
		}
	}
	err := s.eachHeld(s.Roots(), func(id object.ID, set *roaring.Bitmap) {
		for i := range all {
			all[i].Add(set, all[i].going[id])
		}
	})
	if err != nil {
		return nil, err
	}
	sums := make([]int64, len(all))
	for i := range all {
		sums[i] = space.Sum(all[i].Objects(), s.SizeOf)
	}
	return sums, nil
}

// ReferencedBy returns the stored bytes that any of the snapshots needs.
func (s *Store) ReferencedBy(ids []object.ID) (int64, error) {
	all := roaring.New()
	if err := s.eachHeld(ids, func(_ object.ID, set *roaring.Bitmap) { space.Include(all, set) }); err != nil {
		return 0, err
	}
	return space.Sum(all, s.SizeOf), nil
}

// Shares returns, for groups of snapshots that have none in common, the stored bytes that
// each group needs and those that nothing outside it needs. The censuses are read twice and
// not kept.
func (s *Store) Shares(groups ...[]object.ID) (needs, alone []int64, err error) {
	rest := map[object.ID]bool{}
	for _, id := range s.Roots() {
		rest[id] = true
	}
	for _, ids := range groups {
		for _, id := range ids {
			delete(rest, id)
		}
	}
	union := func(ids []object.ID) (*roaring.Bitmap, error) {
		all := roaring.New()
		return all, s.eachHeld(ids, func(_ object.ID, set *roaring.Bitmap) { space.Include(all, set) })
	}
	once, err := union(slices.Collect(maps.Keys(rest)))
	if err != nil {
		return nil, nil, err
	}
	shared := roaring.New()
	for _, ids := range groups {
		all, err := union(ids)
		if err != nil {
			return nil, nil, err
		}
		space.Include(shared, roaring.And(once, all))
		space.Include(once, all)
	}
	for _, ids := range groups {
		all, err := union(ids)
		if err != nil {
			return nil, nil, err
		}
		needs = append(needs, space.Sum(all, s.SizeOf))
		all.AndNot(shared)
		alone = append(alone, space.Sum(all, s.SizeOf))
	}
	return needs, alone, nil
}

// Own returns, for each snapshot, the stored bytes that no other needs: what comes back if it alone goes. The
// censuses are read twice and not kept.
func (s *Store) Own() (map[object.ID]int64, error) {
	all := s.Roots()
	once, again := roaring.New(), roaring.New()
	err := s.eachHeld(all, func(_ object.ID, set *roaring.Bitmap) {
		space.Include(again, roaring.And(once, set))
		space.Include(once, set)
	})
	if err != nil {
		return nil, err
	}
	once.AndNot(again)
	own := make(map[object.ID]int64, len(all))
	return own, s.eachHeld(all, func(id object.ID, set *roaring.Bitmap) {
		own[id] = space.Sum(roaring.And(set, once), s.SizeOf)
	})
}
