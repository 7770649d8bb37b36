package site

import (
	"cmp"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
)

// holdSetting is the setting that says why nothing is removed.
const holdSetting = "removal held"

// reconcile brings the catalogue in line with the store after a crash or a loss. It deletes
// nothing in the store. What a crash cannot have left says that one of the two is older than
// the other: then removal is held until a person has looked.
func (s *Site) reconcile() error {
	known, err := s.cat.SnapshotIDs(s.Place())
	if err != nil {
		return err
	}
	have := make(map[string]bool, len(known))
	for _, id := range known {
		have[id] = true
	}
	var lost []object.ID
	for _, id := range s.store.Roots() {
		if !have[id.String()] {
			lost = append(lost, id)
		}
		delete(have, id.String())
	}
	if err := s.forgetGone(have); err != nil {
		return err
	}
	if lost, err = s.dropDerived(lost); err != nil {
		return err
	}
	older, err := s.catalogueIsOlder()
	if err != nil {
		return err
	}
	if len(lost) > 0 {
		// A catalogue that knows volumes was not lost: what it lacks a crash left, or it is an
		// older one. Of a single snapshot nothing could be removed in any case.
		vols, err := s.cat.Volumes()
		if err != nil {
			return err
		}
		rebuilt := len(known) == 0 && len(vols) == 0 && len(lost) > 1
		if !rebuilt && !s.leftByCrash(lost) {
			older = fmt.Sprintf("the store has %s that the catalogue did not know, more than a crash leaves: it is probably an older copy", many(len(lost), "snapshot"))
		}
		s.log.Info("snapshots that the catalogue lacks are taken up from the store", "snapshots", len(lost))
		if err := s.takeUp(lost); err != nil {
			return err
		}
		if rebuilt {
			older = "the catalogue was rebuilt from the store on " + s.clock.Now().Format("2006-01-02 15:04")
		}
	}
	if older == "" {
		return nil
	}
	return s.suspend(older + "; look at what is there and at your policies, then release removal with: candid store release")
}

// forgetGone takes snapshots from the catalogue that the store does not have. Those that
// nobody let go were lost, and that is told.
func (s *Site) forgetGone(gone map[string]bool) error {
	if len(gone) == 0 {
		return nil
	}
	var dead, missed []string
	for id := range gone {
		dead = append(dead, id)
		if row, err := s.cat.Snapshot(id); err == nil && row.Place == s.Place() && row.GraceUntil.IsZero() && !row.Hidden {
			missed = append(missed, fmt.Sprintf("%s of %s, taken %s", id[:12], row.Volume, stamp(row.Began.Time)))
		}
	}
	s.log.Info("snapshots that the store does not have were taken from the catalogue", "snapshots", len(dead))
	if err := s.cat.ForgetSnapshots(s.Place(), dead...); err != nil || len(missed) == 0 {
		return err
	}
	slices.Sort(missed)
	s.log.Error("snapshots that nobody let go are not in the store", "snapshots", missed)
	more := ""
	if n := len(missed); n > 3 {
		missed, more = missed[:3], fmt.Sprintf(" and %d more", n-3)
	}
	if err := s.countStart(true); err != nil { // whoever carried them here compares
		return err
	}
	return s.suspend(fmt.Sprintf("snapshots that nobody let go are not in the store any more: %s%s. Where another site has them, a route or a pull brings them back. When you have looked, release removal with: candid store release",
		strings.Join(missed, "; "), more))
}

// leftByCrash reports whether snapshots that the catalogue lacks can be what a crash left: at
// most one of a history, and of those taken here the newest. Routes bring older ones too.
func (s *Site) leftByCrash(lost []object.ID) bool {
	seen := map[object.LineageID]bool{}
	for _, id := range lost {
		root, _, err := s.store.Root(id)
		if err != nil {
			continue // told as damaged
		}
		last, err := s.cat.LastSnapshot(s.Place(), hex.EncodeToString(root.Lineage[:]))
		if err != nil || seen[root.Lineage] {
			return false
		}
		seen[root.Lineage] = true
		if root.Origin == s.Name() && last != nil && (last.Term > int64(root.Term) || last.Term == int64(root.Term) && last.Sequence >= int64(root.Sequence)) {
			return false
		}
	}
	return true
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
	return errors.Join(s.ConfirmPutBack(), s.cat.Set(holdSetting, ""))
}

// takeUp enters snapshots from their roots and marks.
func (s *Site) takeUp(ids []object.ID) error {
	rows := make([]*catalog.Snapshot, 0, len(ids))
	newest, signed := map[string]*object.Root{}, map[string]string{}
	inSet, setOf := map[string]int{}, map[string]int{}
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
		if root.Set != nil {
			inSet[row.SetID]++
			setOf[row.SetID] = int(root.Set.Of)
		}
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
		if n, of := inSet[r.SetID], setOf[r.SetID]; r.SetID != "" && n < of {
			mates, err := s.cat.SetRows(s.Place(), r.SetID)
			if err != nil {
				return err
			}
			r.Hidden = n+len(mates) < of // the rest was never acknowledged, or is damaged
			if r.Arrived.IsZero() {
				r.Arrived = catalog.At(s.clock.Now()) // it waits from now on
			}
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
	applyMarks(row, marks, s.Place())
	return row, nil
}

// applyMarks enters what the marks of a snapshot say, which are in the order of time. What was
// said here counts before what others say. A keep mark is lifted by the place that put it, and
// here by this place.
func applyMarks(row *catalog.Snapshot, marks []*object.Mark, place string) {
	keeps := map[string]*object.Mark{}
	for _, m := range marks {
		by := placeOf(row, m)
		if by != place {
			applyMark(row, m, place)
		}
		switch {
		case m.Kind == object.MarkKeep:
			keeps[by] = m
		case m.Kind == object.MarkLetGo && by == place:
			clear(keeps)
		case m.Kind == object.MarkLetGo:
			delete(keeps, by)
		}
	}
	for _, m := range marks {
		if placeOf(row, m) == place {
			applyMark(row, m, place)
		}
	}
	row.KeepWhy, row.KeepUntil = "", catalog.Time{}
	keep := keeps[place]
	for _, by := range slices.Sorted(maps.Keys(keeps)) { // without one from here: what lasts longest
		if m := keeps[by]; keep == nil || keeps[place] == nil && keep.Until != 0 && (m.Until == 0 || m.Until > keep.Until) {
			keep = m
		}
	}
	if keep != nil {
		row.KeepWhy = keep.Text
		if keep.Until != 0 {
			row.KeepUntil = catalog.At(time.Unix(0, keep.Until))
		}
	}
}

// placeOf is the place that made a mark; the first marks of all did not say.
func placeOf(row *catalog.Snapshot, m *object.Mark) string {
	return cmp.Or(m.Place, row.Origin)
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
