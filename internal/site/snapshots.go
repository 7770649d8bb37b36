package site

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/chunker"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"
	"candidharbor/internal/visible"
	"candidharbor/internal/volume/tree"
)

// taking is what a snapshot run is asked for.
type taking struct {
	cause object.Cause
	ask   api.SnapshotTake
	// onChange says that nothing was to be taken unless something changed.
	onChange bool
}

// TakeSnapshot starts a snapshot by hand.
func (s *Site) TakeSnapshot(volume string, ask api.SnapshotTake, by string) (api.Run, error) {
	v, err := s.cat.Volume(volume)
	if err != nil {
		return api.Run{}, err
	}
	if err := s.takeable(v); err != nil {
		return api.Run{}, err
	}
	_, members, err := s.groupOf(v.Name)
	if err != nil {
		return api.Run{}, err
	}
	for _, name := range members {
		m, err := s.cat.Volume(name)
		if err != nil {
			return api.Run{}, err
		}
		if why, _, err := s.full(m); err != nil {
			return api.Run{}, err
		} else if why != "" {
			return api.Run{}, conflict("nothing was taken of %s: %s", v.Name, why)
		}
	}
	if ask.KeepUntil != nil && !ask.KeepUntil.After(s.clock.Now()) {
		return api.Run{}, bad("keep-until %s has passed already: give a time to come", ask.KeepUntil.Format(time.RFC3339))
	}
	j, err := s.startSnapshot(v.Name, taking{cause: object.CauseByHand, ask: ask}, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

func (s *Site) takeable(v *catalog.Volume) error {
	if v.Origin != s.Name() {
		return conflict("volume %s belongs to the site %s: take its snapshots there", v.Name, v.Origin)
	}
	if !v.Protected {
		return conflict("volume %s is no longer protected: add it again first, with candid volume add %s --path %s", v.Name, v.Name, visible.Word(v.Path))
	}
	return nil
}

func (s *Site) startSnapshot(volume string, t taking, by string) (*job, error) {
	if s.isPlace {
		return nil, errPlaceHolds
	}
	g, members, err := s.groupOf(volume)
	if err != nil {
		return nil, err
	}
	subject := volume
	if g != nil {
		subject = g.Name
	}
	return s.start("snapshot", subject, by, func(ctx context.Context, j *job) (any, string, error) {
		row, outcome, err := s.takeAll(ctx, j, g, members, volume, t)
		if err != nil {
			return nil, "", err
		}
		view, err := s.snapshotView(row, nil)
		return view, outcome, err
	})
}

// chunkerOf returns the lineage's pinned chunker.
func chunkerOf(v *catalog.Volume) (*chunker.Chunker, error) {
	p, err := chunker.ForAverage(v.ChunkAvg)
	if err != nil {
		return nil, fmt.Errorf("volume %s: %w", v.Name, err)
	}
	return chunker.New(p), nil
}

func (s *Site) scanCache(v *catalog.Volume) *tree.Cache {
	return tree.OpenCache(filepath.Join(s.dir, "scan"), v.Lineage, settingsOf(v))
}

func remarkWords(n int64) string {
	switch n {
	case 0:
		return ""
	case 1:
		return "; 1 remark"
	}
	return fmt.Sprintf("; %d remarks", n)
}

func explainScan(v *catalog.Volume, err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	var full *store.FullError
	if errors.As(err, &full) {
		return &Error{Full, err}
	}
	if said := (*Error)(nil); errors.As(err, &said) {
		return err
	}
	return fmt.Errorf("volume %s: %w", v.Name, err)
}

// sameTop compares the top directory's own metadata, which is not in the tree.
func (s *Site) sameTop(last *catalog.Snapshot, res *tree.Scanned) bool {
	id, err := object.ParseID(last.ID)
	if err != nil {
		return false
	}
	root, _, err := s.store.Root(id)
	return err == nil && root.Tree() == res.Top.Content && root.Top.Mode == res.Top.Mode && root.Top.UID == res.Top.UID &&
		root.Top.GID == res.Top.GID && root.Top.MTime == res.Top.MTime
}

// sighted notes that the newest snapshot was found unchanged.
func (s *Site) sighted(last *catalog.Snapshot, until time.Time, watched bool) error {
	id, err := object.ParseID(last.ID)
	if err != nil {
		return err
	}
	if watched {
		last.WatchedUntil = catalog.At(until)
	}
	m := object.Mark{Kind: object.MarkSighting, Root: id, At: until.UnixNano(), Until: until.UnixNano(), Place: s.Place()}
	if !last.WatchedUntil.IsZero() {
		m.Watched = last.WatchedUntil.UnixNano()
	}
	if err := s.store.PutMark(&m); err != nil {
		return err
	}
	last.SeenUntil = catalog.At(until)
	s.reached(last.Volume, last.Place, until)
	return s.cat.Sighted(last.Place, last.ID, until, last.WatchedUntil.Time)
}

// printable writes bytes of a path as UTF-8; what is not is written as %XX.
func printable(b []byte) string {
	var out strings.Builder
	for _, r := range splitRunes(b) {
		out.WriteString(r)
	}
	return out.String()
}
