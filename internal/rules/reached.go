package rules

import (
	"time"

	"candidharbor/internal/catalog"
)

// StatesKept is how long it stays known what a place could bring back, for reports.
const StatesKept = 800 * 24 * time.Hour

// Reached notes that a place can bring back a volume as it was at an instant.
func (s *Service) Reached(volume, place string, state time.Time) {
	if err := s.Catalog.PutState(volume, place, s.Clock.Now(), state); err != nil {
		s.Log.Error("a report will lack a state", "volume", volume, "place", place, "error", err)
	}
}

// NewestState is the latest instant for which a row stands.
func NewestState(r *catalog.Snapshot) time.Time {
	if r.SeenUntil.After(r.Began.Time) {
		return r.SeenUntil.Time
	}
	return r.Began.Time
}
