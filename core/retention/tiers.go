package retention

import (
	"math"
	"time"
)

// span is the run of buckets that a snapshot stands in.
func (c *calendar) span(s *Snapshot, now time.Time) (from, to int64) {
	return c.bucket(s.Taken), c.bucket(s.seen(now))
}

// oldest is the oldest bucket that a step by duration still keeps.
func (c *calendar) oldest(step Step, now time.Time) int64 { return c.bucket(now.Add(-step.For)) }

// until is when a step lets go the snapshot of a bucket.
func (c *calendar) until(step Step, bucket, current int64, rank int) time.Time {
	if step.For > 0 {
		return c.start(bucket + 1).Add(step.For)
	}
	return c.start(max(current, bucket) + int64(step.Count-rank) + 1)
}

// lasts walks from the newest position down. A bucket belongs to the first snapshot
// met that stands in it. Buckets are claimed as a growing run towards the past; only
// clocks that ran backwards make a hole in it, which the set of claims then fills.
func (r *Rules) lasts(t Tier, snaps []Snapshot, scheduled []int32, now time.Time, out []Verdict) {
	cal := calendar{zone: r.Zone, tier: t, shift: int64(r.WeekShift)}
	step := r.Tiers[t]
	claimed := make(map[int64]struct{})
	var low, high int64 // all buckets in [low, high] are claimed once begun
	begun := false
	found := 0
	current := cal.bucket(now)
	reach := int64(math.MinInt64)
	if step.For > 0 {
		reach = cal.oldest(step, now)
	}
	for _, i := range scheduled {
		s := &snaps[i]
		from, to := cal.span(s, now)
		newest, any := int64(0), false
		switch {
		case !begun:
			low, high, begun = from, to, true
			newest, any = to, true
		case from >= low && to <= high:
		default:
			for b := to; b >= from; b-- {
				if b >= low && b <= high {
					b = low // skip what is claimed
					continue
				}
				if _, taken := claimed[b]; taken {
					continue
				}
				if !any {
					newest, any = b, true
				}
				if b == low-1 {
					low = b
				} else {
					claimed[b] = struct{}{}
				}
			}
		}
		if !any || newest < reach {
			continue
		}
		found++
		out[i].Reasons = append(out[i].Reasons, Reason{Rule: Rule(t.String()), Bucket: cal.start(newest), Rank: found,
			Of: step.Count, For: step.For,
			Until: cal.until(step, newest, current, found)})
		if found == step.Count {
			return
		}
		if len(claimed) > 0 {
			for {
				if _, ok := claimed[low-1]; !ok {
					break
				}
				delete(claimed, low-1)
				low--
			}
		}
	}
}

// firsts walks from the oldest position up: a bucket belongs to the snapshot with the
// least position that stands in it.
func (r *Rules) firsts(t Tier, snaps []Snapshot, scheduled []int32, now time.Time, out []Verdict) {
	cal := calendar{zone: r.Zone, tier: t, shift: int64(r.WeekShift)}
	step := r.Tiers[t]
	type rep struct {
		index  int32
		bucket int64 // the newest that it stands for
	}
	var reps []rep
	claimed := intervals{}
	for k := len(scheduled) - 1; k >= 0; k-- {
		i := scheduled[k]
		if b, ok := claimed.claim(cal.span(&snaps[i], now)); ok {
			reps = append(reps, rep{i, b})
		}
	}
	current := cal.bucket(now)
	reach := int64(math.MinInt64)
	if step.For > 0 {
		reach = cal.oldest(step, now)
	}
	found := 0
	for k := len(reps) - 1; k >= 0 && (step.Count == 0 || found < step.Count); k-- {
		if reps[k].bucket < reach {
			continue
		}
		found++
		out[reps[k].index].Reasons = append(out[reps[k].index].Reasons,
			Reason{Rule: Rule(t.String()), Bucket: cal.start(reps[k].bucket), Rank: found, Of: step.Count, For: step.For,
				First: true, Until: cal.until(step, reps[k].bucket, current, found)})
	}
}

// intervals is a set of buckets as sorted, disjoint runs. Claims come nearly in
// ascending order, so the run that matters is at the end.
type intervals struct{ runs [][2]int64 }

// claim adds a run and returns the greatest bucket in it that was not there yet.
func (v *intervals) claim(from, to int64) (newest int64, ok bool) {
	k := len(v.runs)
	for k > 0 && v.runs[k-1][0] > to+1 {
		k--
	}
	// runs[:k] begin at or before to+1; find the greatest free bucket in [from, to].
	newest = to
	low, high := from, to
	j := k
	for j > 0 && v.runs[j-1][1] >= from-1 {
		run := v.runs[j-1]
		if run[0] <= newest && newest <= run[1] {
			newest = run[0] - 1
		}
		low, high = min(low, run[0]), max(high, run[1])
		j--
	}
	if newest < from {
		return 0, false
	}
	v.runs = append(v.runs[:j], append([][2]int64{{low, high}}, v.runs[k:]...)...)
	return newest, true
}
