package retention

import (
	"slices"
	"time"
)

// milestone keeps, for each chosen day that has ended and is not older than the rule
// reaches, the last snapshot that stands in that day; when none does, the first after it.
func (r *Rules) milestone(m *Milestone, snaps []Snapshot, scheduled []int32, now time.Time, out []Verdict) {
	if len(scheduled) == 0 {
		return
	}
	cal := calendar{zone: r.Zone, tier: Daily}
	days := r.milestoneDays(m, &cal, snaps, scheduled, now)
	keep := func(i int32, day int64) {
		out[i].Reasons = append(out[i].Reasons, Reason{Rule: RuleMilestone, Bucket: cal.start(day), For: m.For,
			Until: cal.start(day + 1).Add(m.For), Text: m.Name})
	}
	left := days // ascending, those that nothing stands in yet
	for _, i := range scheduled {
		if len(left) == 0 {
			return
		}
		from, to := cal.span(&snaps[i], now)
		a, _ := slices.BinarySearch(left, from)
		b, _ := slices.BinarySearch(left, to+1)
		if a == b {
			continue
		}
		keep(i, left[b-1]) // the newest of its days lasts longest
		left = slices.Delete(left, a, b)
	}
	for k := len(scheduled) - 1; k >= 0 && len(left) > 0; k-- {
		i := scheduled[k]
		n, _ := slices.BinarySearch(left, cal.bucket(snaps[i].Taken))
		if n > 0 {
			keep(i, left[n-1])
			left = left[n:]
		}
	}
}

// milestoneDays lists the days, as daily buckets, ascending, that the rule picks and
// still keeps, from the day of the oldest snapshot on.
func (r *Rules) milestoneDays(m *Milestone, cal *calendar, snaps []Snapshot, scheduled []int32,
	now time.Time) (days []int64) {
	today := cal.bucket(now)
	oldest := today
	for _, i := range scheduled {
		oldest = min(oldest, cal.bucket(snaps[i].Taken))
	}
	for b := max(oldest, cal.bucket(now.Add(-m.For))-1); b < today; b++ {
		if y, mo, d := time.Unix(b*86400, 0).UTC().Date(); m.On.Holds(y, mo, d) && now.Before(cal.start(b+1).Add(m.For)) {
			days = append(days, b)
		}
	}
	return days
}
