package capture

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"golang.org/x/sys/unix"

	"candidharbor/core/lineage"
	"candidharbor/core/object"
	"candidharbor/internal/beneath"
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
	return s.leftBehind(v, row), nil
}

func (s *Service) leftBehind(v *catalog.Volume, row *catalog.Snapshot) (d Disorder) {
	at := lineage.Position{Term: uint64(row.Term), Sequence: uint64(row.Sequence)}
	if s.authority.InLine(v, at, row.Taker()) {
		return d
	}
	site, term := s.authority.Active(v)
	return Disorder{Cause: object.ArrivedLeft, Branch: fmt.Sprintf("%s-%d", row.Taker(), row.Term),
		Text: fmt.Sprintf("%s took over in term %d without it", site, term), Until: s.Clock.Now().Add(s.Left)}
}

// Reconsider looks again which snapshots of a volume here were left behind, after another site has become active.
func (s *Service) Reconsider(v *catalog.Volume) error {
	rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
	if err != nil {
		return err
	}
	s.weighing.Lock() // whoever is last goes by what is known last
	defer s.weighing.Unlock()
	changed := false
	for _, row := range rows {
		if s.leftBehind(v, row).Cause != "" == row.LeftUntil.IsZero() {
			if err := s.weigh(v, row.ID); err != nil {
				return err
			}
			changed = true
		}
	}
	if changed {
		s.run.Changed("snapshots", v.Name)
	}
	return nil
}

// Weigh is Reconsider of one snapshot, which has just arrived: another site may have become active meanwhile.
func (s *Service) Weigh(row *catalog.Snapshot) error {
	v, err := s.Catalog.VolumeOfLineage(row.Lineage)
	if err != nil {
		return err
	}
	if s.leftBehind(v, row).Cause != "" != row.LeftUntil.IsZero() {
		return nil
	}
	s.weighing.Lock()
	defer s.weighing.Unlock()
	return s.weigh(v, row.ID)
}

func (s *Service) weigh(v *catalog.Volume, id string) error {
	row, err := s.Catalog.SnapshotAt(s.Place(), id)
	if err != nil || row == nil { // removed meanwhile
		return err
	}
	if d := s.leftBehind(v, row); d.Cause != "" == row.LeftUntil.IsZero() {
		return s.markLeft(row, d)
	}
	return nil
}

// markLeft notes that a snapshot was left behind, or, with no cause, that it was not.
func (s *Service) markLeft(row *catalog.Snapshot, d Disorder) error {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return err
	}
	m := &object.Mark{Kind: object.MarkAdmit, Root: id, At: s.Clock.Now().UnixNano(), Place: s.Place()}
	if d.Cause != "" {
		m.Kind, m.Cause, m.Branch, m.Text, m.Until = object.MarkArrival, d.Cause, d.Branch, d.Text, d.Until.UnixNano()
	}
	said, _, err := s.Store.Marks(id)
	if err != nil {
		return err
	}
	for _, o := range said { // what is said last counts, whatever the clock did since
		if o.Kind == object.MarkArrival || o.Kind == object.MarkAdmit {
			m.At = max(m.At, o.At+1)
		}
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

// TakeLeft stores what a volume has that no snapshot of this site has, after another site took over in a term.
// It returns the
// snapshot that has it, which is an old one where nothing was written since; nil: there is nothing of the volume.
func (s *Service) TakeLeft(ctx context.Context, j *run.Job, v *catalog.Volume, term uint64) (*catalog.Snapshot,
	error) {
	release, err := s.run.Hold(ctx, run.KeyVolume.Of(v.Name))
	if err != nil {
		return nil, err
	}
	defer release()
	if !v.IsDisk() {
		dir, root, err := s.Fixed(v.Path)
		if err != nil {
			return nil, err
		}
		fd, err := beneath.Open(root, dir)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, nil
		} else if err != nil {
			return nil, err
		}
		unix.Close(fd)
	}
	row, _, err := s.TakeHeld(ctx, j, nil, []string{v.Name}, v.Name, Taking{Cause: object.CauseLeft, before: term})
	if err != nil {
		return nil, err
	}
	if err := s.Weigh(row); err != nil {
		return nil, err
	}
	return s.Catalog.SnapshotAt(s.Place(), row.ID)
}

// LetLeftGo ends the time for which a snapshot is kept that was left behind.
func (s *Service) LetLeftGo(row *catalog.Snapshot) error {
	s.weighing.Lock()
	defer s.weighing.Unlock()
	return s.markLeft(row, Disorder{Cause: object.ArrivedLeft, Branch: row.Branch, Text: row.OutOfTurn,
		Until: s.Clock.Now()})
}
