package recovery

import (
	"sync"

	"candidharbor/internal/access"
	"candidharbor/internal/authority"
	"candidharbor/internal/capture"
	"candidharbor/internal/datadir"
	"candidharbor/internal/disks"
	"candidharbor/internal/pairing"
	"candidharbor/internal/records"
	"candidharbor/internal/route"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
)

// Service finds, shows and brings back what was.
type Service struct {
	*datadir.Dir
	run       *run.Engine
	records   *records.Service
	access    *access.Service
	pairing   *pairing.Service
	authority *authority.Service
	rules     *rules.Service
	capture   *capture.Service
	disks     *disks.Service
	routes    *route.Service

	finders finders

	tasks []func() ([]*ScheduledTask, error) // of parts that come later

	reportedMu sync.Mutex
	reported   map[string]reportedRows // what peers have of volumes, as they told of late
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, records *records.Service, access *access.Service, pairing *pairing.Service,
	authority *authority.Service, rules *rules.Service, disks *disks.Service, capture *capture.Service,
	routes *route.Service) *Service {
	s := &Service{Dir: dir, run: run, records: records, access: access, pairing: pairing, authority: authority,
		rules: rules, disks: disks,
		capture:  capture,
		routes:   routes,
		reported: map[string]reportedRows{}}
	s.disks.FetchesBy(s.fetchForDisk)
	s.answerPeers()
	return s
}
