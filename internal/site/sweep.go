package site

import (
	"context"
	"errors"
	"fmt"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"
)

// Sweep starts a run that gives back what no snapshot needs.
func (s *Site) Sweep(settle bool, by string) (api.Run, error) {
	j, err := s.startSweep(settle, by)
	if err != nil {
		return api.Run{}, err
	}
	return j.view(), nil
}

func (s *Site) startSweep(settle bool, by string) (*job, error) {
	s.store.MakeRoom()
	return s.start("sweep", s.Place(), by, func(ctx context.Context, j *job) (any, string, error) {
		if held, err := s.cat.Setting(holdSetting); err != nil || held != "" {
			return nil, "", errors.Join(err, conflict("nothing is swept at present: %s", held))
		}
		j.say("waiting for another sweep")
		release, err := s.hold(ctx, "sweep")
		if err != nil {
			return nil, "", err
		}
		defer release()
		var done, total counter
		j.begin(func() api.Progress { return api.Progress{Files: done.Load(), TotalBytes: 0} })
		j.say("packing anew what is needed")
		res, err := s.store.Sweep(ctx, store.SweepOptions{Settle: settle, Progress: func(d, t int64) { done.Store(d); total.Store(t) }})
		if err != nil {
			return nil, "", err
		}
		words := fmt.Sprintf("%d objects nobody needs; %s given back, %s wait in packs that are mostly needed", res.Condemned, size(res.FreedBytes), size(res.WaitingBytes))
		if len(res.Blind) > 0 {
			j.remark()
			words += fmt.Sprintf(". What was stored before is kept, because it is not known what %s of the damaged %s needs: candid store verify asks other sites for it; or remove that snapshot",
				res.Blind[0].String()[:12], many(len(res.Blind), "snapshot"))
		}
		return res, words, nil
	})
}

// Usage tells what the store holds, by volume.
func (s *Site) Usage() (*api.Usage, error) {
	u := s.store.Usage()
	out := &api.Usage{Place: s.Place(), Objects: u.Objects, Packs: u.Packs, StoredBytes: u.StoredBytes, DeadBytes: u.DeadBytes, Snapshots: u.Snapshots,
		FreeBytes: u.FreeBytes, Volumes: []api.VolumeUsage{}}
	out.BallastHeld, out.BallastWanted = s.store.Ballast()
	vols, err := s.cat.Volumes()
	if err != nil {
		return nil, err
	}
	var added int64
	var byVolume [][]object.ID
	for _, v := range vols {
		rows, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, err
		}
		ids := make([]object.ID, len(rows))
		for i, r := range rows {
			ids[i], _ = object.ParseID(r.ID)
		}
		added += addedPerDay(rows, s.clock.Now())
		byVolume = append(byVolume, ids)
		out.Volumes = append(out.Volumes, api.VolumeUsage{Volume: v.Name, Snapshots: len(rows)})
	}
	needs, alone, err := s.store.Shares(byVolume...)
	if err != nil {
		return nil, err
	}
	for i := range out.Volumes {
		out.Volumes[i].Referenced, out.Volumes[i].Unique = needs[i], alone[i]
	}
	if out.Caps, err = s.Caps(); err != nil {
		return nil, err
	}
	f, err := s.forecast()
	if err != nil {
		return nil, err
	}
	out.Forecast = *f
	out.Forecast.Sentence += s.floorNeeds(added, out.StoredBytes)
	return out, nil
}
