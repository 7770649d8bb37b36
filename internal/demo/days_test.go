package demo

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Whichever day the story is told, nobody works over the line while it is down, and the fire waits until it is back.
func TestOutageInNobodysWay(t *testing.T) {
	for days := 24; days <= 120; days++ {
		for weekday := range 7 {
			s := &story{opt: Options{Days: days}, begin: time.Date(2026, 11, 1+weekday, 9, 0, 0, 0, time.UTC)}
			down := s.outageDay()
			on := s.begin.AddDate(0, 0, down).Weekday()
			require.NotContains(t, []time.Weekday{time.Friday, time.Saturday, time.Sunday}, on, "of %d days", days)
			for _, day := range []int{down, down + 1} {
				require.False(t, s.lineNeeded()[day], "of %d days from a %s, day %d", days, s.begin.Weekday(), day)
			}
			require.NotEqual(t, days*4/9, down, "the accident of %d days", days)
			require.GreaterOrEqual(t, s.fireDay(s.events()), down+2, "of %d days from a %s", days, s.begin.Weekday())
		}
	}
}
