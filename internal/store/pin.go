package store

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"candidharbor/core/object"
)

// A pin is a durable lease without an age, for what a disk reads from the store for as long as it is there.
// Its name is pin-, what it is for, and a number that no other pin of the same has.

const pinPrefix = "pin-"

func isPin(name string) bool { return strings.HasPrefix(name, pinPrefix) }

// Pin holds objects, and all below them, until the pin is released. It is durable when it returns. Pins of
// one owner stand beside each other: a new one comes before the old one is released.
func (s *Store) Pin(owner string, ids ...object.ID) (*Lease, error) {
	l, err := s.newPin(owner)
	if err != nil {
		return nil, err
	}
	for _, id := range ids {
		ok, err := l.AcquireAny(id)
		if err == nil && !ok {
			err = fmt.Errorf("%w: %s", ErrNoObject, id)
		}
		if err != nil {
			l.Release()
			return nil, err
		}
	}
	err = errors.Join(l.persist(nil), l.Settle())
	if err == nil {
		err = syncDir(filepath.Join(s.dir, "leases"))
	}
	if err != nil {
		l.Release()
		return nil, explainFull(s.dir, err)
	}
	return l, nil
}

func (s *Store) newPin(owner string) (*Lease, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := 0
	for l := range s.leases {
		if p, k, ok := splitPin(l.name); ok && p == owner {
			n = max(n, k+1)
		}
	}
	return s.openLease(fmt.Sprintf("%s%s-%d", pinPrefix, owner, n))
}

// OpenPin makes a pin that a writer fills: what the writer flushes is held durably. Settle ends the filling.
func (s *Store) OpenPin(owner string) (*Lease, error) {
	l, err := s.newPin(owner)
	if err != nil {
		return nil, err
	}
	if err := syncDir(filepath.Join(s.dir, "leases")); err != nil {
		l.Release()
		return nil, explainFull(s.dir, err)
	}
	return l, nil
}

// AcquireAny holds an object that is known, also when it leads to what is damaged: what is whole of it stays.
func (l *Lease) AcquireAny(id object.ID) (bool, error) {
	l.s.mu.RLock()
	defer l.s.mu.RUnlock()
	loc, ok, err := l.s.lookup(&id)
	if ok {
		l.hold(id, loc.ordinal)
	}
	return ok, err
}

// HoldsAll reports whether the lease holds objects, all of them.
func (l *Lease) HoldsAll(ids ...object.ID) bool {
	l.s.mu.RLock()
	defer l.s.mu.RUnlock()
	for _, id := range ids {
		loc, ok, err := l.s.lookup(&id)
		if err != nil || !ok || !l.holds(loc.ordinal) {
			return false
		}
	}
	return true
}

// IsWhole reports whether an object is here, and nothing of what it leads to is known to be damaged.
func (s *Store) IsWhole(id object.ID) (bool, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	_, ok, err := s.present(&id)
	return ok, err
}

// Pins are those of an owner, the oldest first.
func (s *Store) Pins(owner string) []*Lease {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var all []*Lease
	for l := range s.leases {
		if p, _, ok := splitPin(l.name); ok && p == owner {
			all = append(all, l)
		}
	}
	slices.SortFunc(all, func(a, b *Lease) int {
		_, x, _ := splitPin(a.name)
		_, y, _ := splitPin(b.name)
		return x - y
	})
	return all
}

// PinOwners are the owners of all pins.
func (s *Store) PinOwners() []string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var owners []string
	for l := range s.leases {
		if p, _, ok := splitPin(l.name); ok && !slices.Contains(owners, p) {
			owners = append(owners, p)
		}
	}
	slices.Sort(owners)
	return owners
}

func splitPin(name string) (owner string, n int, ok bool) {
	rest, ok := strings.CutPrefix(name, pinPrefix)
	i := strings.LastIndexByte(rest, '-')
	if !ok || i < 0 {
		return "", 0, false
	}
	if _, err := fmt.Sscanf(rest[i+1:], "%d", &n); err != nil {
		return "", 0, false
	}
	return rest[:i], n, true
}
