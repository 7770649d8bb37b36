package recovery

import (
	"errors"
	"io/fs"
	"time"

	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
	shown "candidharbor/internal/views"
)

// Views gives this site's snapshots to be shown.
func (s *Service) Views() shown.Source { return s.ViewerFor(nil).Views() }

type viewSource struct{ e *Viewer }

func (v viewSource) Volumes() ([]string, error) {
	return v.e.volumeNames()
}

func (v viewSource) Moments(volume string, second time.Time) ([]shown.Moment, error) {
	var f catalog.SnapshotFilter
	if !second.IsZero() {
		f.From, f.To = second, second.Add(time.Second-1)
	}
	return v.moments(volume, f)
}

func (v viewSource) Newest(volume string) (shown.Moment, bool, error) {
	all, err := v.moments(volume, catalog.SnapshotFilter{Limit: 1})
	if err != nil || len(all) == 0 {
		return shown.Moment{}, false, err
	}
	return all[0], true, nil
}

func (v viewSource) moments(volume string, f catalog.SnapshotFilter) ([]shown.Moment, error) {
	if row, err := v.e.volume(volume); refusal.ClassOf(err) == refusal.Missing || err == nil && row.IsDisk() {
		return nil, errors.Join(fs.ErrNotExist, err)
	} else if err != nil {
		return nil, err
	}
	rows, err := v.e.s.Catalog.Moments(v.e.s.Place(), volume, f)
	out := make([]shown.Moment, len(rows))
	for i, r := range rows {
		out[i] = shown.Moment{ID: r.ID, Taken: r.Began.Time}
	}
	return out, err
}

func (v viewSource) Hold(volume, id string) (*shown.Held, error) {
	h, err := v.e.holdMoment(volume, id)
	if err != nil {
		return nil, err
	}
	return &shown.Held{Root: h.root, Get: h.get, Release: h.release}, nil
}
