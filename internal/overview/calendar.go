package overview

import (
	"fmt"
	"strings"
	"time"

	"candidharbor/core/preview"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"

	ics "github.com/arran4/golang-ical"
)

// mostEntries of one policy and day stand by themselves; more become one entry.
const mostEntries = 6

// Calendar writes the coming snapshots of each policy and the days on which snapshots
// expire as an iCalendar object (RFC 5545).
func (s *Service) Calendar(days int) (string, error) {
	if days < 1 || days > 366 {
		return "", refusal.Badf("a calendar of %d days cannot be made: give 1 to 366", days)
	}
	now := s.Clock.Now()
	end := now.AddDate(0, 0, days)
	cal := ics.NewCalendar()
	cal.SetProductId("-//Candid Harbor//snapshots//EN")
	cal.SetName("Snapshots at " + s.Name())
	entry := func(uid, what, more string, from, to time.Time) {
		e := cal.AddEvent(uid + "@" + s.Name() + ".candid-harbor")
		e.SetDtStampTime(now)
		e.SetStartAt(from)
		e.SetEndAt(to)
		e.SetSummary(what)
		e.SetTimeTransparency(ics.TransparencyTransparent) // nobody is busy by it
		if more != "" {
			e.SetDescription(more)
		}
	}
	all, err := s.rules.CompiledPolicies()
	if err != nil {
		return "", err
	}
	vols, err := s.Catalog.Volumes()
	if err != nil {
		return "", err
	}
	for _, c := range all {
		var names []string
		for _, v := range vols {
			if c.Holds(v) && v.Protected && v.Paused.IsZero() && v.ActiveAt(s.Name()) {
				names = append(names, v.Name)
			}
		}
		if c.Paused || len(names) == 0 {
			continue
		}
		due := preview.Due(c.Take, now, end, 100_000)
		for len(due) > 0 {
			day := due[0].In(c.Zone).Format("20060102")
			n := 1
			for n < len(due) && due[n].In(c.Zone).Format("20060102") == day {
				n++
			}
			if n > mostEntries {
				entry(c.Name+"-"+day, phrase.Many(n, "snapshot")+" by "+c.Name, "of "+strings.Join(names, ", "), due[0],
					due[n-1])
			} else {
				for _, t := range due[:n] {
					entry(c.Name+"-"+t.UTC().Format("20060102T150405"), "snapshot by "+c.Name, "of "+strings.Join(names, ", "), t, t)
				}
			}
			due = due[n:]
		}
	}
	for _, v := range vols {
		d, err := s.rules.Decide(v)
		if err != nil {
			return "", err
		}
		byDay := map[string]int{}
		at := map[string]time.Time{}
		for i := range d.Rows {
			over, known := d.Verdicts[i].Ends()
			if !known || over.After(end) || !d.Rows[i].GraceUntil.IsZero() {
				continue
			}
			day := over.In(now.Location()).Format("20060102")
			byDay[day]++
			at[day] = over
		}
		for day, n := range byDay {
			e := cal.AddEvent("expiry-" + v.Name + "-" + day + "@" + s.Name() + ".candid-harbor")
			e.SetDtStampTime(now)
			e.SetAllDayStartAt(at[day].In(now.Location()))
			e.SetSummary(fmt.Sprintf("%s of %s %s, as the rules are", phrase.Many(n, "snapshot"), v.Name,
				phrase.Pick(n, "expires", "expire")))
			e.SetTimeTransparency(ics.TransparencyTransparent)
		}
	}
	return cal.Serialize(), nil
}
