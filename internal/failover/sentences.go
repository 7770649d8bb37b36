package failover

import (
	"errors"
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
)

// Within these nobody need act: standing back takes a moment, and so does coming back.
const (
	standsBackSoon = 3 * time.Minute
	aloneSoon      = 10 * time.Minute
)

// Sentences tell of what is active where in doubt, of what stands back, of failovers that wait, of runbooks that would
// not work, and of what was left behind.
func (s *Service) Sentences(vols []*catalog.Volume, add func(api.Sentence)) error {
	if s.IsPlace {
		return nil
	}
	s.doubtSentences(vols, add)
	return errors.Join(s.idleSentences(vols, add), s.standBackSentences(add), s.actSentences(add), s.readySentences(add),
		s.aloneSentences(vols, add), s.leftSentences(add))
}

// some names one of several volumes.
func some(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	return fmt.Sprintf("%s, such as %s", phrase.Many(len(names), "volume"), names[0])
}

func (s *Service) doubtSentences(vols []*catalog.Volume, add func(api.Sentence)) {
	by := map[authority.Cause][]string{}
	for _, v := range vols {
		if v.Active == authority.Nobody {
			by[s.authority.Doubt(v)] = append(by[s.authority.Doubt(v)], v.Name)
		}
	}
	for cause, names := range by {
		next, command := "Look who is active, then say so", "candid authority show "+names[0]
		if cause == authority.CauseAlone {
			next, command = "Have another site answer, or say that this one goes on", "candid authority go-on "+names[0]
		}
		add(api.Sentence{Text: fmt.Sprintf("It is not known whether this site is still the active one of %s: %s. "+
			"Nothing of it "+
			"is taken or served here.", some(names), doubtWords[cause]), Weight: "act", About: "authority " + string(cause),
			Next: next, Command: command, Link: "/volumes/" + names[0]})
	}
}

func (s *Service) standBackSentences(add func(api.Sentence)) error {
	todo, err := s.toStandBack()
	if err != nil {
		return err
	}
	var late []string
	var site, hook string
	for _, b := range todo {
		if s.Clock.Now().Sub(b.Since.Time) < standsBackSoon {
			continue
		}
		late = append(late, b.v.Name)
		site = b.Site
		if b.Hook != "" && b.Hook != catalog.HookDone {
			hook = b.Hook
		}
	}
	if len(late) == 0 {
		return nil
	}
	text := fmt.Sprintf("%s is active of %s, and it is not certain that nobody writes to it here any more.", site,
		some(late))
	if hook != "" {
		text += fmt.Sprintf(" The hook %s failed: %s.", HookStandBack, hook)
	}
	add(api.Sentence{Text: text + " What is written here is kept as left behind.", Weight: "act", About: "stand-back",
		Next: "End what writes there", Command: "candid authority show " + late[0], Link: "/volumes/" + late[0]})
	return nil
}

func (s *Service) actSentences(add func(api.Sentence)) error {
	rows, err := s.Catalog.Failovers(nil, openDrills, 100)
	if err != nil {
		return err
	}
	for _, row := range rows {
		o, err := s.read(row)
		if err != nil {
			return err
		}
		f := o.view()
		what := "failover"
		if row.Kind == drill {
			what = drill
		}
		x := api.Sentence{Text: fmt.Sprintf("A %s by %s is under way. %s.", what, f.Runbook, trimmed(f.Sentence)),
			Weight: "look", About: what + " " + f.ID, Next: "Look at it", Command: "candid " + what + " show " + f.Runbook,
			Link: "/failovers/" + f.ID}
		if row.Kind == drill {
			x.Link = "/drills/" + f.ID
		}
		if f.State == api.FailoverWaiting || f.State == api.FailoverStopped {
			x.Text = fmt.Sprintf("The %s by %s: %s.", what, f.Runbook, trimmed(f.Sentence))
			x.Weight, x.Next, x.Command = "act", f.Next, f.Command
		}
		add(x)
	}
	return nil
}

func trimmed(text string) string {
	for len(text) > 0 && (text[len(text)-1] == '.' || text[len(text)-1] == ' ') {
		text = text[:len(text)-1]
	}
	return text
}

func (s *Service) readySentences(add func(api.Sentence)) error {
	rows, err := s.Catalog.Runbooks()
	if err != nil {
		return err
	}
	for _, row := range rows {
		b, err := parse(row)
		if err != nil {
			return err
		}
		r, err := s.readiness(b)
		if err != nil {
			return err
		}
		if r.Ready {
			continue
		}
		first := ""
		n := 0
		for _, c := range r.Checks {
			if c.OK {
				continue
			}
			if n++; first == "" {
				first = trimmed(c.Text)
			}
		}
		text := fmt.Sprintf("The runbook %s would not work now: %s.", row.Name, first)
		if n > 1 {
			text = fmt.Sprintf("The runbook %s would not work now: %s, and %s more.", row.Name, first,
				phrase.Many(n-1, "reason"))
		}
		add(api.Sentence{Text: text, Weight: "act", About: "runbook " + row.Name, Next: "See all that it lacks",
			Command: "candid runbook check " + row.Name, Link: "/recovery"})
	}
	return nil
}

// aloneSentences say that no site answers which may have taken over what this one serves.
func (s *Service) aloneSentences(vols []*catalog.Volume, add func(api.Sentence)) error {
	peers, err := s.Catalog.Peers()
	if err != nil {
		return err
	}
	heard := map[string]*catalog.Peer{}
	for _, p := range peers {
		heard[p.Name] = p
	}
	var alone []string
	var since time.Time
	for _, v := range vols {
		line := s.authority.Line(v)
		if !v.ActiveAt(s.Name()) || len(line) == 0 {
			continue
		}
		last, up, others := time.Time{}, false, 0
		for _, m := range line[len(line)-1].Next {
			if p := heard[m.Site]; p != nil {
				others++
				up = up || s.pairing.Up(p.Name) || s.Clock.Now().Sub(p.Seen.Time) < aloneSoon
				if p.Seen.After(last) {
					last = p.Seen.Time
				}
			}
		}
		if others > 0 && !up {
			alone = append(alone, v.Name)
			if since.IsZero() || last.Before(since) {
				since = last
			}
		}
	}
	if len(alone) == 0 {
		return nil
	}
	add(api.Sentence{Text: fmt.Sprintf("Alone since %s: no site answers that may take over %s. Another one may be "+
		"active of "+
		"it by now; this one serves on.", phrase.Stamp(since), some(alone)), Weight: "look", About: "alone",
		Next: "Look at the lines to other sites", Command: "candid site list", Link: "/sites"})
	return nil
}

func (s *Service) leftSentences(add func(api.Sentence)) error {
	rows, err := s.Catalog.LeftBehind(s.Place(), "")
	if err != nil || len(rows) == 0 {
		return err
	}
	soonest := rows[0].LeftUntil.Time
	names := []string{}
	for i, r := range rows {
		if r.LeftUntil.Before(soonest) {
			soonest = r.LeftUntil.Time
		}
		if i == 0 || rows[i-1].Volume != r.Volume {
			names = append(names, r.Volume)
		}
	}
	text := fmt.Sprintf("A snapshot of %s was left behind when another site took over; it is kept until %s.", names[0],
		phrase.Stamp(soonest))
	if len(rows) > 1 {
		of := some(names)
		if len(names) > 1 {
			of += ","
		}
		text = fmt.Sprintf("%s of %s were left behind when another site took over; the first is kept until %s.",
			phrase.Many(len(rows), "snapshot"), of, phrase.Stamp(soonest))
	}
	add(api.Sentence{Text: text, Weight: "look", About: "left-behind",
		Next: "See what is in them", Command: "candid left-behind list", Link: "/volumes/" + names[0]})
	return nil
}
