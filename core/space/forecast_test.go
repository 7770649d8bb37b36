package space

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A steady trend is found under noise, and a large step of late hardly bends it.
func TestTrend(t *testing.T) {
	begin := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	r := rand.New(rand.NewPCG(1, 2))
	var samples []Sample
	for day := range 60 {
		s := Sample{At: begin.AddDate(0, 0, day), Stored: 1<<40 + int64(day)<<30 + r.Int64N(1<<28),
			Free: 200<<30 - int64(day)<<31 + r.Int64N(1<<28)}
		if day > 52 {
			s.Free += 40 << 30 // somebody cleared something away
		}
		samples = append(samples, s)
	}
	got, ok := TrendOf(samples)
	require.True(t, ok)
	require.InEpsilon(t, 1<<30, got.Stored, 0.02)
	require.InEpsilon(t, -float64(1<<31), got.Free, 0.35)
	require.Equal(t, begin, got.Since)

	got = Trend{Free: -float64(1 << 30)}
	at, ok := got.Reaches(begin, 110<<30, 10<<30)
	require.True(t, ok)
	require.Equal(t, begin.AddDate(0, 0, 100), at)
	at, ok = got.Reaches(begin, 5, 10)
	require.True(t, ok && at.Equal(begin), "it is there already")
	_, ok = got.Reaches(begin, 1<<60, 0)
	require.False(t, ok, "beyond twenty years")
	_, ok = Trend{Free: 1}.Reaches(begin, 100, 0)
	require.False(t, ok, "it grows")

	_, ok = TrendOf(samples[:2])
	require.False(t, ok)
	_, ok = TrendOf([]Sample{{At: begin}, {At: begin}, {At: begin.Add(time.Hour)}})
	require.False(t, ok, "an hour tells nothing")
}
