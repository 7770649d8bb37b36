package failover

import (
	"context"
	"encoding/hex"
	"errors"
	"sync"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/authority"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/clones"
	"candidharbor/internal/datadir"
	"candidharbor/internal/disks"
	"candidharbor/internal/pairing"
	"candidharbor/internal/recovery"
	"candidharbor/internal/route"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
)

// Service moves the active side.
type Service struct {
	*datadir.Dir
	run       *run.Engine
	access    *access.Service
	pairing   *pairing.Service
	authority *authority.Service
	rules     *rules.Service
	disks     *disks.Service
	capture   *capture.Service
	routes    *route.Service
	recovery  *recovery.Service
	clones    *clones.Service

	mu       sync.Mutex
	standing *run.Job            // stands back; nil: nothing does
	acting   map[string]*run.Job // by act
	pauses   map[string]*waiting // by act
	drilled  map[string][]string // snapshots on which drills stand, by act

	beginning sync.Mutex // acts begin one after the other
	places    sync.Mutex // where drills lie is made and taken away; held for no wait

	givingMu sync.Mutex
	givings  map[string]*giving // handing over, by act; comes before the lock of each
}

// New works in a data directory.
func New(dir *datadir.Dir, engine *run.Engine, access *access.Service, pairing *pairing.Service,
	authority *authority.Service, rules *rules.Service, disks *disks.Service, capture *capture.Service,
	routes *route.Service, recovery *recovery.Service, clones *clones.Service) *Service {
	s := &Service{Dir: dir, run: engine, access: access, pairing: pairing, authority: authority, rules: rules,
		disks:   disks,
		capture: capture, routes: routes, recovery: recovery, clones: clones,
		acting: map[string]*run.Job{}, pauses: map[string]*waiting{}, drilled: map[string][]string{},
		givings: map[string]*giving{}}
	s.answer()
	authority.OnMoved(s.moved)
	pairing.OnGreeted(s.tellLetGo)
	rules.Uses(s.drillUses)
	recovery.Schedules(s.drillTasks)
	return s
}

// Begin goes on with what the last service had begun.
func (s *Service) Begin() error {
	if s.IsPlace {
		return nil
	}
	if err := s.catchUp(); err != nil {
		return err
	}
	todo, err := s.toStandBack()
	if err != nil {
		return err
	}
	for _, b := range todo {
		if b.v.IsDisk() {
			if err := s.disks.ShutNow(s.run.Context(), b.v); err != nil {
				s.Log.Error("a disk from which this site stands back cannot be shut", "volume", b.v.Name, "error", err)
			}
		}
	}
	if err := s.resume(); err != nil {
		return err
	}
	return s.standBack()
}

// moved is called when another site has become active of volumes.
func (s *Service) moved(all []authority.Moved) {
	if s.IsPlace {
		return
	}
	ctx, lost := s.run.Context(), false
	for _, m := range all {
		if m.To == s.Name() && m.From == authority.Nobody && m.Volume.IsDisk() {
			if up, err := s.isUp(m.Volume); err == nil && up {
				s.run.Go(func(ctx context.Context) {
					if err := s.disks.ServeAgain(ctx, m.Volume); err != nil && ctx.Err() == nil {
						s.Log.Error("a disk cannot be served again", "volume", m.Volume.Name, "error", err)
					}
				})
			}
		}
		if m.To == s.Name() && m.Record != nil {
			if err := s.received(m); err != nil {
				s.Log.Error("what was handed over to this site could not be brought up", "volume", m.Volume.Name, "error", err)
			}
		}
		if m.From != s.Name() && m.From != authority.Nobody || m.To == s.Name() {
			continue
		}
		if err := s.lost(ctx, m); err != nil {
			s.Log.Error("this site could not stand back; the next start does", "volume", m.Volume.Name, "error", err)
			continue
		}
		lost = lost || m.To != authority.Nobody
	}
	for _, m := range all {
		if err := s.capture.Reconsider(m.Volume); err != nil && ctx.Err() == nil {
			s.Log.Error("it could not be looked what was left behind; the next start does", "volume", m.Volume.Name,
				"error", err)
		}
	}
	if lost {
		if err := s.standBack(); err != nil {
			s.Log.Error("standing back could not begin; the next start does", "error", err)
		}
	}
}

// catchUp does what the last service had no time for after another site had become active.
func (s *Service) catchUp() error {
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return err
	}
	for _, v := range vols {
		active, term := s.authority.Active(v)
		if term == 0 {
			continue
		}
		if v.Protected && active != s.Name() && active != authority.Nobody {
			b, err := s.Catalog.StandBack(v.Lineage)
			if err == nil && b == nil {
				err = s.lost(s.run.Context(), authority.Moved{Volume: v, From: s.Name(), To: active, Term: term})
			}
			if err != nil {
				return err
			}
		}
		if err := s.capture.Reconsider(v); err != nil {
			return err
		}
	}
	return nil
}

// isUp reports whether this site serves a volume that it is active of: it has done so ever since, or was brought up.
func (s *Service) isUp(v *catalog.Volume) (bool, error) {
	if !v.ActiveAt(s.Name()) || !v.Protected {
		return false, nil
	}
	b, err := s.Catalog.StandBack(v.Lineage)
	return b == nil, err
}

// received has a failover go on that was given up before it learnt that the other site had handed over: nobody else
// serves what it brings up.
func (s *Service) received(m authority.Moved) error {
	s.beginning.Lock()
	defer s.beginning.Unlock()
	row, err := s.Catalog.Failover(hex.EncodeToString(m.Record.Act[:8]))
	if errors.Is(err, catalog.ErrNone) {
		return nil
	}
	if err != nil || row.Kind == handOver || row.State != api.FailoverFailed && row.State != api.FailoverCancelled {
		return err
	}
	_, err = s.goOn(row, "the service")
	return err
}
