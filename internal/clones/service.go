package clones

import (
	"sync"

	"candidharbor/internal/access"
	"candidharbor/internal/capture"
	"candidharbor/internal/datadir"
	"candidharbor/internal/disks"
	"candidharbor/internal/recovery"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	shown "candidharbor/internal/views"
)

// Service mounts snapshots and clones of them.
type Service struct {
	*datadir.Dir
	run      *run.Engine
	access   *access.Service
	rules    *rules.Service
	disks    *disks.Service
	capture  *capture.Service
	recovery *recovery.Service

	mu      sync.Mutex
	mounted map[string]mountedView  // by directory
	cloned  map[string]*shown.Clone // by name

	usesMu    sync.Mutex
	cloneUses map[string]cloneUse // what was changed in them, as looked at last
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, access *access.Service, rules *rules.Service, disks *disks.Service,
	capture *capture.Service, recovery *recovery.Service) *Service {
	s := &Service{Dir: dir, run: run, access: access, rules: rules, disks: disks, capture: capture, recovery: recovery,
		mounted: map[string]mountedView{}, cloned: map[string]*shown.Clone{}, cloneUses: map[string]cloneUse{}}
	rules.Uses(s.usedBy)
	recovery.Schedules(s.cloneTasks)
	return s
}
