package store

import (
	"context"
	"errors"
	"slices"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
)

// HealResult is what healing came to.
type HealResult struct {
	Healed int         // damaged objects that were put anew
	Left   []object.ID // that nobody had
}

// Heal puts damaged and missing objects anew from records that others have, what is missing
// below them too, and everything that leads to them. fetch returns a record for each
// identity, or nil; what it returns is checked.
func (s *Store) Heal(ctx context.Context, damaged []object.ID, fetch func(context.Context, []object.ID) ([][]byte,
	error)) (res HealResult, err error) {
	lease := s.NewLease()
	defer lease.Release()
	w := s.NewWriter(lease)
	defer w.Close()
	good := map[object.ID][]byte{}
	all := slices.Clone(damaged)
	for ask := damaged; len(ask) > 0; {
		records, err := fetch(ctx, ask)
		if err != nil {
			return res, err
		}
		if ask, err = s.below(records, good); err != nil {
			return res, err
		}
		all = append(all, ask...)
	}
	left, err := putClosed(ctx, w, all, func(id object.ID) ([]byte, error) {
		if raw := good[id]; raw != nil {
			return raw, nil
		}
		return nil, ErrNotClosed
	})
	if err != nil {
		return res, err
	}
	for _, id := range left {
		if slices.Contains(damaged, id) {
			res.Left = append(res.Left, id)
		}
	}
	res.Healed = len(damaged) - len(res.Left)
	if res.Healed == 0 {
		return res, nil
	}
	// What leads to them is whole here, but absent because they were.
	s.mu.RLock()
	taint := s.taint.Clone()
	s.mu.RUnlock()
	var above []object.ID
	for it := taint.Iterator(); it.HasNext(); {
		if id, _, _ := s.ObjectAt(it.Next()); !id.IsZero() {
			above = append(above, id)
		}
	}
	if _, err := putClosed(ctx, w, above, func(id object.ID) ([]byte, error) { return s.Record(id, nil) }); err != nil {
		return res, err
	}
	return res, w.Flush()
}

// below adds whole records to good and returns what they need that is neither here nor
// there.
func (s *Store) below(records [][]byte, good map[object.ID][]byte) (lacking []object.ID, err error) {
	for _, raw := range records {
		id, _, err := OpenRecord(raw)
		if err == nil {
			good[id] = raw
		}
	}
	asked := map[object.ID]bool{}
	for _, raw := range records {
		_, env, err := OpenRecord(raw)
		if err != nil {
			continue
		}
		for i := range env.NumChildren() {
			child := env.Child(i)
			s.mu.RLock()
			_, ok, err := s.lookup(&child)
			s.mu.RUnlock()
			if err != nil {
				return nil, err
			}
			if !ok && good[child] == nil && !asked[child] {
				asked[child] = true
				lacking = append(lacking, child)
			}
		}
	}
	return lacking, nil
}

// putClosed puts records in whatever order their children allow and returns those that
// could not be put, because they or what they need is missing.
func putClosed(ctx context.Context, w *Writer, todo []object.ID, record func(object.ID) ([]byte, error)) ([]object.ID,
	error) {
	for {
		var wait []object.ID
		for _, id := range todo {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			raw, err := record(id)
			if err == nil {
				_, err = w.PutRecord(raw)
			}
			if errors.Is(err, ErrNotClosed) || errors.Is(err, ErrDamaged) || errors.Is(err, ErrNoObject) {
				wait = append(wait, id)
			} else if err != nil {
				return nil, err
			}
		}
		if len(wait) == len(todo) {
			return wait, nil
		}
		todo = wait
	}
}

// Contains reports whether an object that is here is in a set, such as a census.
func (s *Store) Contains(set *roaring.Bitmap, id object.ID) bool {
	loc, err := s.ordinalOf(id)
	return err == nil && set.Contains(loc.ordinal)
}
