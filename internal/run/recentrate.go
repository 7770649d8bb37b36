package run

import (
	"time"
)

// RecentRate tells how fast something goes on, over the last seconds.
type RecentRate struct{ seen []progressAt }

type progressAt struct {
	at   time.Time
	done int64
}

// What is made durable comes in steps, on a slow line one in ten seconds: less than two of
// them tell no rate.
const latelySpan = 30 * time.Second

// Rate notes what is done by now and returns bytes per second; 0 while that is not known.
func (l *RecentRate) Rate(now, began time.Time, done int64) float64 {
	if len(l.seen) == 0 {
		l.seen = append(l.seen, progressAt{began, 0})
	}
	if last := l.seen[len(l.seen)-1]; now.Sub(last.at) >= 200*time.Millisecond {
		l.seen = append(l.seen, progressAt{now, done})
	}
	for len(l.seen) > 2 && now.Sub(l.seen[1].at) >= latelySpan {
		l.seen = l.seen[1:]
	}
	first := l.seen[0]
	took := now.Sub(first.at).Seconds()
	if took < 0.2 || done <= first.done {
		return 0
	}
	return float64(done-first.done) / took
}
