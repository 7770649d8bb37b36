package records

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
	"candidharbor/internal/phrase"
)

// TakeUp enters snapshots from their roots and marks.
func (s *Service) TakeUp(ids []object.ID) error {
	rows := make([]*catalog.Snapshot, 0, len(ids))
	newest, signed := map[string]*object.Root{}, map[string]string{}
	inSet, setOf := map[string]int{}, map[string]int{}
	for _, id := range ids {
		root, signer, err := s.Store.Root(id)
		if err != nil {
			s.Log.Error("a snapshot's record is damaged; it is left where it is", "snapshot", id, "error", err)
			continue
		}
		row, err := s.RowOf(id, root)
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
		if _, err := s.Catalog.VolumeOfLineage(lin); err == nil {
			continue
		} else if !errors.Is(err, catalog.ErrNone) {
			return err
		}
		v := s.VolumeOf(root)
		v.Protected = root.Origin == s.Name()
		if !v.Protected && root.TakenBy == "" { // until its origin is paired again, who signed it stays the only one
			v.Signer = signed[lin]
		}
		v.ScheduledUntil = catalog.At(s.Clock.Now())
		if err := s.Catalog.PutVolume(v); err != nil {
			return err
		}
	}
	for _, r := range rows {
		if v, err := s.Catalog.VolumeOfLineage(r.Lineage); err == nil {
			r.Volume = v.Name
		}
		if n, of := inSet[r.SetID], setOf[r.SetID]; r.SetID != "" && n < of {
			mates, err := s.Catalog.SetRows(s.Place(), r.SetID)
			if err != nil {
				return err
			}
			r.Hidden = n+len(mates) < of // the rest was never acknowledged, or is damaged
			if r.Arrived.IsZero() {
				r.Arrived = catalog.At(s.Clock.Now()) // it waits from now on
			}
		}
	}
	return s.Catalog.PutSnapshots(rows)
}

// VolumeOf describes a volume from a root of it.
func (s *Service) VolumeOf(r *object.Root) *catalog.Volume {
	name := r.Volume
	lineage := hex.EncodeToString(r.Lineage[:])
	if r.Origin != s.Name() {
		name += "@" + r.Origin
		// A volume that was removed there and added anew has another history.
		if other, err := s.Catalog.Volume(name); err == nil && other.Lineage != lineage {
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
	kind := catalog.KindTree
	if r.IsDisk() {
		kind = catalog.KindBlock
	}
	return &catalog.Volume{Name: name, Part: phrase.PartWords(r.Derived), Lineage: lineage, Kind: kind, Origin: r.Origin,
		Path:   string(r.Path),
		Labels: catalog.JSON[catalog.Labels]{V: labels}, Excludes: catalog.JSON[[]string]{V: excludes},
		ChunkAvg: int(r.ChunkAvg),
		Added:    catalog.At(s.Clock.Now())}
}

// RowOf makes a snapshot's row from its root and marks.
func (s *Service) RowOf(id object.ID, r *object.Root) (*catalog.Snapshot, error) {
	row := &catalog.Snapshot{ID: id.String(), Place: s.Place(), Volume: s.VolumeOf(r).Name,
		Lineage: hex.EncodeToString(r.Lineage[:]),
		Origin:  r.Origin, Term: int64(r.Term), Sequence: int64(r.Sequence), Began: catalog.At(r.BeganTime()),
		Ended: catalog.At(r.EndedTime()),
		Cause: string(r.Cause), Consistency: string(r.Consistency), Files: r.Files, Dirs: r.Dirs, Others: r.Others,
		Bytes:   r.Bytes,
		Remarks: r.RemarkCount, TakenBy: r.TakenBy, Labels: catalog.JSON[catalog.Labels]{V: map[string]string{}}}
	if r.Set != nil {
		// With who took it, so that no site can name its snapshots into a set of another.
		row.SetID, row.SetName = r.Taker()+"/"+hex.EncodeToString(r.Set.ID[:]), r.Set.Group
	}
	marks, _, err := s.Store.Marks(id)
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
			ApplyMark(row, m, place)
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
			ApplyMark(row, m, place)
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
	return cmp.Or(m.Place, row.Taker())
}

// ApplyMark enters what one mark says into a row; place is where the row is.
func ApplyMark(row *catalog.Snapshot, m *object.Mark, place string) {
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
			row.Arrived, row.OutOfTurn, row.Branch = catalog.At(time.Unix(0, m.At)), m.Text, arrivalBranch(m)
			row.LeftUntil = catalog.Time{}
			if m.Cause == object.ArrivedLeft {
				row.LeftUntil = catalog.At(until)
			}
		}
	case object.MarkAdmit:
		if here {
			row.OutOfTurn, row.LeftUntil = "", catalog.Time{}
		}
	case object.MarkExpiry:
		if here {
			row.GraceUntil, row.LetGo, row.LetGoCause = catalog.At(until), m.Text, string(expiryCause(m))
		}
	case object.MarkRecall:
		if here {
			row.GraceUntil, row.LetGo, row.LetGoCause, row.RecalledUntil = catalog.Time{}, "", "", catalog.Time{}
			if m.Until != 0 {
				row.RecalledUntil = catalog.At(until)
			}
		}
	}
}

// MarkedAs is row with what its marks say, read anew.
func (s *Service) MarkedAs(row *catalog.Snapshot) (*catalog.Snapshot, error) {
	id, err := object.ParseID(row.ID)
	if err != nil {
		return nil, err
	}
	marks, _, err := s.Store.Marks(id)
	if err != nil {
		return nil, err
	}
	m := *row
	m.KeepWhy, m.KeepUntil, m.OwnEnd, m.Note = "", catalog.Time{}, catalog.Time{}, ""
	m.GraceUntil, m.LetGo, m.LetGoCause, m.RecalledUntil = catalog.Time{}, "", "", catalog.Time{}
	m.Labels = catalog.JSON[catalog.Labels]{V: map[string]string{}}
	applyMarks(&m, marks, s.Place())
	return &m, nil
}

// SameMarks reports whether two rows say the same by their marks.
func SameMarks(a, b *catalog.Snapshot) bool {
	return a.KeepWhy == b.KeepWhy && a.KeepUntil.Equal(b.KeepUntil.Time) && a.OwnEnd.Equal(b.OwnEnd.Time) &&
		a.Note == b.Note &&
		a.GraceUntil.Equal(b.GraceUntil.Time) && a.LetGo == b.LetGo && a.LetGoCause == b.LetGoCause &&
		a.RecalledUntil.Equal(b.RecalledUntil.Time) &&
		fmt.Sprint(a.Labels.V) == fmt.Sprint(b.Labels.V)
}

// LineageOf parses a lineage's column.
func LineageOf(text string) (id [16]byte) {
	b, _ := hex.DecodeString(text)
	copy(id[:], b)
	return id
}

// Marks of the releases before codes say only in words why. These are the words of then.
const (
	byHandWords  = "removed by hand"
	byCapWords   = "over the cap of "
	forRoomWords = "removed for room"
	branchWords  = "it is of the branch "
)

// expiryCause is why an expiry was marked.
func expiryCause(m *object.Mark) object.MarkCause {
	switch {
	case m.Cause != "":
		return m.Cause
	case m.Text == byHandWords:
		return object.ExpiredByHand
	case strings.HasPrefix(m.Text, byCapWords):
		return object.ExpiredByCap
	case strings.HasPrefix(m.Text, forRoomWords):
		return object.ExpiredForRoom
	}
	return object.ExpiredByRules
}

// arrivalBranch is the branch of which a snapshot arrived; empty: none.
func arrivalBranch(m *object.Mark) string {
	if rest, of := strings.CutPrefix(m.Text, branchWords); of && m.Cause == "" {
		branch, _, _ := strings.Cut(rest, " ")
		return branch
	}
	return m.Branch
}
