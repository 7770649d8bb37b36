package recovery

import (
	"cmp"
	"context"

	"candidharbor/api"
	"candidharbor/core/retention"
	"candidharbor/internal/catalog"
	"candidharbor/internal/refusal"
)

// AllSnapshots lists the snapshots of all volumes here, the newest first or in another order.
func (s *Service) AllSnapshots(ctx context.Context, f catalog.AllFilter) (api.Page[api.Snapshot], error) {
	page := api.Page[api.Snapshot]{Items: []api.Snapshot{}}
	if !catalog.KnowsWhich(f.Which) {
		return page, refusal.Badf("%q does not choose snapshots: write kept, grace, marked, end, turn or here", f.Which)
	}
	if f.Label[0] != "" && f.Label[1] == "" {
		return page, refusal.Badf("label %q: write key=value", f.Label[0])
	}
	if f.Volume != "" {
		if _, err := s.Catalog.Volume(f.Volume); err != nil {
			return page, err
		}
	}
	if f.Site != "" {
		if _, err := s.Catalog.Peer(f.Site); err != nil {
			return page, err
		}
	}
	var rows []*catalog.Snapshot
	var own map[string]int64
	var err error
	if f.Sort == catalog.SortOwn {
		if own, err = s.rules.OwnBytes(ctx); err != nil {
			return page, err
		}
		rows, page.Next, err = s.Catalog.AllSnapshotsBy(s.Place(), f, own)
	} else {
		rows, page.Next, err = s.Catalog.AllSnapshots(s.Place(), f)
	}
	if err != nil {
		return page, err
	}
	ids := make([]string, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	at, err := s.Catalog.CarriedTo(ids)
	if err != nil {
		return page, err
	}
	for _, r := range rows {
		v, err := s.Catalog.Volume(r.Volume)
		if err != nil {
			return page, err
		}
		d, err := s.rules.Decide(v) // which is kept for those of the same volume
		if err != nil {
			return page, err
		}
		view, err := s.rules.SnapshotView(r, cmp.Or(d.Of(r), &retention.Verdict{}))
		if err != nil {
			return page, err
		}
		view.FarPlaces, view.Unique = at[r.ID], own[r.ID]
		page.Items = append(page.Items, *view)
	}
	return page, nil
}
