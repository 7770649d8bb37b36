package capture

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"candidharbor/api"
	"candidharbor/core/chunker"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
	"candidharbor/internal/visible"
	"candidharbor/internal/volume/tree"
)

// Taking is what a snapshot run is asked for.
type Taking struct {
	Cause object.Cause
	Ask   api.SnapshotTake
	// onChange says that nothing was to be taken unless something changed.
	onChange bool
	// before is, of what was left behind, the term in which another site is active.
	before uint64
}

// IfChanged is what is taken of volumes before they are handed over: nothing where nothing changed.
func IfChanged() Taking { return Taking{Cause: object.CauseScheduled, onChange: true} }

// TakeSnapshot starts a snapshot by hand.
func (s *Service) TakeSnapshot(volume string, ask api.SnapshotTake, by string) (api.Run, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return api.Run{}, err
	}
	if err := s.takeable(v); err != nil {
		return api.Run{}, err
	}
	_, members, err := s.GroupOf(v.Name)
	if err != nil {
		return api.Run{}, err
	}
	for _, name := range members {
		m, err := s.Catalog.Volume(name)
		if err != nil {
			return api.Run{}, err
		}
		if why, _, err := s.rules.Full(m); err != nil {
			return api.Run{}, err
		} else if why != "" {
			return api.Run{}, refusal.Conflictf("nothing was taken of %s: %s", v.Name, why)
		}
	}
	if ask.KeepUntil != nil && !ask.KeepUntil.After(s.Clock.Now()) {
		return api.Run{}, refusal.Badf("keep-until %s has passed already: give a time to come",
			ask.KeepUntil.Format(time.RFC3339))
	}
	j, err := s.StartSnapshot(v.Name, Taking{Cause: object.CauseByHand, Ask: ask}, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

func (s *Service) takeable(v *catalog.Volume) error {
	if !v.ActiveAt(s.Name()) {
		return s.authority.NotActive(v)
	}
	if !v.Protected {
		return refusal.Conflictf("volume %s is no longer protected: add it again first, with candid volume add %s --path %s",
			v.Name, v.Name, visible.Word(v.Path))
	}
	if b, err := s.Catalog.StandBack(v.Lineage); err != nil {
		return err
	} else if b != nil {
		return refusal.Conflictf("%s was served elsewhere since it was served here, and is taken again once it was brought "+
			"up by a failover: candid failover list", v.Name)
	}
	return nil
}

// StartSnapshot begins to take a volume.
func (s *Service) StartSnapshot(volume string, t Taking, by string) (*run.Job, error) {
	if s.IsPlace {
		return nil, pairing.ErrPlaceHolds
	}
	g, members, err := s.GroupOf(volume)
	if err != nil {
		return nil, err
	}
	subject := volume
	if g != nil {
		subject = g.Name
	}
	return s.run.Start("snapshot", subject, by, func(ctx context.Context, j *run.Job) (any, string, error) {
		row, outcome, err := s.takeAll(ctx, j, g, members, volume, t)
		if err != nil {
			return nil, "", err
		}
		view, err := s.rules.SnapshotView(row, nil)
		return view, outcome, err
	})
}

// ChunkerOf returns the lineage's pinned chunker.
func ChunkerOf(v *catalog.Volume) (*chunker.Chunker, error) {
	p, err := chunker.ForAverage(v.ChunkAvg)
	if err != nil {
		return nil, fmt.Errorf("volume %s: %w", v.Name, err)
	}
	return chunker.New(p), nil
}

// ScanCache is what was seen of a volume's files before, by readings that left out the same.
func (s *Service) ScanCache(v *catalog.Volume, leave []string) *tree.Cache {
	return tree.OpenCache(filepath.Join(s.Path, "scan"), v.Lineage, settingsOf(v, leave))
}

// RemarkWords tells of entries that could not be read as they should.
func RemarkWords(n int64) string {
	switch n {
	case 0:
		return ""
	case 1:
		return "; 1 remark"
	}
	return fmt.Sprintf("; %d remarks", n)
}

// ExplainScan says what a person can do about a scan that failed.
func ExplainScan(v *catalog.Volume, err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	var full *store.FullError
	if errors.As(err, &full) {
		return refusal.Wrap(refusal.Full, err)
	}
	if said := (*refusal.Error)(nil); errors.As(err, &said) {
		return err
	}
	return fmt.Errorf("volume %s: %w", v.Name, err)
}

// sameTop compares the top directory's own metadata, which is not in the tree.
func (s *Service) sameTop(last *catalog.Snapshot, res *tree.Scanned) bool {
	id, err := object.ParseID(last.ID)
	if err != nil {
		return false
	}
	root, _, err := s.Store.Root(id)
	return err == nil && root.Tree() == res.Top.Content && root.Top.Mode == res.Top.Mode && root.Top.UID == res.Top.UID &&
		root.Top.GID == res.Top.GID && root.Top.MTime == res.Top.MTime
}

// sighted notes that the newest snapshot was found unchanged.
func (s *Service) sighted(last *catalog.Snapshot, until time.Time, watched bool) error {
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
	if err := s.Store.PutMark(&m); err != nil {
		return err
	}
	last.SeenUntil = catalog.At(until)
	s.rules.Reached(last.Volume, last.Place, until)
	if err := s.Catalog.Sighted(last.Place, last.ID, until, last.WatchedUntil.Time); err != nil {
		return err
	}
	s.onSighted(last.Lineage, until)
	return nil
}
