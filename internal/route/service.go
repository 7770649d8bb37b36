package route

import (
	"sync"

	"candidharbor/internal/access"
	"candidharbor/internal/authority"
	"candidharbor/internal/capture"
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"
	"candidharbor/internal/records"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
)

// Service carries snapshots from site to site.
type Service struct {
	*datadir.Dir
	run       *run.Engine
	records   *records.Service
	access    *access.Service
	pairing   *pairing.Service
	authority *authority.Service
	rules     *rules.Service
	capture   *capture.Service

	rows sync.Mutex // a row of routes is read, changed and stored as one step

	incoming incoming

	mu     sync.Mutex
	going  map[string]*going  // runs of routes, by route
	looked map[string]*looked // looks of routes that pull, by route
	far    farStates
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, records *records.Service, access *access.Service, pairing *pairing.Service,
	authority *authority.Service, rules *rules.Service, capture *capture.Service) *Service {
	s := &Service{Dir: dir, run: run, records: records, access: access, pairing: pairing, authority: authority,
		rules: rules, capture: capture,
		going: map[string]*going{}, looked: map[string]*looked{}}
	s.answerRoutes()
	pairing.OnPace(s.paceChanged)
	pairing.OnAttached(s.awaken)
	rules.Owes(s.owed)
	run.OnChanged(s.far.drop)
	return s
}
