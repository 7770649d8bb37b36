package site

import (
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
)

// Space tells what a volume's snapshots take here, how that grows, and when space comes
// back by itself.
func (s *Site) Space(volume string) (*api.Space, error) {
	v, err := s.cat.Volume(volume)
	if err != nil {
		return nil, err
	}
	d, err := s.decide(v)
	if err != nil {
		return nil, err
	}
	out := &api.Space{Volume: volume, Place: s.Place(), Snapshots: len(d.rows), Returns: []api.Return{}, Sentences: []string{}}
	if len(d.rows) == 0 {
		out.Sentences = append(out.Sentences, fmt.Sprintf("%s has no snapshot here, so it takes no space.", volume))
		return out, nil
	}
	ids := make([]object.ID, len(d.rows))
	for i, r := range d.rows {
		if ids[i], err = object.ParseID(r.ID); err != nil {
			return nil, err
		}
	}
	out.LiveBytes = d.rows[0].Bytes
	if out.Newest, err = s.store.Referenced(ids[0]); err != nil {
		return nil, err
	}
	needs, alone, err := s.store.Shares(ids)
	if err != nil {
		return nil, err
	}
	out.Referenced, out.Unique = needs[0], alone[0]
	out.Shared = out.Referenced - out.Unique
	now := s.clock.Now()
	out.AddedPerDay = addedPerDay(d.rows, now)
	rs, err := s.rulesFor(v)
	if err != nil {
		return nil, err
	}
	var returning [][]object.ID
	for _, days := range []int{1, 7, 30, 90, 365} {
		by := now.AddDate(0, 0, days)
		var going []object.ID
		for i, r := range d.rows {
			end, known := d.verdicts[i].Ends()
			gone := known && end.Add(rs.grace).Before(by)
			if !r.GraceUntil.IsZero() {
				gone = r.GraceUntil.Before(by)
			} else if !d.verdicts[i].Kept() {
				gone = now.Add(rs.grace).Before(by)
			}
			if gone {
				going = append(going, ids[i])
			}
		}
		returning = append(returning, going)
		out.Returns = append(out.Returns, api.Return{Days: days, By: by, Snapshots: len(going)})
	}
	bytes, err := s.store.FreedEach(returning...)
	if err != nil {
		return nil, err
	}
	for i := range out.Returns {
		out.Returns[i].Bytes = bytes[i]
	}
	s.spaceWords(out)
	return out, nil
}

// addedPerDay is what snapshots of the last 30 days added, per day.
func addedPerDay(rows []*catalog.Snapshot, now time.Time) int64 {
	var total int64
	oldest := now
	first := len(rows) - 1 // the very first one is no change
	for i, r := range rows {
		if now.Sub(r.Began.Time) > 30*24*time.Hour {
			break
		}
		oldest = r.Began.Time
		if i != first || r.Sequence > 1 {
			total += r.Stored
		}
	}
	days := max(1, now.Sub(oldest).Hours()/24)
	return int64(float64(total) / days)
}

func (s *Site) spaceWords(out *api.Space) {
	say := func(format string, args ...any) { out.Sentences = append(out.Sentences, fmt.Sprintf(format, args...)) }
	say("Its %s here need %s; %s would come back if all of them went, the rest others need too.", many(out.Snapshots, "snapshot"), size(out.Referenced), size(out.Unique))
	say("The newest state of %s takes %s stored. Lately snapshots add %s a day.", size(out.LiveBytes), size(out.Newest), size(out.AddedPerDay))
	for _, r := range out.Returns {
		if r.Bytes > 0 {
			verb := "go"
			if r.Snapshots == 1 {
				verb = "goes"
			}
			say("Within %s %s come back by themselves, when %s %s by the rules and a sweep follows.", many(r.Days, "day"), size(r.Bytes), many(r.Snapshots, "snapshot"), verb)
			return
		}
	}
	say("Nothing comes back by itself within a year, as far as the rules tell now.")
}

// Freeing tells exactly what removing any snapshots would give back, and what of that
// only all of them together give.
func (s *Site) Freeing(ids []string) (*api.Freeing, error) {
	if len(ids) == 0 || len(ids) > 100_000 {
		return nil, bad("name 1 to 100000 snapshots")
	}
	out := &api.Freeing{Snapshots: []api.FreeingOne{}}
	seen := map[object.ID]bool{}
	var all []object.ID
	var each [][]object.ID
	for _, id := range ids {
		row, err := s.cat.Snapshot(id)
		if err != nil {
			return nil, err
		}
		oid, err := object.ParseID(row.ID)
		if err != nil {
			return nil, err
		}
		if seen[oid] {
			continue
		}
		seen[oid] = true
		all, each = append(all, oid), append(each, []object.ID{oid})
		out.Snapshots = append(out.Snapshots, api.FreeingOne{ID: row.ID, Volume: row.Volume, Taken: row.Began.Time})
	}
	_, alone, err := s.store.Shares(each...)
	if err != nil {
		return nil, err
	}
	for i, n := range alone {
		out.Snapshots[i].AloneBytes = n
		out.AloneBytes += n
	}
	if out.Bytes, err = s.store.Freed(all); err != nil {
		return nil, err
	}
	out.Sentence = fmt.Sprintf("Removing %s would give back %s after grace and a sweep", many(len(all), "snapshot"), size(out.Bytes))
	if together := out.Bytes - out.AloneBytes; len(all) > 1 && together > 0 {
		out.Sentence += fmt.Sprintf("; %s of that only because they go together", size(together))
	}
	out.Sentence += "."
	return out, nil
}
