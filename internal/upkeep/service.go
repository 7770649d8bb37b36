package upkeep

import (
	"candidharbor/internal/capture"
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"
	"candidharbor/internal/records"
	"candidharbor/internal/recovery"
	"candidharbor/internal/route"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
)

// Service looks after store and catalogue.
type Service struct {
	*datadir.Dir
	run      *run.Engine
	records  *records.Service
	pairing  *pairing.Service
	rules    *rules.Service
	capture  *capture.Service
	routes   *route.Service
	recovery *recovery.Service

	generation uint64 // of starts and stops, see catalogue.go
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, records *records.Service, pairing *pairing.Service, rules *rules.Service,
	capture *capture.Service, routes *route.Service, recovery *recovery.Service) *Service {
	return &Service{Dir: dir, run: run, records: records, pairing: pairing, rules: rules, capture: capture, routes: routes,
		recovery: recovery}
}
