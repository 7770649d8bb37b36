package upkeep

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
)

// Sweep starts a run that gives back what no snapshot needs.
func (s *Service) Sweep(settle bool, by string) (api.Run, error) {
	j, err := s.StartSweep(settle, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.View(), nil
}

// StartSweep begins to take away what no snapshot needs.
func (s *Service) StartSweep(settle bool, by string) (*run.Job, error) {
	s.Store.MakeRoom()
	return s.run.Start("sweep", s.Place(), by, func(ctx context.Context, j *run.Job) (any, string, error) {
		if held, err := s.Catalog.Setting(rules.HoldSetting); err != nil || held != "" {
			return nil, "", errors.Join(err, refusal.Conflictf("nothing is swept at present: %s", held))
		}
		j.Say("waiting for another sweep")
		release, err := s.run.Hold(ctx, run.KeySweep.Of(""))
		if err != nil {
			return nil, "", err
		}
		defer release()
		var done, total atomic.Int64
		j.Begin(func() api.Progress { return api.Progress{Files: done.Load(), TotalBytes: 0} })
		j.Say("packing anew what is needed")
		res, err := s.Store.Sweep(ctx, store.SweepOptions{Settle: settle, Progress: func(d, t int64) {
			done.Store(d)
			total.Store(t)
		}})
		if err != nil {
			return nil, "", err
		}
		words := fmt.Sprintf("%d objects nobody needs; %s given back, %s wait in packs that are mostly needed", res.Condemned,
			phrase.Size(res.FreedBytes), phrase.Size(res.WaitingBytes))
		if len(res.Blind) > 0 {
			j.Remark()
			words += fmt.Sprintf(". What was stored before is kept, because it is not known what %s of the damaged %s needs: "+
				"candid store verify asks other sites for it; or remove that snapshot",
				res.Blind[0].String()[:12], phrase.Many(len(res.Blind), "snapshot"))
		}
		return res, words, nil
	})
}

// Usage tells what the store holds, by volume.
func (s *Service) Usage() (*api.Usage, error) {
	u := s.Store.Usage()
	out := &api.Usage{Place: s.Place(), Objects: u.Objects, Packs: u.Packs, StoredBytes: u.StoredBytes,
		DeadBytes: u.DeadBytes, Snapshots: u.Snapshots,
		FreeBytes: u.FreeBytes, Volumes: []api.VolumeUsage{}}
	out.BallastHeld, out.BallastWanted = s.Store.Ballast()
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return nil, err
	}
	var added int64
	var byVolume [][]object.ID
	for _, v := range vols {
		rows, err := s.Catalog.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, err
		}
		ids := make([]object.ID, len(rows))
		for i, r := range rows {
			ids[i], _ = object.ParseID(r.ID)
		}
		added += rules.AddedPerDay(rows, s.Clock.Now())
		byVolume = append(byVolume, ids)
		out.Volumes = append(out.Volumes, api.VolumeUsage{Volume: v.Name, Snapshots: len(rows)})
	}
	needs, alone, err := s.Store.Shares(byVolume...)
	if err != nil {
		return nil, err
	}
	for i := range out.Volumes {
		out.Volumes[i].Referenced, out.Volumes[i].Unique = needs[i], alone[i]
	}
	if out.Caps, err = s.rules.Caps(); err != nil {
		return nil, err
	}
	f, err := s.rules.Forecast()
	if err != nil {
		return nil, err
	}
	out.Forecast = *f
	out.Forecast.Sentence += s.rules.FloorNeeds(added, out.StoredBytes)
	return out, nil
}
