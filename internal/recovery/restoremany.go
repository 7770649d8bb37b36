package recovery

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/refusal"
)

const mostRestored = 100 // snapshots of one call

// RestoreMany starts runs that bring each of several snapshots into a directory of its own below one; a disk into an
// image there. All are checked before the first begins.
func (s *Service) RestoreMany(ctx context.Context, ask api.RestoreMany, by string) ([]api.Run, error) {
	if len(ask.Snapshots) == 0 || len(ask.Snapshots) > mostRestored {
		return nil, refusal.Badf("name 1 to %d snapshots", mostRestored)
	}
	if ask.To == "" {
		return nil, refusal.Badf("say where to: a directory on the site's host")
	}
	e := s.ViewerFor(nil)
	var ready []readyRestore
	started := 0
	defer func() {
		for _, r := range ready[started:] {
			r.done()
		}
	}()
	seen := map[string]bool{}
	for _, id := range ask.Snapshots {
		row, err := s.Catalog.Snapshot(id)
		if err != nil {
			return nil, err
		}
		if seen[row.ID] {
			continue
		}
		seen[row.ID] = true
		name := strings.ReplaceAll(row.Volume, "/", "_") + "-" + row.Began.Local().Format("2006-01-02T150405")
		if seen[name] {
			name += "-" + row.ID[:8]
		}
		seen[name] = true
		one := api.RestoreAsk{Volume: row.Volume, At: row.ID, To: filepath.Join(ask.To, name)}
		var r readyRestore
		if e.isDisk(row.Volume) {
			one.To += ".img"
			r, err = e.prepareDisk(one)
		} else {
			r, err = e.PrepareRestore(ctx, one)
		}
		if err != nil {
			return nil, fmt.Errorf("snapshot %s of %s: %w", row.ID[:12], row.Volume, err)
		}
		ready = append(ready, r)
	}
	var runs []api.Run
	for _, r := range ready {
		started++ // it lets go by itself what it relies on, also when it does not begin
		run, err := s.startRestore(r, by)
		if err != nil {
			return runs, err
		}
		runs = append(runs, run)
	}
	return runs, nil
}
