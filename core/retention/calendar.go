package retention

import (
	"fmt"
	"time"
)

// calendar numbers the buckets of one tier in one zone. Numbers ascend with time
// and adjoining buckets have adjoining numbers.
type calendar struct {
	zone  *time.Location
	tier  Tier
	shift int64 // days from Monday to the day on which weeks begin
	// The zone's offset is constant between two changes; one look-up serves all
	// instants in between.
	from, to int64
	offset   int64
}

func (c *calendar) offsetAt(t time.Time) int64 {
	u := t.Unix()
	if u >= c.from && u < c.to {
		return c.offset
	}
	local := t.In(c.zone)
	_, off := local.Zone()
	start, end := local.ZoneBounds()
	c.from, c.to, c.offset = -1<<62, 1<<62, int64(off)
	if !start.IsZero() {
		c.from = start.Unix()
	}
	if !end.IsZero() {
		c.to = end.Unix()
	}
	return c.offset
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// hourFrom is when the zone's part of an hour beside UTC is looked up, such as half an hour.
var hourFrom = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// part is by how much hours of the zone begin before those of UTC, in seconds.
func (c *calendar) part() int64 {
	_, offset := hourFrom.In(c.zone).Zone()
	return int64(offset) - floorDiv(int64(offset), 3600)*3600
}

// bucket returns the number of the bucket that holds t. Hours are counted as they pass, so
// that one which comes twice is two.
func (c *calendar) bucket(t time.Time) int64 {
	if c.tier == Hourly {
		return floorDiv(t.Unix()+c.part(), 3600)
	}
	wall := t.Unix() + c.offsetAt(t)
	switch c.tier {
	case Daily:
		return floorDiv(wall, 86400)
	case Weekly: // 1970-01-01 was a Thursday; ISO weeks begin on Monday
		return floorDiv(floorDiv(wall, 86400)+3-c.shift, 7)
	}
	y, m, _ := time.Unix(wall, 0).UTC().Date()
	if c.tier == Monthly {
		return int64(y)*12 + int64(m) - 1
	}
	return int64(y)
}

// start returns the first instant of a bucket.
func (c *calendar) start(b int64) time.Time {
	at := func(y int, m time.Month, d int) time.Time { return time.Date(y, m, d, 0, 0, 0, 0, c.zone) }
	switch c.tier {
	case Hourly:
		return time.Unix(b*3600-c.part(), 0).In(c.zone)
	case Daily:
		return at(1970, 1, 1+int(b))
	case Weekly:
		return at(1970, 1, 1+int(b*7-3+c.shift))
	case Monthly:
		return at(int(floorDiv(b, 12)), time.Month(b-floorDiv(b, 12)*12)+1, 1)
	}
	return at(int(b), 1, 1)
}

// name says which bucket it is, for people.
func bucketName(rule Rule, start time.Time) string {
	switch rule {
	case "hourly":
		return start.Format("the hour from 15:04 on 2 Jan 2006")
	case "daily":
		return start.Format("2 Jan 2006")
	case "weekly":
		if start.Weekday() != time.Monday { // such weeks have no number
			return "the week from " + start.Format("2 Jan 2006")
		}
		y, w := start.ISOWeek()
		return fmt.Sprintf("week %d of %d", w, y)
	case "monthly":
		return start.Format("January 2006")
	}
	return start.Format("2006")
}
