package failover

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
)

// report is what a drill has found so far.
func (o *act) report() *api.DrillReport {
	d := o.doc.Drill
	out := &api.DrillReport{Version: o.doc.Version, Cadence: d.Cadence, Dir: d.Dir, Network: d.Network, Good: true,
		LossObjective: int64(o.book.Loss.Seconds()), TimeObjective: int64(o.book.Time.Seconds())}
	for _, t := range []struct {
		at time.Time
		to **time.Time
	}{{d.At, &out.At}, {o.doc.Up, &out.Up}, {d.Until, &out.Until}, {d.Gone, &out.Gone}} {
		if !t.at.IsZero() {
			at := t.at
			*t.to = &at
		}
	}
	if d.Ends && out.Until != nil && out.Gone != nil && out.Gone.Before(*out.Until) {
		out.Until = out.Gone
	}
	for _, v := range o.doc.Volumes {
		out.LossSeconds = max(out.LossSeconds, time.Duration(v.Loss).Seconds())
	}
	for _, st := range o.doc.Steps {
		out.Good = out.Good && (st.State != api.StepSkipped && st.State != api.StepFailed || st.Code == stepAway)
	}
	if out.Good = out.Good && !o.doc.Up.IsZero() && d.Failed == ""; !o.doc.Up.IsZero() {
		out.TimeSeconds = o.doc.Up.Sub(o.row.Began.Time).Seconds()
	}
	out.WithinLoss = o.book.Loss == 0 || !d.At.IsZero() || out.LossSeconds <= o.book.Loss.Seconds()
	out.WithinTime = o.book.Time == 0 || !o.doc.Up.IsZero() && out.TimeSeconds <= o.book.Time.Seconds()
	return out
}

// drillOutcome is how a drill went, for people.
func (o *act) drillOutcome() string {
	r := o.report()
	words := fmt.Sprintf("All of it was up within %s; its oldest state was %s old", lasted(r.TimeSeconds),
		lasted(r.LossSeconds))
	if r.At != nil {
		words += fmt.Sprintf(", as %s was asked for", phrase.Stamp(*r.At))
	}
	words += "."
	if !r.WithinTime {
		words += fmt.Sprintf(" That takes longer than the %s of the objective.", phrase.Ago(o.book.Time))
	}
	if !r.WithinLoss {
		words += fmt.Sprintf(" That loses more than the %s of the objective.", phrase.Ago(o.book.Loss))
	}
	trouble := 0
	for _, st := range o.doc.Steps {
		if st.State == api.StepSkipped {
			trouble++
		}
	}
	if trouble > 0 {
		words += passedOver(trouble)
	}
	if o.doc.Drill.NoApart != "" {
		words += " It had the network of this host, so its checks may have met what runs there."
	}
	return words
}

func lasted(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	if d < time.Second {
		return "less than a second"
	}
	return phrase.Ago(d)
}

// viewDrill says how a drill stands.
func (o *act) viewDrill(out *api.Failover, runs, waits string) {
	d := o.doc.Drill
	out.Drill = o.report()
	switch out.State {
	case api.FailoverDone:
		out.Sentence = o.outcome() + " All of it was taken away."
	case api.FailoverUp:
		out.Sentence = fmt.Sprintf("%s It stays up until %s.", o.outcome(), phrase.Stamp(d.Until))
		out.Next, out.Command = "When you have seen enough, end it", "candid drill end "+out.Runbook
	case api.FailoverWaiting:
		out.Sentence = fmt.Sprintf("It waits for a person: %s.", strings.TrimPrefix(waits, "Pause: "))
		out.Next, out.Command = "When that is done, say so", "candid failover answer "+out.Runbook
	case api.FailoverStopped:
		out.Sentence = "It could not be taken away whole: " + trimmed(o.doc.Steps[len(o.doc.Steps)-1].Said) + "."
		out.Next, out.Command = "Try again", "candid drill end "+out.Runbook
	case api.FailoverFailed:
		out.Sentence = fmt.Sprintf("It failed. %s. All of it was taken away.", trimmed(d.Failed))
		out.Next, out.Command = "Mend it and drill again", "candid drill start "+out.Runbook
	case api.FailoverCancelled:
		out.Sentence = "It was ended before all was up, and taken away."
	default:
		out.Sentence = runs
	}
}

// Drills lists the drills, the newest first.
func (s *Service) Drills() ([]api.Failover, error) { return s.list(drill) }

// Drill shows one drill, by its id, or the last one by a runbook.
func (s *Service) Drill(id string) (*api.Failover, error) {
	row, err := s.act(id, drill)
	if err != nil {
		return nil, err
	}
	o, err := s.read(row)
	if err != nil {
		return nil, err
	}
	return o.view(), nil
}

// act finds one of some kinds, by its id, or the last one by a runbook.
func (s *Service) act(id string, kinds ...string) (*catalog.Failover, error) {
	if row, err := s.Catalog.Failover(id); err == nil && slices.Contains(kinds, row.Kind) {
		return row, nil
	}
	rows, err := s.Catalog.FailoversBy(id, kinds, nil, 1)
	if err != nil {
		return nil, err
	}
	if id != "" && len(rows) > 0 {
		return rows[0], nil
	}
	if slices.Contains(kinds, drill) {
		return nil, refusal.Missingf("no drill %s, and none by a runbook of that name: candid drill list", id)
	}
	return nil, refusal.Missingf("no failover %s, and none by a runbook of that name: candid failover list", id)
}

// latestDrills is among how many one of the newest states is looked for.
const latestDrills = 20

// lastDrill tells how the last drill by a runbook went, as far as it counts for what the runbook says now.
func (s *Service) lastDrill(name string, add adder) error {
	row, err := s.Catalog.Runbook(name)
	if err != nil {
		return nil // it is not stored yet
	}
	rows, err := s.Catalog.FailoversBy(name, []string{drill}, []string{api.FailoverDone, api.FailoverFailed,
		api.FailoverUp}, latestDrills)
	if err != nil {
		return err
	}
	for _, f := range rows {
		o, err := s.read(f)
		if err != nil {
			return err
		}
		if o.doc.Version != row.Version {
			break
		}
		if !o.doc.Drill.At.IsZero() { // it says nothing of the newest states
			continue
		}
		r, on := o.report(), phrase.Stamp(f.Began.Time)
		switch {
		case !r.Good && o.doc.Drill.Failed != "":
			add(needsDrill, name, false, "candid drill show "+f.ID, "The drill of %s failed. %s.", on,
				trimmed(o.doc.Drill.Failed))
		case !r.WithinTime:
			add(needsDrill, name, false, "candid drill show "+f.ID, "In the drill of %s it took %s until all was up, and %s "+
				"are allowed.", on, lasted(r.TimeSeconds), phrase.Ago(o.book.Time))
		case !r.Good:
			add(needsDrill, name, true, "candid drill show "+f.ID, "In the drill of %s all was up within %s, and steps failed "+
				"that may.", on, lasted(r.TimeSeconds))
		default:
			add(needsDrill, name, true, "", "In the drill of %s all was up within %s.", on, lasted(r.TimeSeconds))
		}
		return nil
	}
	add(needsDrill, name, true, "candid drill start "+name, "No drill has been held by it as it is now.")
	return nil
}

// mostDrills bounds how many drills a report goes through.
const mostDrills = 10_000

// DrillRows sums up the drills since a time, by volume.
func (s *Service) DrillRows(since time.Time) ([]api.DrillRow, error) {
	out := []api.DrillRow{}
	if s.IsPlace {
		return out, nil
	}
	rows, err := s.Catalog.Failovers([]string{drill}, []string{api.FailoverDone, api.FailoverFailed, api.FailoverUp},
		mostDrills)
	if err != nil {
		return nil, err
	}
	at := map[[2]string]int{}
	for _, f := range rows { // the newest first
		if f.Began.Before(since) {
			break
		}
		o, err := s.read(f)
		if err != nil {
			return nil, err
		}
		r := o.report()
		for _, v := range o.doc.Volumes {
			key := [2]string{v.Name, f.Runbook}
			i, ok := at[key]
			if !ok {
				i, at[key] = len(out), len(out)
				out = append(out, api.DrillRow{Volume: v.Name, Place: s.Name(), Runbook: f.Runbook, LastAt: f.Began.Time,
					LastGood: r.Good, LossObjective: r.LossObjective, TimeObjective: r.TimeObjective})
			}
			x := &out[i]
			if x.Drills++; r.Good {
				x.Good++
			}
			if x.WorstTime = max(x.WorstTime, r.TimeSeconds); r.At == nil {
				x.WorstLoss = max(x.WorstLoss, time.Duration(v.Loss).Seconds())
			}
		}
	}
	slices.SortFunc(out, func(a, b api.DrillRow) int {
		return cmp.Or(cmp.Compare(a.Volume, b.Volume), cmp.Compare(a.Runbook, b.Runbook))
	})
	return out, nil
}
