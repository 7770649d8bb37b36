package site

import (
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
)

// holdSetting is the setting that says why nothing is removed.
const holdSetting = "removal held"

// reconcile brings the catalogue in line with the store after a crash or a loss.
func (s *Site) reconcile() error {
	known, err := s.cat.SnapshotIDs(s.Place())
	if err != nil {
		return err
	}
	roots, err := s.dropDerived(s.store.Roots())
	if err != nil {
		return err
	}
	have := make(map[string]bool, len(known))
	for _, id := range known {
		have[id] = true
	}
	var lost []object.ID
	for _, id := range roots {
		if !have[id.String()] {
			lost = append(lost, id)
		}
		delete(have, id.String())
	}
	var dead []string
	for id := range have {
		dead = append(dead, id)
	}
	if len(dead) > 0 {
		s.log.Info("snapshots that the store does not have were taken from the catalogue", "snapshots", len(dead))
		if err := s.cat.ForgetSnapshots(s.Place(), dead...); err != nil {
			return err
		}
	}
	if len(lost) == 0 {
		return nil
	}
	// A catalogue that knows volumes was not lost: what it lacks a crash left. Of a single
	// snapshot nothing could be removed in any case.
	vols, err := s.cat.Volumes()
	if err != nil {
		return err
	}
	rebuilt := len(known) == 0 && len(vols) == 0 && len(lost) > 1
	if !rebuilt {
		if lost, err = s.dropTorn(lost); err != nil {
			return err
		}
	}
	s.log.Info("snapshots that the catalogue lacks are taken up from the store", "snapshots", len(lost))
	if err := s.takeUp(lost); err != nil {
		return err
	}
	if rebuilt {
		return s.cat.Set(holdSetting, fmt.Sprintf("the catalogue was rebuilt from the store on %s; look at what is there, put your policies back, then release it with: candid store release", s.clock.Now().Format("2006-01-02 15:04")))
	}
	return nil
}

// RebuildCatalogue makes the records of volumes and snapshots anew from the store and
// holds all removal until a person releases it.
func (s *Site) RebuildCatalogue() (int, error) {
	known, err := s.cat.SnapshotIDs(s.Place())
	if err != nil {
		return 0, err
	}
	if err := s.cat.Set(holdSetting, "the catalogue was rebuilt from the store on request; look at what is there, then release it with: candid store release"); err != nil {
		return 0, err
	}
	roots, err := s.dropDerived(s.store.Roots())
	if err != nil {
		return 0, err
	}
	if err := s.takeUp(roots); err != nil {
		return 0, err
	}
	have := map[string]bool{}
	for _, id := range roots {
		have[id.String()] = true
	}
	var dead []string
	for _, id := range known {
		if !have[id] {
			dead = append(dead, id)
		}
	}
	s.changed("snapshots")
	return len(roots), s.cat.ForgetSnapshots(s.Place(), dead...)
}

// Release lets removal go on after a rebuild.
func (s *Site) Release() error {
	s.changed("snapshots")
	return s.cat.Set(holdSetting, "")
}

// takeUp enters snapshots from their roots and marks.
func (s *Site) takeUp(ids []object.ID) error {
	rows := make([]*catalog.Snapshot, 0, len(ids))
	newest, signed := map[string]*object.Root{}, map[string]string{}
	for _, id := range ids {
		root, signer, err := s.store.Root(id)
		if err != nil {
			s.log.Error("a snapshot's record is damaged; it is left where it is", "snapshot", id, "error", err)
			continue
		}
		row, err := s.rowOf(id, root)
		if err != nil {
			return err
		}
		rows = append(rows, row)
		lin := hex.EncodeToString(root.Lineage[:])
		if old := newest[lin]; old == nil || old.Term < root.Term || (old.Term == root.Term && old.Sequence < root.Sequence) {
			newest[lin], signed[lin] = root, hex.EncodeToString(signer)
		}
	}
	for lin, root := range newest {
		if _, err := s.cat.VolumeOfLineage(lin); err == nil {
			continue
		} else if !errors.Is(err, catalog.ErrNone) {
			return err
		}
		v := s.volumeOf(root)
		v.Protected = root.Origin == s.Name()
		if !v.Protected { // until its origin is paired again, who signed it stays the only one
			v.Signer = signed[lin]
		}
		v.ScheduledUntil = catalog.At(s.clock.Now())
		if err := s.cat.PutVolume(v); err != nil {
			return err
		}
	}
	for _, r := range rows {
		if v, err := s.cat.VolumeOfLineage(r.Lineage); err == nil {
			r.Volume = v.Name
		}
	}
	return s.cat.PutSnapshots(rows)
}

// volumeOf describes a volume from a root of it.
func (s *Site) volumeOf(r *object.Root) *catalog.Volume {
	name := r.Volume
	lineage := hex.EncodeToString(r.Lineage[:])
	if r.Origin != s.Name() {
		name += "@" + r.Origin
		// A volume that was removed there and added anew has another history.
		if other, err := s.cat.Volume(name); err == nil && other.Lineage != lineage {
			name += "." + lineage[:6]
		}
	}
	labels := r.Labels
	if labels == nil {
		labels = map[string]string{}
	}
	excludes := r.Excludes
	if excludes == nil {
		excludes = []string{}
	}
	return &catalog.Volume{Name: name, Part: partWords(r.Derived), Lineage: lineage, Kind: "tree", Origin: r.Origin, Path: string(r.Path),
		Labels: catalog.JSON[catalog.Labels]{V: labels}, Excludes: catalog.JSON[[]string]{V: excludes}, ChunkAvg: int(r.ChunkAvg),
		Added: catalog.At(s.clock.Now())}
}

// rowOf makes a snapshot's row from its root and marks.
func (s *Site) rowOf(id object.ID, r *object.Root) (*catalog.Snapshot, error) {
	row := &catalog.Snapshot{ID: id.String(), Place: s.Place(), Volume: s.volumeOf(r).Name, Lineage: hex.EncodeToString(r.Lineage[:]),
		Origin: r.Origin, Term: int64(r.Term), Sequence: int64(r.Sequence), Began: catalog.At(r.BeganTime()), Ended: catalog.At(r.EndedTime()),
		Cause: string(r.Cause), Consistency: string(r.Consistency), Files: r.Files, Dirs: r.Dirs, Others: r.Others, Bytes: r.Bytes,
		Remarks: r.RemarkCount, Labels: catalog.JSON[catalog.Labels]{V: map[string]string{}}}
	if r.Set != nil {
		// With its origin, so that no site can name its snapshots into a set of another.
		row.SetID, row.SetName = r.Origin+"/"+hex.EncodeToString(r.Set.ID[:]), r.Set.Group
	}
	marks, _, err := s.store.Marks(id)
	if err != nil {
		return nil, err
	}
	for _, m := range marks {
		applyMark(row, m, s.Place())
	}
	return row, nil
}

func applyMark(row *catalog.Snapshot, m *object.Mark, place string) {
	until := time.Unix(0, m.Until)
	here := m.Place == "" || m.Place == place
	if at := time.Unix(0, m.At); m.Kind.Travels() && m.Kind != object.MarkSighting && at.After(row.Marked.Time) {
		row.Marked = catalog.At(at)
	}
	switch m.Kind {
	case object.MarkSighting:
		if until.After(row.SeenUntil.Time) {
			row.SeenUntil = catalog.At(until)
		}
		if watched := time.Unix(0, m.Watched); m.Watched != 0 && watched.After(row.WatchedUntil.Time) {
			row.WatchedUntil = catalog.At(watched)
		}
	case object.MarkNote:
		row.Note = m.Text
	case object.MarkLabels:
		row.Labels.V = m.Labels
	case object.MarkEnd:
		row.OwnEnd = catalog.At(until)
	case object.MarkKeep:
		row.KeepWhy, row.KeepUntil = m.Text, catalog.Time{}
		if m.Until != 0 {
			row.KeepUntil = catalog.At(until)
		}
	case object.MarkLetGo:
		row.KeepWhy, row.KeepUntil = "", catalog.Time{}
	case object.MarkArrival:
		if here {
			row.Arrived, row.OutOfTurn = catalog.At(time.Unix(0, m.At)), m.Text
		}
	case object.MarkAdmit:
		if here {
			row.OutOfTurn = ""
		}
	case object.MarkExpiry:
		if here {
			row.GraceUntil, row.LetGo = catalog.At(until), m.Text
		}
	case object.MarkRecall:
		if here {
			row.GraceUntil, row.LetGo, row.RecalledUntil = catalog.Time{}, "", catalog.Time{}
			if m.Until != 0 {
				row.RecalledUntil = catalog.At(until)
			}
		}
	}
}
