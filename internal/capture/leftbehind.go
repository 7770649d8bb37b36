package capture

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"candidharbor/core/lineage"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
)

// LeftBehind says of a snapshot that another site took over without it, if one did; else it is zero.
func (s *Service) LeftBehind(row *catalog.Snapshot) (d Disorder, err error) {
	v, err := s.Catalog.VolumeOfLineage(row.Lineage)
	if errors.Is(err, catalog.ErrNone) {
		return d, nil // the first of its history
	} else if err != nil {
		return d, err
	}
	at := lineage.Position{Term: uint64(row.Term), Sequence: uint64(row.Sequence)}
	if s.authority.InLine(v, at, row.Taker()) {
		return d, nil
	}
	site, term := s.authority.Active(v)
	return Disorder{Cause: object.ArrivedLeft, Branch: fmt.Sprintf("%s-%d", row.Taker(), row.Term),
		Text: fmt.Sprintf("%s took over in term %d without it", site, term), Until: s.Clock.Now().Add(s.Left)}, nil
}

// Reconsider looks again which snapshots of a volume here were left behind, after another site has become active.
func (s *Service) Reconsider(v *catalog.Volume) (left int, err error) {
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return 0, err
	}
	for _, row := range rows {
		d, err := s.LeftBehind(row)
		if err != nil {
			return left, err
		}
		if d.Cause != "" {
			left++
		}
		if was := !row.LeftUntil.IsZero(); was == (d.Cause != "") {
			continue
		}
		if err := s.MarkLeft(row, d); err != nil {
			return left, err
		}
	}
	if len(rows) > 0 {
		s.run.Changed("snapshots", v.Name)
	}
	return left, nil
}

// MarkLeft notes that a snapshot was left behind, or, with no cause, that it was not.
func (s *Service) MarkLeft(row *catalog.Snapshot, d Disorder) error {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return err
	}
	m := &object.Mark{Kind: object.MarkAdmit, Root: id, At: s.Clock.Now().UnixNano(), Place: s.Place()}
	if d.Cause != "" {
		at := s.Clock.Now()
		if !row.Arrived.IsZero() {
			at = row.Arrived.Time
		}
		m.Kind, m.Cause, m.Branch, m.Text, m.Until = object.MarkArrival, d.Cause, d.Branch, d.Text, d.Until.UnixNano()
		m.At = max(m.At, at.UnixNano())
	}
	if err := s.Store.PutMark(m); err != nil {
		return err
	}
	fresh, err := s.records.MarkedAs(row)
	if err != nil {
		return err
	}
	s.Log.Info("whether a snapshot was left behind was looked at anew", "snapshot", row.ID, "volume", row.Volume, "left",
		d.Cause != "", "why", phrase.Printable([]byte(d.Text)))
	return s.Catalog.PutSnapshot(fresh)
}

// TakeLeft stores what a volume has that no snapshot of this site has, after another site took over. It returns the
// snapshot that has it, which is an old one where nothing was written since; nil: there is nothing of the volume.
func (s *Service) TakeLeft(ctx context.Context, j *run.Job, v *catalog.Volume) (*catalog.Snapshot, error) {
	release, err := s.run.Hold(ctx, run.KeyVolume.Of(v.Name))
	if err != nil {
		return nil, err
	}
	defer release()
	if _, err := os.Lstat(v.Path); !v.IsDisk() && errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	row, _, err := s.TakeHeld(ctx, j, nil, []string{v.Name}, v.Name, Taking{Cause: object.CauseLeft})
	if err != nil {
		return nil, err
	}
	d, err := s.LeftBehind(row)
	if err != nil || d.Cause == "" || !row.LeftUntil.IsZero() {
		return row, err
	}
	if err := s.MarkLeft(row, d); err != nil {
		return nil, err
	}
	return s.Catalog.Snapshot(row.ID)
}
