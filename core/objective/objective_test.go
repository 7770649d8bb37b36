package objective

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var begin = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)

func minute(n int) time.Time { return begin.Add(time.Duration(n) * time.Minute) }

// Measured minute by minute: in each, the newest state known at its beginning decides.
func TestAgainstEveryMinute(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var states []State
		for range rapid.IntRange(0, 12).Draw(t, "states") {
			known := rapid.IntRange(-300, 1200).Draw(t, "known")
			states = append(states, State{Known: minute(known), As: minute(known - rapid.IntRange(-20, 400).Draw(t, "age"))})
		}
		objective := rapid.IntRange(0, 300).Draw(t, "objective")
		var pauses []Stretch
		for range rapid.IntRange(0, 3).Draw(t, "pauses") {
			p := rapid.IntRange(-100, 1000).Draw(t, "paused")
			pauses = append(pauses, Stretch{From: minute(p), To: minute(p + rapid.IntRange(1, 200).Draw(t, "for"))})
		}
		from, to := 0, rapid.IntRange(1, 1000).Draw(t, "to")
		got := Measure(states, time.Duration(objective)*time.Minute, pauses, minute(from), minute(to))
		var on, late, none, paused int
		var stretches [][2]int
		for m := from; m < to; m++ {
			var newest time.Time
			for _, s := range states {
				as := s.As
				if as.After(s.Known) {
					as = s.Known
				}
				if !s.Known.After(minute(m)) && as.After(newest) {
					newest = as
				}
			}
			resting := slices.ContainsFunc(pauses, func(p Stretch) bool {
				return !minute(m).Before(p.From) && minute(m).Before(p.To)
			})
			switch {
			case newest.IsZero():
				none++
			case resting:
				paused++
			case objective > 0 && !minute(m).Before(newest.Add(time.Duration(objective)*time.Minute)):
				late++
				if n := len(stretches); n > 0 && stretches[n-1][1] == m {
					stretches[n-1][1] = m + 1
				} else {
					stretches = append(stretches, [2]int{m, m + 1})
				}
			default:
				on++
			}
		}
		require.Equal(t, [4]int{on, late, none, paused}, [4]int{int(got.OnTarget.Minutes()), int(got.Late.Minutes()),
			int(got.Unprotected.Minutes()), int(got.Paused.Minutes())})
		require.Len(t, got.Stretches, len(stretches))
		for i, s := range stretches {
			require.Equal(t, minute(s[0]), got.Stretches[i].From)
			require.Equal(t, minute(s[1]), got.Stretches[i].To)
			require.Equal(t, s[1] == to, got.Stretches[i].Open)
		}
	})
}

func ExampleMeasure() {
	hour := func(h int) time.Time { return begin.Add(time.Duration(h) * time.Hour) }
	r := Measure([]State{{hour(0), hour(0)}, {hour(1), hour(1)}, {hour(6), hour(5)}}, 2*time.Hour, nil, hour(0), hour(8))
	fmt.Println(r.OnTarget, r.Late, r.WorstAge)
	for _, s := range r.Stretches {
		fmt.Println(s.From.Format("15:04"), s.To.Format("15:04"), s.Open)
	}
	// Output:
	// 4h0m0s 4h0m0s 5h0m0s
	// 03:00 06:00 false
	// 07:00 08:00 true
}
