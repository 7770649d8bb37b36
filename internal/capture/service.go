package capture

import (
	"sync"
	"sync/atomic"
	"time"

	"candidharbor/api"
	"candidharbor/internal/authority"
	"candidharbor/internal/datadir"
	"candidharbor/internal/disks"
	"candidharbor/internal/records"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/volume/journal"
)

// Service takes snapshots.
type Service struct {
	*datadir.Dir
	run       *run.Engine
	records   *records.Service
	authority *authority.Service
	rules     *rules.Service
	disks     *disks.Service

	describe func(volume string) (*api.Volume, error) // of one just added
	// onSighted is told up to when a volume, by its history, was found unchanged.
	onSighted func(lineage string, until time.Time)

	journal       *journal.Journal // nil: every snapshot looks at everything
	followers     followers
	weighing      sync.Mutex   // orders what is said of snapshots that were left behind
	awaitsChanges atomic.Bool  // some volume is taken on change
	lookTook      atomic.Int64 // how long the last look of the schedule was, nanoseconds
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, records *records.Service, authority *authority.Service,
	rules *rules.Service, disks *disks.Service) *Service {
	return &Service{Dir: dir, run: run, records: records, authority: authority, rules: rules, disks: disks}
}

// Describes has a function called that shows a volume as people see it.
func (s *Service) Describes(f func(volume string) (*api.Volume, error)) { s.describe = f }

// OnSighted has a function called with up to when a volume, by its history, was found unchanged.
func (s *Service) OnSighted(f func(lineage string, until time.Time)) { s.onSighted = f }

// NoteLook notes how long a look of the schedule took; after a long one the journal reports changes to it less often.
func (s *Service) NoteLook(took time.Duration) { s.lookTook.Store(int64(took)) }
