package records

import (
	"fmt"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
)

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
	m.GraceUntil, m.LetGo, m.RecalledUntil = catalog.Time{}, "", catalog.Time{}
	m.Labels = catalog.JSON[catalog.Labels]{V: map[string]string{}}
	applyMarks(&m, marks, s.Place())
	return &m, nil
}

func SameMarks(a, b *catalog.Snapshot) bool {
	return a.KeepWhy == b.KeepWhy && a.KeepUntil.Equal(b.KeepUntil.Time) && a.OwnEnd.Equal(b.OwnEnd.Time) && a.Note == b.Note &&
		a.GraceUntil.Equal(b.GraceUntil.Time) && a.LetGo == b.LetGo && a.RecalledUntil.Equal(b.RecalledUntil.Time) &&
		fmt.Sprint(a.Labels.V) == fmt.Sprint(b.Labels.V)
}
