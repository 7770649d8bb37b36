package store

import (
	"context"
	"errors"

	"candidharbor/core/object"

	"github.com/RoaringBitmap/roaring/v2"
)

// HealResult is what healing came to.
type HealResult struct {
	Healed int         // damaged objects that were put anew
	Left   []object.ID // that nobody had
}

// Heal puts damaged objects anew from records that others have, and everything that leads
// to them. fetch returns a record for each identity, or nil; what it returns is checked.
func (s *Store) Heal(ctx context.Context, damaged []object.ID, fetch func(context.Context, []object.ID) ([][]byte, error)) (res HealResult, err error) {
	lease := s.NewLease()
	defer lease.Release()
	w := s.NewWriter(lease)
	defer w.Close()
	records, err := fetch(ctx, damaged)
	if err != nil {
		return res, err
	}
	good := map[object.ID][]byte{}
	for _, raw := range records {
		if h, err := checkRecord(raw); err == nil {
			good[h.id] = raw
		}
	}
	left, err := putClosed(ctx, w, damaged, func(id object.ID) ([]byte, error) {
		if raw := good[id]; raw != nil {
			return raw, nil
		}
		return nil, ErrNotClosed
	})
	if err != nil {
		return res, err
	}
	res.Left, res.Healed = left, len(damaged)-len(left)
	if res.Healed == 0 {
		return res, nil
	}
	// What leads to them is whole here, but absent because they were.
	s.mu.RLock()
	taint := s.taint.Clone()
	s.mu.RUnlock()
	var above []object.ID
	for it := taint.Iterator(); it.HasNext(); {
		id, _, _ := s.ObjectAt(it.Next())
		above = append(above, id)
	}
	if _, err := putClosed(ctx, w, above, func(id object.ID) ([]byte, error) { return s.Record(id, nil) }); err != nil {
		return res, err
	}
	return res, w.Flush()
}

// putClosed puts records in whatever order their children allow and returns those that
// could not be put, because they or what they need is missing.
func putClosed(ctx context.Context, w *Writer, todo []object.ID, record func(object.ID) ([]byte, error)) ([]object.ID, error) {
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
