package store

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
)

// A census file holds one JSON line (root, epoch, heals, sum) and the roaring bitmap of
// the ordinals that the snapshot needs. It is derived: a mismatch means rebuild.
type censusHead struct {
	Root  object.ID `json:"root"`
	Epoch uint64    `json:"epoch"`
	Heals uint64    `json:"heals"`
	Sum   string    `json:"sum,omitempty"` // first 16 bytes of the BLAKE3 of the bitmap, in hexadecimal
}

func censusSum(bitmap []byte) string {
	sum := object.Sum(bitmap)
	return hex.EncodeToString(sum[:16])
}

func (s *Store) censusPath(id object.ID) string { return filepath.Join(s.dir, "census", id.String()) }

func (s *Store) stamp(id object.ID) censusHead {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return censusHead{Root: id, Epoch: s.epoch, Heals: s.heals}
}

func (s *Store) saveCensus(head censusHead, set *roaring.Bitmap) error {
	bitmap := bitmapBytes(set)
	head.Sum = censusSum(bitmap)
	line, err := json.Marshal(head)
	if err != nil {
		return err
	}
	s.counts.mu.Lock() // two may have counted the same
	defer s.counts.mu.Unlock()
	path := s.censusPath(head.Root)
	tmp := path + ".new"
	// No fsync: the file is derived, and a torn one fails to decode.
	if err := os.WriteFile(tmp, append(append(line, '\n'), bitmap...), 0o600); err != nil {
		os.Remove(tmp)
		return err
	}
	return os.Rename(tmp, path)
}

var errNoCensus = errors.New("no census of this epoch")

// loadCensus returns the census that was kept of a snapshot. It is not current when
// objects were put anew or lost since: then it only says what is to be held on to.
func (s *Store) loadCensus(id object.ID) (set *roaring.Bitmap, current bool, err error) {
	raw, err := os.ReadFile(s.censusPath(id))
	if err != nil {
		return nil, false, errNoCensus
	}
	line, bitmap, ok := bytes.Cut(raw, []byte{'\n'})
	var head censusHead
	if !ok || json.Unmarshal(line, &head) != nil || head.Sum != censusSum(bitmap) {
		return nil, false, errNoCensus
	}
	if set, err = bitmapFrom(bitmap); err != nil || set.IsEmpty() {
		return nil, false, errNoCensus
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if head.Root != id || head.Epoch != s.epoch {
		return nil, false, errNoCensus
	}
	current = head.Heals == s.heals && set.Maximum() < s.next &&
		!set.Intersects(s.gone) && !set.Intersects(s.lost) && !set.Intersects(s.stale)
	return set, current, nil
}

func (s *Store) dropCensus(id object.ID) {
	os.Remove(s.censusPath(id))
	s.counts.mu.Lock()
	defer s.counts.mu.Unlock()
	for k, c := range s.counts.byLineage {
		if c.root == id {
			c.lease.Release()
			delete(s.counts.byLineage, k)
		}
	}
}

// Census returns the ordinals that a snapshot needs, making the census when missing.
func (s *Store) Census(id object.ID) (*roaring.Bitmap, error) {
	set, current, err := s.loadCensus(id)
	if err == nil && current {
		return set, nil
	}
	root, _, err := s.Root(id)
	if err == nil {
		if set, err = s.takeCensus(id, root); err == nil {
			return set, nil
		}
	}
	s.removal.Lock() // one that is under way ends first, so that what is said here is true
	defer s.removal.Unlock()
	if !s.HasRoot(id) {
		return nil, fmt.Errorf("%w: the snapshot %s was removed", ErrNoObject, id)
	}
	return nil, fmt.Errorf("census of snapshot %s: %w", id, err)
}

// edgeCounts counts, for one tree, the edges from distinct objects to each object.
// Moving it to another tree costs what differs between the two: the new root is
// added, then the old one dropped, descending only where a count goes from 0 to 1 or
// from 1 to 0. The two roots of the lineage share nearly everything, so nearly
// everything goes from 1 to 2 and back at the top of what they share.
type edgeCounts struct {
	root  object.ID
	tops  []object.ID // children of the root
	epoch uint64
	heals uint64
	ones  *roaring.Bitmap
	more  map[uint32]uint32 // counts of 2 and above
	lease *Lease
	// met are objects looked up in this count: the children that a changed directory keeps
	// come up twice.
	met map[object.ID]location
}

const mostMet = 1 << 16

func newCounts(at censusHead) *edgeCounts {
	return &edgeCounts{epoch: at.Epoch, heals: at.Heals, ones: roaring.New(), more: map[uint32]uint32{}}
}

func (c *edgeCounts) find(s *Store, id object.ID) (location, error) {
	if loc, ok := c.met[id]; ok {
		return loc, nil
	}
	loc, err := s.ordinalOf(id)
	if err == nil && len(c.met) < mostMet {
		c.met[id] = loc
	}
	return loc, err
}

// countsCache keeps the newest tree's counts of the lineages counted last.
type countsCache struct {
	mu        sync.Mutex
	byLineage map[object.LineageID]*edgeCounts
}

const countsKept = 64

func (c *countsCache) init() { c.byLineage = map[object.LineageID]*edgeCounts{} }

// takeCensus makes and saves the census of a snapshot that is here.
func (s *Store) takeCensus(id object.ID, root *object.Root) (*roaring.Bitmap, error) {
	set, head, err := s.count(id, root)
	if err != nil {
		return nil, err
	}
	s.keepCensus(head, set)
	if !s.HasRoot(id) {
		// It was removed while it was counted, so what holds the counted tree may hold what is
		// condemned already. A removal from here on drops all this itself.
		s.dropCensus(id)
		return nil, ErrNoObject
	}
	return set, nil
}

// keepCensus saves a census; without the file it is taken again when it is asked for.
func (s *Store) keepCensus(head censusHead, set *roaring.Bitmap) {
	if err := s.saveCensus(head, set); err != nil {
		s.log.Warn("a census could not be kept; it is taken again when it is needed", "snapshot", head.Root, "error", err)
	}
}

// count returns the ordinals of all that a snapshot needs, which a lease or its root must
// hold meanwhile; an error says that something is missing.
func (s *Store) count(id object.ID, root *object.Root) (*roaring.Bitmap, censusHead, error) {
	s.counts.mu.Lock()
	defer s.counts.mu.Unlock()
	head := s.stamp(id)
	c := s.counts.byLineage[root.Lineage]
	delete(s.counts.byLineage, root.Lineage) // put back only when whole
	if c != nil && (c.epoch != head.Epoch || c.heals != head.Heals || s.moveCounts(c, id, root) != nil) {
		c.lease.Release()
		c = nil
	}
	if c == nil { // nothing is counted yet, or what was can no longer be read
		c = newCounts(head)
		c.lease = s.NewLease()
		if err := s.moveCounts(c, id, root); err != nil {
			c.lease.Release()
			return nil, head, err
		}
	}
	s.mu.RLock()
	damaged := c.ones.Intersects(s.taint)
	s.mu.RUnlock()
	if damaged {
		c.lease.Release()
		return nil, head, fmt.Errorf("%w: the tree of %s leads to objects that are damaged", ErrDamaged, id)
	}
	// The counted tree must stay readable until it is dropped again.
	old := c.lease
	c.lease = s.NewLease()
	c.lease.AcquireSet(c.ones)
	old.Release()
	for k, other := range s.counts.byLineage {
		if len(s.counts.byLineage) < countsKept {
			break
		}
		other.lease.Release()
		delete(s.counts.byLineage, k)
	}
	s.counts.byLineage[root.Lineage] = c
	return c.ones.Clone(), head, nil
}

// moveCounts makes c the counts of another tree of its lineage.
func (s *Store) moveCounts(c *edgeCounts, id object.ID, root *object.Root) error {
	c.met = map[object.ID]location{}
	defer func() { c.met = nil }()
	tops := tops(root)
	if err := s.addEdges(c, tops); err != nil {
		return err
	}
	for _, t := range c.tops {
		if err := s.dropEdge(c, t); err != nil {
			return err
		}
	}
	c.root, c.tops = id, tops
	return nil
}

func (s *Store) ordinalOf(id object.ID) (location, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.ordinalLocked(id)
}

// ordinalLocked is ordinalOf for a caller that holds mu.
func (s *Store) ordinalLocked(id object.ID) (location, error) {
	loc, ok, err := s.lookup(&id)
	if err == nil && !ok {
		err = fmt.Errorf("%w: %s", ErrNoObject, id)
	}
	return loc, err
}

// addEdges counts what leads to the tops, and what those lead to that nothing led to before. Objects are
// looked up many at a time, so that a first snapshot reads the index in its order.
func (s *Store) addEdges(c *edgeCounts, tops []object.ID) error {
	type node struct {
		id   object.ID
		kind object.Kind
	}
	var open []node // counted, their children not yet
	ends := slices.Clone(tops)
	for len(ends) > 0 {
		locs, err := s.ordinalsOf(ends)
		if err != nil {
			return err
		}
		for i, loc := range locs {
			if len(c.tops) > 0 && len(c.met) < mostMet { // else nothing is dropped after this
				c.met[ends[i]] = loc
			}
			if !c.ones.CheckedAdd(loc.ordinal) {
				c.more[loc.ordinal] = max(c.more[loc.ordinal], 1) + 1
			} else if loc.kind != object.KindChunk {
				open = append(open, node{ends[i], loc.kind})
			}
		}
		ends = ends[:0]
		for len(open) > 0 && len(ends) < lookedUpAtOnce { // the last first: what is open is bounded by the depth
			n := open[len(open)-1]
			open = open[:len(open)-1]
			err := s.eachChild(n.id, n.kind, func(child object.ID) error {
				ends = append(ends, child)
				return nil
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Store) dropEdge(c *edgeCounts, id object.ID) error {
	loc, err := c.find(s, id)
	if err != nil {
		return err
	}
	if n := c.more[loc.ordinal]; n > 0 {
		if n == 2 {
			delete(c.more, loc.ordinal)
		} else {
			c.more[loc.ordinal] = n - 1
		}
		return nil
	}
	if !c.ones.CheckedRemove(loc.ordinal) {
		return errors.New("edge counts do not match the tree")
	}
	return s.eachChild(id, loc.kind, func(child object.ID) error { return s.dropEdge(c, child) })
}

// eachChild visits the distinct children of an object.
func (s *Store) eachChild(id object.ID, kind object.Kind, visit func(object.ID) error) error {
	if kind == object.KindChunk {
		return nil
	}
	env, err := s.Get(id)
	if err != nil {
		return err
	}
	n := env.NumChildren()
	seen := make(map[object.ID]struct{}, n)
	for i := range n {
		child := env.Child(i)
		if _, dup := seen[child]; dup {
			continue
		}
		seen[child] = struct{}{}
		if err := visit(child); err != nil {
			return err
		}
	}
	return nil
}

// SizeOf returns the stored bytes of the object with an ordinal.
func (s *Store) SizeOf(ordinal uint32) int64 {
	_, n, _ := s.ObjectAt(ordinal)
	return n
}
