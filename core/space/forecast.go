package space

import (
	"slices"
	"time"
)

// Sample is what a store and its filesystem held at a time, in bytes.
type Sample struct {
	At           time.Time
	Stored, Free int64
}

// Trend is how they change, in bytes per day.
type Trend struct {
	Stored, Free float64
	Since        time.Time // of the first sample that was considered
}

// TrendOf returns the median slope over all pairs of samples (Theil 1950, Sen 1968): single
// strange samples do not count, and a large step of late hardly bends it. ok is false when they span less than
// two days. Samples are in ascending order of time.
func TrendOf(samples []Sample) (t Trend, ok bool) {
	if len(samples) < 3 || samples[len(samples)-1].At.Sub(samples[0].At) < 48*time.Hour {
		return t, false
	}
	var stored, free []float64
	for i, a := range samples {
		for _, b := range samples[i+1:] {
			days := b.At.Sub(a.At).Hours() / 24
			if days <= 0 {
				continue
			}
			stored = append(stored, float64(b.Stored-a.Stored)/days)
			free = append(free, float64(b.Free-a.Free)/days)
		}
	}
	if len(stored) == 0 {
		return t, false
	}
	return Trend{Stored: median(stored), Free: median(free), Since: samples[0].At}, true
}

func median(v []float64) float64 {
	slices.Sort(v)
	if n := len(v); n%2 == 0 {
		return (v[n/2-1] + v[n/2]) / 2
	}
	return v[len(v)/2]
}

// farthest is as far as a forecast goes.
const farthest = 20 * 365 * 24 * time.Hour

// Reaches returns when free space falls to least, going on as it did; ok is false when it
// does not within twenty years.
func (t Trend) Reaches(now time.Time, free, least int64) (at time.Time, ok bool) {
	if free <= least {
		return now, true
	}
	if t.Free >= 0 {
		return at, false
	}
	days := float64(free-least) / -t.Free
	if days*24 > farthest.Hours() {
		return at, false
	}
	return now.Add(time.Duration(days * 24 * float64(time.Hour))), true
}
