package store

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"

	"candidharbor/core/object"
)

const (
	lookedUpAtOnce = 1 << 15
	lookUpGroup    = 128 // looked up under one lock, with a few reads
	windowBlocks   = 32
)

type asked struct {
	key uint64 // the first eight bytes of the identity
	at  int    // its place in what was asked
}

// ordinalsOf is ordinalOf for many. They are looked up in their order, so that blocks of the index that
// lie beside each other are read together.
func (s *Store) ordinalsOf(ids []object.ID) ([]location, error) {
	out := make([]location, len(ids))
	order := make([]asked, len(ids))
	for i := range ids {
		order[i] = asked{binary.BigEndian.Uint64(ids[i][:]), i}
	}
	slices.SortFunc(order, func(a, b asked) int { return cmp.Compare(a.key, b.key) })
	for group := range slices.Chunk(order, lookUpGroup) {
		together := false
		if len(group) >= lookUpGroup/4 {
			var err error
			if together, err = s.groupOrdinals(ids, group, out); err != nil {
				return nil, err
			}
		}
		if together {
			continue
		}
		for _, one := range group {
			var err error
			if out[one.at], err = s.ordinalOf(ids[one.at]); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// groupOrdinals looks a group up whose keys ascend. Not done: it lies so far apart in a run that each needs a
// read of its own, for which the lock is not held on and on.
func (s *Store) groupOrdinals(ids []object.ID, group []asked, out []location) (done bool, err error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	views := make([]runView, len(s.runs)) // runs may be merged between two groups
	for i, r := range s.runs {
		if !views[i].open(r, group[0].key, group[len(group)-1].key, len(group)) {
			return false, nil
		}
	}
	for _, one := range group {
		loc, ok, err := s.lookupIn(views, &ids[one.at])
		if err == nil && !ok {
			err = fmt.Errorf("%w: %s", ErrNoObject, ids[one.at])
		}
		if err != nil {
			return false, err
		}
		out[one.at] = loc
	}
	return true, nil
}

// lookupIn is lookup by views of the runs; nil: each is read for this object alone. The caller holds mu.
func (s *Store) lookupIn(views []runView, id *object.ID) (location, bool, error) {
	if loc, ok := s.mem[*id]; ok {
		return loc, true, nil
	}
	for i := len(s.runs) - 1; i >= 0; i-- {
		var loc location
		var ok bool
		var err error
		if views != nil {
			loc, ok, err = views[i].find(id)
		} else {
			loc, ok, err = s.runs[i].find(id)
		}
		if err != nil {
			return loc, false, err
		}
		if ok && !s.gone.Contains(loc.ordinal) {
			return loc, true, nil
		}
	}
	return location{}, false, nil
}

// runView finds identities that ascend in a run, and keeps the blocks read last.
type runView struct {
	r       *run
	buf     []byte
	from, n int // the blocks in buf
}

// open looks at a run for so many identities between two keys, and reports whether they lie close.
func (v *runView) open(r *run, low, high uint64, ids int) bool {
	v.r = r
	first, _ := slices.BinarySearch(r.fences, low)
	last, _ := slices.BinarySearch(r.fences, high)
	v.buf = make([]byte, 0, min(windowBlocks, last-first+2)*fenceStep*entrySize)
	return last-first < 4*ids
}

func (v *runView) find(id *object.ID) (location, bool, error) {
	r := v.r
	if !probe(r.filter, id, func(i int, bit uint64) bool { return r.filter[i]&bit != 0 }) {
		return location{}, false, nil
	}
	key := binary.BigEndian.Uint64(id[:])
	block, _ := slices.BinarySearch(r.fences, key)
	// Identities that share eight bytes may begin in the block before.
	for block = max(0, block-1); block < len(r.fences) && r.fences[block] <= key; block++ {
		b, err := v.block(block)
		if err != nil {
			return location{}, false, err
		}
		if at := entryIn(b, id); at >= 0 {
			return getEntry(b[at:]).location, true, nil
		}
	}
	return location{}, false, nil
}

func (v *runView) block(i int) ([]byte, error) {
	const size = fenceStep * entrySize
	if i < v.from || i >= v.from+v.n {
		entries := min(cap(v.buf)/entrySize, v.r.n-i*fenceStep)
		v.buf, v.n = v.buf[:entries*entrySize], 0
		if _, err := v.r.f.ReadAt(v.buf, runHead+int64(i)*size); err != nil {
			return nil, err
		}
		v.from, v.n = i, (entries+fenceStep-1)/fenceStep
	}
	return v.buf[(i-v.from)*size : min((i-v.from+1)*size, len(v.buf))], nil
}
