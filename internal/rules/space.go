package rules

import (
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
)

// Space tells what a volume's snapshots take here, how that grows, and when space comes
// back by itself.
func (s *Service) Space(volume string) (*api.Space, error) {
	v, err := s.Catalog.Volume(volume)
	if err != nil {
		return nil, err
	}
	d, err := s.Decide(v)
	if err != nil {
		return nil, err
	}
	out := &api.Space{Volume: volume, Place: s.Place(), Snapshots: len(d.Rows), Returns: []api.Return{},
		Sentences: []string{}}
	if len(d.Rows) == 0 {
		out.Sentences = append(out.Sentences, fmt.Sprintf("%s has no snapshot here, so it takes no space.", volume))
		return out, nil
	}
	ids := make([]object.ID, len(d.Rows))
	for i, r := range d.Rows {
		if ids[i], err = object.ParseID(r.ID); err != nil {
			return nil, err
		}
	}
	out.LiveBytes = d.Rows[0].Bytes
	if out.Newest, err = s.Store.Referenced(ids[0]); err != nil {
		return nil, err
	}
	needs, alone, err := s.Store.Shares(ids)
	if err != nil {
		return nil, err
	}
	out.Referenced, out.Unique = needs[0], alone[0]
	out.Shared = out.Referenced - out.Unique
	now := s.Clock.Now()
	out.AddedPerDay = AddedPerDay(d.Rows, now)
	rs, err := s.RulesFor(v)
	if err != nil {
		return nil, err
	}
	var returning [][]object.ID
	for _, days := range []int{1, 7, 30, 90, 365} {
		by := now.AddDate(0, 0, days)
		var going []object.ID
		for i, r := range d.Rows {
			end, known := d.Verdicts[i].Ends()
			gone := known && end.Add(rs.Grace).Before(by)
			if !r.GraceUntil.IsZero() {
				gone = r.GraceUntil.Before(by)
			} else if !d.Verdicts[i].Kept() {
				gone = now.Add(rs.Grace).Before(by)
			}
			if gone {
				going = append(going, ids[i])
			}
		}
		returning = append(returning, going)
		out.Returns = append(out.Returns, api.Return{Days: days, By: by, Snapshots: len(going)})
	}
	bytes, err := s.Store.FreedEach(returning...)
	if err != nil {
		return nil, err
	}
	for i := range out.Returns {
		out.Returns[i].Bytes = bytes[i]
	}
	s.spaceWords(out)
	return out, nil
}

// AddedPerDay is what snapshots of the last 30 days added, per day.
func AddedPerDay(rows []*catalog.Snapshot, now time.Time) int64 {
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

func (s *Service) spaceWords(out *api.Space) {
	say := func(format string, args ...any) { out.Sentences = append(out.Sentences, fmt.Sprintf(format, args...)) }
	if out.Snapshots == 0 {
		say("It has no snapshots here, so it takes no room.")
		return
	}
	one := out.Snapshots == 1
	need, went := "Its "+phrase.Many(out.Snapshots, "snapshot")+" here need", "if all of them went"
	if one {
		need, went = "Its one snapshot here needs", "if it went"
	}
	switch {
	case out.Unique == 0 && out.Referenced > 0:
		say("%s %s, all of which others need too: nothing would come back %s.", need, phrase.Size(out.Referenced), went)
	case out.Unique >= out.Referenced:
		say("%s %s, and all of that would come back %s.", need, phrase.Size(out.Referenced), went)
	default:
		say("%s %s; %s would come back %s, the rest others need too.", need, phrase.Size(out.Referenced),
			phrase.Size(out.Unique), went)
	}
	adds := "Lately snapshots add " + phrase.Size(out.AddedPerDay) + " a day."
	if out.AddedPerDay == 0 {
		adds = "Lately snapshots add nothing."
	}
	say("The newest state of %s takes %s stored. %s", phrase.Size(out.LiveBytes), phrase.Size(out.Newest), adds)
	for _, r := range out.Returns {
		if r.Bytes > 0 {
			verb := "go"
			if r.Snapshots == 1 {
				verb = "goes"
			}
			say("Within %s %s come back by themselves, when %s %s by the rules and a sweep follows.", phrase.Many(r.Days, "day"),
				phrase.Size(r.Bytes), phrase.Many(r.Snapshots, "snapshot"), verb)
			return
		}
	}
	say("Nothing comes back by itself within a year, as far as the rules tell now.")
}

// Freeing tells exactly what removing any snapshots would give back, and what of that
// only all of them together give.
func (s *Service) Freeing(ids []string) (*api.Freeing, error) {
	if len(ids) == 0 || len(ids) > 100_000 {
		return nil, refusal.Badf("name 1 to 100000 snapshots")
	}
	out := &api.Freeing{Snapshots: []api.FreeingOne{}}
	seen := map[object.ID]bool{}
	var all []object.ID
	var each [][]object.ID
	for _, id := range ids {
		row, err := s.Catalog.Snapshot(id)
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
	_, alone, err := s.Store.Shares(each...)
	if err != nil {
		return nil, err
	}
	for i, n := range alone {
		out.Snapshots[i].AloneBytes = n
		out.AloneBytes += n
	}
	if out.Bytes, err = s.Store.Freed(all); err != nil {
		return nil, err
	}
	out.Sentence = fmt.Sprintf("Removing %s would give back %s after grace and a sweep", phrase.Many(len(all), "snapshot"),
		phrase.Size(out.Bytes))
	if together := out.Bytes - out.AloneBytes; len(all) > 1 && together > 0 {
		out.Sentence += fmt.Sprintf("; %s of that only because they go together", phrase.Size(together))
	}
	out.Sentence += "."
	return out, nil
}
