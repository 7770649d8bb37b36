package failover

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/run"
)

// forsake gives up what the other site does not come back to before anything stood still.
func (s *Service) forsake(ctx context.Context, g *giving) {
	for {
		g.mu.Lock()
		over := g.signed || g.told.Busy || g.melt != nil || g.told.Phase != doCarry // it goes on, and looks itself
		left := frozenFor - time.Since(g.asked)
		if !over && left <= 0 {
			g.told.Busy = true // nothing else begins meanwhile
		}
		g.mu.Unlock()
		if over {
			return
		}
		if left <= 0 {
			s.serveAgain(ctx, g, fmt.Sprintf("%s did not come back to it within %s", g.peer, phrase.Ago(frozenFor)))
			return
		}
		select {
		case <-time.After(left):
		case <-ctx.Done():
			return
		}
	}
}

func (s *Service) endGiving(g *giving, state string) error {
	row, err := s.Catalog.Failover(g.act)
	if err != nil {
		return err
	}
	row.State, row.Ended = state, catalog.At(s.Clock.Now())
	err = s.Catalog.PutFailover(row)
	s.run.Tell("failovers")
	s.givingMu.Lock()
	defer s.givingMu.Unlock()
	delete(s.givings, g.act)
	return err
}

// serveAgain gives a handing over up.
func (s *Service) serveAgain(ctx context.Context, g *giving, why string) {
	g.mu.Lock()
	signed := g.signed
	g.mu.Unlock()
	if signed {
		return
	}
	// What cannot be served again is told by itself; the handing over is at its end.
	err := errors.Join(s.meltAll(ctx, g.vols, g.runbook), s.endGiving(g, api.FailoverCancelled))
	g.mu.Lock()
	defer g.mu.Unlock()
	g.told = told{Phase: doLetGo, Why: why}
	if err != nil {
		g.told.Error = err.Error()
		s.Log.Error("a handing over was given up, and not all is served again", "to", g.peer, "error", err)
	}
}

// meltAll serves volumes again that were to be handed over.
func (s *Service) meltAll(ctx context.Context, vols []*catalog.Volume, book string) error {
	var trees []*catalog.Volume
	var errs []error
	for _, v := range vols {
		s.authority.Freeze(v, false)
		fresh, err := s.Catalog.VolumeOfLineage(v.Lineage)
		if err != nil || !fresh.ActiveAt(s.Name()) {
			errs = append(errs, err)
			continue
		}
		if !v.IsDisk() {
			trees = append(trees, v)
			continue
		}
		errs = append(errs, s.disks.ServeAgain(ctx, v))
	}
	if _, has := s.Conf.Hooks[HookGoOn]; has && len(trees) > 0 {
		j, err := s.run.Start("go-on", book, "the service", func(ctx context.Context, j *run.Job) (any, string, error) {
			return nil, "the writers go on", s.capture.RunHook(ctx, j, capture.HookRun{Name: HookGoOn,
				Volumes: trees, Env: []string{"CANDID_RUNBOOK=" + book}})
		})
		if err == nil {
			err = j.Wait(ctx)
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// giveUpHandOver ends a handing over that a start interrupted: what was signed holds; what was not is served again.
func (s *Service) giveUpHandOver(row *catalog.Failover) error {
	var doc givingDoc
	if err := json.Unmarshal([]byte(row.Doc), &doc); err != nil {
		return err
	}
	var mine []*catalog.Volume
	gone := false
	for _, av := range doc.Volumes {
		v, err := s.Catalog.Volume(av.Name)
		if errors.Is(err, catalog.ErrNone) {
			continue
		} else if err != nil {
			return err
		}
		if v.ActiveAt(s.Name()) {
			mine = append(mine, v)
		}
		for _, r := range s.authority.Line(v) {
			gone = gone || r.Act == actOf(row.ID)
		}
	}
	row.State, row.Ended = api.FailoverCancelled, catalog.At(s.Clock.Now())
	if gone {
		row.State = api.FailoverDone
	} else if doc.Frozen {
		s.run.Go(func(ctx context.Context) {
			if err := s.meltAll(ctx, mine, row.Runbook); err != nil {
				s.Log.Error("what was to be handed over is not all served again", "error", err)
			}
		})
	}
	return s.Catalog.PutFailover(row)
}
