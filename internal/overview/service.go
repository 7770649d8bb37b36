package overview

import (
	"sync"
	"time"

	"candidharbor/internal/access"
	"candidharbor/internal/capture"
	"candidharbor/internal/datadir"
	"candidharbor/internal/disks"
	"candidharbor/internal/failover"
	"candidharbor/internal/outlet"
	"candidharbor/internal/pairing"
	"candidharbor/internal/recovery"
	"candidharbor/internal/route"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/upkeep"
)

// Service says how all stands.
type Service struct {
	*datadir.Dir
	run      *run.Engine
	access   *access.Service
	pairing  *pairing.Service
	rules    *rules.Service
	disks    *disks.Service
	capture  *capture.Service
	routes   *route.Service
	recovery *recovery.Service
	outlets  *outlet.Service
	upkeep   *upkeep.Service
	failover *failover.Service

	mu         sync.Mutex
	alarmed    time.Time     // when alarms were last looked for
	alarmEvery time.Duration // how long to the next look

	looks looks
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, access *access.Service, pairing *pairing.Service, rules *rules.Service,
	disks *disks.Service, capture *capture.Service, routes *route.Service, recovery *recovery.Service,
	outlets *outlet.Service, upkeep *upkeep.Service, failover *failover.Service) *Service {
	s := &Service{Dir: dir, run: run, access: access, pairing: pairing, rules: rules, disks: disks, capture: capture,
		routes: routes, recovery: recovery, outlets: outlets, upkeep: upkeep, failover: failover}
	s.looks.dirty, s.looks.seen = map[string]bool{}, map[string]time.Time{}
	run.OnChanged(s.looks.drop)
	capture.Describes(s.Volume)
	capture.OnSighted(s.looks.sighted)
	return s
}
