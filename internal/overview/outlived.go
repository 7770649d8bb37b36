package overview

import (
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
)

const (
	outlivedTold = 24 * time.Hour // what lasts less is the ordinary course
	outlivedAct  = 72 * time.Hour // what lasts longer is an alarm
)

// outlivedSentences tell which snapshots outlived their rules, and why, a sentence for each cause.
func (s *Service) outlivedSentences(add func(api.Sentence)) error {
	rows, err := s.Catalog.Outlived()
	if err != nil {
		return err
	}
	now := s.Clock.Now()
	for len(rows) > 0 {
		first, n, since := rows[0], 0, rows[0].Since
		var names []string
		for len(rows) > 0 && rows[0].Cause == first.Cause && rows[0].Place == first.Place {
			if n += rows[0].Snapshots; rows[0].Since.Before(since.Time) {
				since = rows[0].Since
			}
			names = append(names, rows[0].Volume)
			rows = rows[1:]
		}
		lasted := now.Sub(since.Time)
		if lasted < outlivedTold {
			continue
		}
		x := outlivedSentence(first, n)
		x.Text = fmt.Sprintf("%s of %s outlived %s rules because %s, since %s.", phrase.Many(n, "snapshot"),
			phrase.Names(names, mostNamed), phrase.Pick(n, "its", "their"), x.Text, phrase.Stamp(since.Time))
		x.About, x.Weight = "outlived "+string(first.Cause)+" "+first.Place, "look"
		if lasted >= outlivedAct && first.Cause != catalog.OutlivedInUse { // a clone is somebody's wish
			x.Weight = "act"
		}
		add(x)
	}
	return nil
}

// outlivedSentence says why, and the next step.
func outlivedSentence(o catalog.Outlived, n int) api.Sentence {
	they := phrase.Pick(n, "it", "them")
	switch o.Cause {
	case catalog.OutlivedOwed:
		return api.Sentence{Text: o.Place + " is to have " + they + " and has not yet", Next: "See how far the routes are",
			Command: "candid route list", Link: "/sites"}
	case catalog.OutlivedInUse:
		return api.Sentence{Text: "clones, drills or outlets stand on " + they, Next: "See which",
			Command: "candid clone list", Link: "/recovery"}
	case catalog.OutlivedAhead:
		return api.Sentence{Text: phrase.Pick(n, "it is", "they are") + " dated later than now", Next: "See which",
			Command: "candid prune --dry-run", Link: "/space"}
	}
	return api.Sentence{Text: "nothing is removed at present", Next: "Release removal", Command: "candid store release",
		Link: "/space"}
}
