package store

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"candidharbor/core/object"
)

const maxRootRecord = 9 << 20

func rootName(id object.ID) string { return "roots/" + id.String() }

func (s *Store) loadRoots() error {
	after := ""
	for {
		names, err := s.media.List("roots", after, 10_000)
		if err != nil {
			return err
		}
		for _, n := range names {
			if id, err := object.ParseID(n); err == nil {
				s.roots[id] = struct{}{}
			}
			after = n
		}
		if len(names) < 10_000 {
			return nil
		}
	}
}

// Commit flushes, counts what the snapshot needs, puts the root record and releases the
// lease. What is not whole is refused. When it returns without an error the snapshot exists and survives any crash.
func (w *Writer) Commit(r *object.Root) (object.ID, error) {
	env, err := object.EncodeRoot(r)
	if err != nil {
		return object.ID{}, err
	}
	record, err := object.SignRecord(w.s.signKey(), "root", env)
	if err != nil {
		return object.ID{}, err
	}
	return w.CommitRecord(record)
}

// CommitRecord is Commit for a root record that is signed already.
func (w *Writer) CommitRecord(record []byte) (object.ID, error) {
	env, _, err := object.OpenRecord("root", record)
	if err != nil {
		return object.ID{}, err
	}
	root, err := object.DecodeRoot(env)
	if err != nil {
		return object.ID{}, err
	}
	if len(record) > maxRootRecord {
		return object.ID{}, fmt.Errorf("root record of %d bytes is too large", len(record))
	}
	if err := w.Flush(); err != nil {
		return object.ID{}, err
	}
	e, err := object.Decode(env)
	if err != nil {
		return object.ID{}, err
	}
	for _, child := range e.Children() {
		if err := w.Has(child); err != nil {
			return object.ID{}, fmt.Errorf("root: %w", err)
		}
	}
	id := object.Sum(env)
	// Counting proves that all of it is here before anybody is told that it is.
	set, head, err := w.s.count(id, root)
	if err != nil {
		return object.ID{}, fmt.Errorf("the snapshot would not be whole and is not kept: %w", err)
	}
	if err := putSmall(w.s.media, rootName(id), record); err != nil && !errors.Is(err, fs.ErrExist) {
		w.s.dropCensus(id)
		return id, explainFull(w.s.dir, err)
	}
	w.s.syncs.add()
	w.s.mu.Lock()
	w.s.roots[id] = struct{}{}
	w.s.rootNo++
	w.s.mu.Unlock()
	// The snapshot exists from here on.
	w.s.keepCensus(head, set)
	w.lease.Release()
	return id, nil
}

// HasRoot reports whether the snapshot exists here.
func (s *Store) HasRoot(id object.ID) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	_, ok := s.roots[id]
	return ok
}

// Roots returns all snapshot ids in no particular order.
func (s *Store) Roots() []object.ID {
	s.mu.RLock()
	defer s.mu.RUnlock()
	ids := make([]object.ID, 0, len(s.roots))
	for id := range s.roots {
		ids = append(ids, id)
	}
	return ids
}

// RootRecord returns the signed record of a snapshot.
func (s *Store) RootRecord(id object.ID) ([]byte, error) {
	raw, err := readSmall(s.media, rootName(id), maxRootRecord)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: no snapshot %s", ErrNoObject, id)
	}
	return raw, err
}

// Root returns a snapshot's root and the key that signed it.
func (s *Store) Root(id object.ID) (*object.Root, ed25519.PublicKey, error) {
	raw, err := s.RootRecord(id)
	if err != nil {
		return nil, nil, err
	}
	env, signer, err := object.OpenRecord("root", raw)
	if err == nil && object.Sum(env) != id {
		err = fmt.Errorf("root record %s: %w", id, ErrDamaged)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("snapshot %s: %w", id, err)
	}
	r, err := object.DecodeRoot(env)
	return r, signer, err
}

// RemoveRoots makes snapshots cease to exist, durably. Their bytes come back with a
// sweep.
func (s *Store) RemoveRoots(ids ...object.ID) error {
	names := make([]string, len(ids))
	for i, id := range ids {
		names[i] = rootName(id)
	}
	if err := s.unlinkRoots(ids, names); err != nil {
		return err
	}
	for _, id := range ids {
		s.dropCensus(id)
		marks, err := s.media.List("marks/"+id.String(), "", 1<<20)
		if err != nil {
			return err
		}
		for i := range marks {
			marks[i] = "marks/" + id.String() + "/" + marks[i]
		}
		if err := s.media.Remove(marks...); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) unlinkRoots(ids []object.ID, names []string) error {
	s.removal.Lock()
	defer s.removal.Unlock()
	if err := s.media.Remove(names...); err != nil {
		return err
	}
	s.syncs.add()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, id := range ids {
		delete(s.roots, id)
	}
	return nil
}

// SetKey changes the key that signs roots and marks from now on.
func (s *Store) SetKey(key ed25519.PrivateKey) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.key = key
}

func (s *Store) signKey() ed25519.PrivateKey {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.key
}

// PutMark signs a mark and puts it beside its snapshot. A sighting supersedes the
// earlier ones; they are removed after it is durable.
func (s *Store) PutMark(m *object.Mark) error {
	body, err := object.EncodeMark(m)
	if err != nil {
		return err
	}
	record, err := object.SignRecord(s.signKey(), "mark", body)
	if err != nil {
		return err
	}
	return s.PutMarkRecord(record)
}

// PutMarkRecord puts a mark that is signed already.
func (s *Store) PutMarkRecord(record []byte) error {
	body, _, err := object.OpenRecord("mark", record)
	if err != nil {
		return err
	}
	m, err := object.DecodeMark(body)
	if err != nil {
		return err
	}
	if !s.HasRoot(m.Root) {
		return fmt.Errorf("%w: a mark for the snapshot %s, which is not here", ErrNoObject, m.Root)
	}
	dir := "marks/" + m.Root.String()
	sum := object.Sum(body).String()[:16]
	name := fmt.Sprintf("%s/%s-%020d-%s", dir, m.Kind, m.At, sum)
	if err := putSmall(s.media, name, record); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return nil
		}
		return explainFull(s.dir, err)
	}
	s.syncs.add()
	if m.Kind != object.MarkSighting {
		return nil
	}
	names, err := s.media.List(dir, "", 1<<20)
	if err != nil {
		return err
	}
	var old []string
	for _, n := range names {
		if strings.HasPrefix(n, string(object.MarkSighting)+"-") && dir+"/"+n < name {
			old = append(old, dir+"/"+n)
		}
	}
	if len(old) > 0 {
		return s.media.Remove(old...)
	}
	return nil
}

// Marks returns a snapshot's marks, oldest first, and their signed records. Marks
// whose signature is wrong are left out and logged.
func (s *Store) Marks(id object.ID) ([]*object.Mark, [][]byte, error) {
	dir := "marks/" + id.String()
	names, err := s.media.List(dir, "", 1<<20)
	if err != nil {
		return nil, nil, err
	}
	type pair struct {
		m   *object.Mark
		raw []byte
	}
	var all []pair
	for _, n := range names {
		raw, err := readSmall(s.media, dir+"/"+n, 1<<20)
		if err != nil {
			return nil, nil, err
		}
		body, _, err := object.OpenRecord("mark", raw)
		if err == nil {
			var m *object.Mark
			if m, err = object.DecodeMark(body); err == nil && m.Root == id {
				all = append(all, pair{m, raw})
				continue
			}
		}
		s.log.Error("a mark is damaged and is ignored", "mark", dir+"/"+n, "error", err)
	}
	slices.SortStableFunc(all, func(a, b pair) int { return int(min(1, max(-1, a.m.At-b.m.At))) })
	marks, raws := make([]*object.Mark, len(all)), make([][]byte, len(all))
	for i, p := range all {
		marks[i], raws[i] = p.m, p.raw
	}
	return marks, raws, nil
}
