package rules

import (
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/core/space"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
)

// noteUsage notes now and then how full the store is.
func (s *Service) noteUsage() error {
	now := s.Clock.Now()
	last, err := s.Catalog.UsageSince(now.Add(-usageEvery))
	if err != nil || len(last) > 0 {
		return err
	}
	free, _ := s.Room()
	return s.Catalog.PutUsage(&catalog.UsageSample{At: catalog.At(now), Stored: s.Store.Usage().StoredBytes, Free: free},
		now.Add(-usageKept))
}

// Forecast foresees when the store's filesystem is full, going on as lately.
func (s *Service) Forecast() (*api.Forecast, error) {
	now := s.Clock.Now()
	rows, err := s.Catalog.UsageSince(now.Add(-trendOver))
	if err != nil {
		return nil, err
	}
	out := &api.Forecast{Samples: []api.UsageSample{}}
	samples := make([]space.Sample, len(rows))
	for i, r := range rows {
		samples[i] = space.Sample{At: r.At.Time, Stored: r.Stored, Free: r.Free}
		out.Samples = append(out.Samples, api.UsageSample{At: r.At.Time, Stored: r.Stored, Free: r.Free})
	}
	t, ok := space.TrendOf(samples)
	if !ok {
		out.Sentence = "It was not watched long enough yet to foresee when it is full: that takes two days."
		return out, nil
	}
	free, _ := s.Room()
	_, _, least := s.Lacking()
	out.StoredPerDay, out.FreePerDay = int64(t.Stored), int64(t.Free)
	grows := fmt.Sprintf("the store grew by %s a day", phrase.Size(out.StoredPerDay))
	if out.StoredPerDay <= 0 {
		grows = "the store did not grow"
	}
	since := phrase.Ago(now.Sub(t.Since))
	what := "full"
	if least > 0 {
		what = "down to its headroom of " + phrase.Size(least)
	}
	at, reaches := t.Reaches(now, free, least)
	switch {
	case !reaches:
		out.Sentence = fmt.Sprintf("Over the last %s %s; at this rate the filesystem is not %s within twenty years.", since,
			grows, what)
	case !at.After(now):
		out.Full = &at
		out.Sentence = fmt.Sprintf("Over the last %s %s; the filesystem is %s now.", since, grows, what)
	default:
		out.Full = &at
		out.Sentence = fmt.Sprintf("Over the last %s %s and free space fell by %s a day; at this rate the filesystem is "+
			"%s in about %s, around %s.", since, grows, phrase.Size(-out.FreePerDay), what, phrase.Ago(at.Sub(now)),
			at.Local().Format("2 January 2006"))
	}
	return out, nil
}

// FloorNeeds tells of a floor that holds more than there is room for; empty when it does
// not.
func (s *Service) FloorNeeds(addedPerDay, stored int64) string {
	days := s.Floor.Hours() / 24
	free, _ := s.Room()
	need := int64(float64(addedPerDay) * days)
	if need <= stored+free {
		return ""
	}
	return fmt.Sprintf(" The floor keeps everything for %s; at %s a day that needs %s, and there are %s: lower the "+
		"floor, or make room.",
		s.Conf.Floor, phrase.Size(addedPerDay), phrase.Size(need), phrase.Size(stored+free))
}

// ForecastSoon is how near a full filesystem must be to be told on the first page.
const ForecastSoon = 30 * 24 * time.Hour
