// Package moment has moments in sentences. A sentence is made where something happens, and read by people in other
// time zones: a moment in it is marked, and written at the edge in the zone and the form of who reads.
package moment

import (
	"strings"
	"sync"
	"time"

	"candidharbor/core/cadence"
)

// A marked moment stands in UTC between two word joiners (U+2060), which do not show, so that a text that passes no
// edge can still be read. Names that people choose cannot hold the mark: phrase.Printable escapes it.
const (
	Mark   = "\u2060"
	marked = "2006-01-02 15:04:05Z"
	length = len(Mark) + len(marked) + len(Mark)
)

// Say marks a moment in a sentence, to the second.
func Say(t time.Time) string { return Mark + t.UTC().Format(marked) + Mark }

// Dates is a form of dates.
type Dates string

// The forms of dates.
const (
	YearFirst  Dates = "year first"  // 2026-11-29 14:05:00
	DayFirst   Dates = "day first"   // 29 Nov 2026 14:05:00
	MonthFirst Dates = "month first" // Nov 29, 2026 2:05:00 pm
)

// Form is the layout of package time for a form of dates; one that is not known is year first.
func (d Dates) Form() string {
	switch d {
	case DayFirst:
		return "2 Jan 2006 15:04:05"
	case MonthFirst:
		return "Jan 2, 2006 3:04:05 pm"
	default:
		return time.DateTime
	}
}

// Style is how moments are written for somebody.
type Style struct {
	Zone  *time.Location
	Dates Dates
}

// Here is the style of this host.
func Here() Style { return Style{Zone: time.Local} }

// Write writes a moment.
func (s Style) Write(t time.Time) string { return t.In(s.Zone).Format(s.Dates.Form()) }

// Text is a text with its marked moments written. Nothing else of it changes.
func (s Style) Text(text string) string {
	at := strings.Index(text, Mark)
	if at < 0 {
		return text
	}
	var out strings.Builder
	out.Grow(len(text) + length)
	for at >= 0 {
		if len(text) >= at+length && text[at+length-len(Mark):at+length] == Mark {
			if t, err := time.Parse(marked, text[at+len(Mark):at+length-len(Mark)]); err == nil {
				out.WriteString(text[:at])
				out.WriteString(s.Write(t))
				text = text[at+length:]
				at = strings.Index(text, Mark)
				continue
			}
		}
		out.WriteString(text[:at+len(Mark)])
		text = text[at+len(Mark):]
		at = strings.Index(text, Mark)
	}
	out.WriteString(text)
	return out.String()
}

// Read takes a style from the name of a zone and a form, as a reader asks for it: "Europe/Lisbon, day first".
func Read(ask string) (Style, bool) {
	name, dates, _ := strings.Cut(ask, ", ")
	if zone, ok := zones.Load(name); ok {
		return Style{Zone: zone.(*time.Location), Dates: Dates(dates)}, true
	}
	zone, err := cadence.LoadZone(name)
	if err != nil {
		return Style{}, false
	}
	zones.Store(name, zone)
	return Style{Zone: zone, Dates: Dates(dates)}, true
}

// zones are those that somebody asked for, by name: each is read from its file once. There are only so many that are.
var zones sync.Map
