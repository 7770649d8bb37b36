package store

import (
	"bytes"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"candidharbor/core/object"

	"golang.org/x/sync/errgroup"
)

const (
	maxRootRecord = 9 << 20
	maxMark       = 1 << 20
)

func rootName(id object.ID) string { return "roots/" + id.String() }

// listAtOnce is how many names are listed at once where all are wanted: a directory is read
// whole for each page of it.
const listAtOnce = 1 << 22

func (s *Store) loadRoots() error {
	after := ""
	for {
		names, err := s.media.List("roots", after, listAtOnce)
		if err != nil {
			return err
		}
		for _, n := range names {
			if id, err := object.ParseID(n); err == nil {
				s.roots[id] = struct{}{}
			}
			after = n
		}
		if len(names) < listAtOnce {
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
	// Counting proves that all of it is here before anybody hears that it is.
	set, head, err := w.s.count(id, root)
	if err != nil {
		return object.ID{}, fmt.Errorf("the snapshot would not be whole and is not kept: %w", err)
	}
	err = w.s.putRoot(id, record)
	var unclear *UnclearError
	if err != nil && !errors.As(err, &unclear) {
		w.s.dropCensus(id)
		return id, explainFull(w.s.dir, err)
	}
	w.s.syncs.add()
	w.s.mu.Lock()
	w.s.roots[id] = struct{}{}
	w.s.rootNo++
	w.s.mu.Unlock()
	// The snapshot exists from here on. Where the disk did not confirm the record's name it
	// is kept whole all the same, and the error says that a power cut may undo it.
	w.s.keepCensus(head, set)
	w.lease.Release()
	return id, err
}

// putRoot puts a root record. One that is there already is confirmed; where it is not what
// it should be, the good one replaces it.
func (s *Store) putRoot(id object.ID, record []byte) error {
	err := putSmall(s.media, rootName(id), record)
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if _, _, err := s.Root(id); err == nil {
		return s.media.Confirm(rootName(id))
	} else if passing(err) {
		return err
	}
	s.log.Info("the damaged record of a snapshot is replaced by a good one", "snapshot", id)
	return s.replaceRoot(id, record)
}

// replaceRoot sets a good record in place of a damaged one, in one step.
func (s *Store) replaceRoot(id object.ID, record []byte) error {
	s.removal.Lock()
	defer s.removal.Unlock()
	return s.media.Replace(rootName(id), record)
}

// HealRoot sets a good record of a snapshot, as another site has it, in place of a damaged
// one.
func (s *Store) HealRoot(record []byte) (object.ID, error) {
	env, _, err := object.OpenRecord("root", record)
	if err != nil {
		return object.ID{}, err
	}
	if _, err := object.DecodeRoot(env); err != nil {
		return object.ID{}, err
	}
	id := object.Sum(env)
	if !s.HasRoot(id) {
		return id, fmt.Errorf("%w: no snapshot %s", ErrNoObject, id)
	}
	if _, _, err := s.Root(id); err == nil || passing(err) {
		return id, err
	}
	return id, s.replaceRoot(id, record)
}

// HasRoot reports whether the snapshot exists here.
func (s *Store) HasRoot(id object.ID) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	_, ok := s.roots[id]
	return ok
}

// stillThere is HasRoot after any removal that is under way, so that what is said of a
// snapshot whose record cannot be read is true.
func (s *Store) stillThere(id object.ID) bool {
	s.removal.Lock()
	defer s.removal.Unlock()
	return s.HasRoot(id)
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
	var marks []string
	for _, id := range ids {
		s.dropCensus(id)
		names, err := s.media.List("marks/"+id.String(), "", 1<<20)
		if err != nil {
			return err
		}
		for _, n := range names {
			marks = append(marks, "marks/"+id.String()+"/"+n)
		}
	}
	return s.media.Remove(marks...)
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

// SigningKey is the key that signs what this site says.
func (s *Store) SigningKey() ed25519.PrivateKey { return s.signKey() }

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

// PutMarks puts marks of one kind of many snapshots, all of them durable when it returns.
// Marks for snapshots that are not here are left out.
func (s *Store) PutMarks(marks []*object.Mark) error {
	var here []*object.Mark
	for _, m := range marks {
		if m.Kind == object.MarkSighting {
			return errors.New("sightings are put one by one")
		}
		if s.HasRoot(m.Root) {
			here = append(here, m)
		}
	}
	names, records, key := make([]string, len(here)), make([][]byte, len(here)), s.signKey()
	var signing errgroup.Group
	signing.SetLimit(runtime.GOMAXPROCS(0))
	for from := 0; from < len(here); from += 256 {
		signing.Go(func() error {
			for i := from; i < min(from+256, len(here)); i++ {
				body, err := object.EncodeMark(here[i])
				if err != nil {
					return err
				}
				if records[i], err = object.SignRecord(key, "mark", body); err != nil {
					return err
				}
				names[i] = markName(here[i], body)
			}
			return nil
		})
	}
	if err := signing.Wait(); err != nil {
		return err
	}
	if len(names) == 0 {
		return nil
	}
	s.syncs.add()
	return explainFull(s.dir, s.media.PutAll(names, records))
}

func markName(m *object.Mark, body []byte) string {
	return fmt.Sprintf("marks/%s/%s-%020d-%s", m.Root, m.Kind, m.At, object.Sum(body).String()[:16])
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
	name := markName(m, body)
	err = putSmall(s.media, name, record)
	if errors.Is(err, fs.ErrExist) { // what put it may not have learnt that it is durable
		if raw, rerr := readSmall(s.media, name, maxMark); rerr == nil && bytes.Equal(raw, record) {
			err = s.media.Confirm(name)
		} else if !passing(rerr) {
			err = s.media.Replace(name, record)
		}
	}
	if err != nil {
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

// badMarks returns the marks of a snapshot that are not what was written.
func (s *Store) badMarks(id object.ID) (bad []BadRecord, err error) {
	dir := "marks/" + id.String()
	names, err := s.media.List(dir, "", 1<<20)
	for _, n := range names {
		raw, err := readSmall(s.media, dir+"/"+n, maxMark)
		if err == nil {
			var body []byte
			if body, _, err = object.OpenRecord("mark", raw); err == nil {
				_, err = object.DecodeMark(body)
			}
		}
		if errors.Is(err, fs.ErrNotExist) || passing(err) {
			continue // removed meanwhile, or to be asked again
		}
		if err != nil {
			bad = append(bad, BadRecord{Snapshot: id, File: dir + "/" + n, What: err.Error()})
		}
	}
	return bad, err
}

// SetMarkAside takes a damaged mark away from its snapshot. The file is kept until a
// verification finds all whole.
func (s *Store) SetMarkAside(file string) error {
	if dir, _, ok := strings.Cut(file, "/"); !ok || dir != "marks" || strings.Contains(file, "..") {
		return fmt.Errorf("%q is not the file of a mark", file)
	}
	s.putAside(file)
	return syncDir(filepath.Join(s.dir, filepath.Dir(file)))
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
		raw, err := readSmall(s.media, dir+"/"+n, maxMark)
		if errors.Is(err, fs.ErrNotExist) {
			continue // superseded meanwhile
		}
		if passing(err) {
			return nil, nil, err
		}
		var body []byte
		if err == nil {
			body, _, err = object.OpenRecord("mark", raw)
		}
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
