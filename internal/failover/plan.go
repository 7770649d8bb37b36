package failover

import (
	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
)

// planSteps lists what is done, in its order.
func (o *act) planSteps() {
	if o.doc.Drill != nil {
		o.planDrill()
		return
	}
	add := o.plan
	add(stepAsk, "Ask other sites who is active", -1, false)
	if o.row.Kind == planned {
		add(stepCarry, "Carry what is new, while "+o.row.Peer+" still serves", -1, false)
		add(stepFreeze, "Have "+o.row.Peer+" stop serving, and carry the rest", -1, false)
		add(stepAuthority, "Have "+o.row.Peer+" hand over", -1, false)
	} else {
		add(stepChoose, "Find the newest states that are here whole", -1, false)
		if o.book.Witness != "" {
			add(stepWitness, "Have "+o.book.Witness+" witness it", -1, false)
		}
		add(stepAuthority, "Take over", -1, false)
	}
	o.planBook(func() { add(stepRoutes, "Turn the routes round", -1, false) })
}

func (o *act) plan(code, text string, book int, after bool) {
	o.doc.Steps = append(o.doc.Steps, actStep{Code: code, Text: text, State: api.StepToDo, Book: book, After: after})
}

// planBook lists the steps of the runbook; between comes when all is up.
func (o *act) planBook(between func()) {
	for i := range o.book.Steps {
		st := &o.book.Steps[i]
		o.plan(string(st.Kind), phrase.UpperFirst(st.Words()), i, false)
	}
	if between != nil {
		between()
	}
	for i := range o.book.After {
		st := &o.book.After[i]
		o.plan(string(st.Kind), phrase.UpperFirst(st.Words()), i, true)
	}
}

// resume goes on with acts that a start interrupted. One that has moved nothing yet, or whose time is over, waits for a
// person.
func (s *Service) resume() error {
	rows, err := s.Catalog.Failovers(nil, openDrills, 1000)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if row.State == api.FailoverStopped && row.Kind != drill {
			continue
		}
		if row.Kind == handOver {
			if err := s.giveUpHandOver(row); err != nil {
				return err
			}
			continue
		}
		o, err := s.read(row)
		if err != nil {
			return err
		}
		for i := range o.doc.Steps {
			if o.doc.Steps[i].State == api.StepRunning {
				o.doc.Steps[i].State = api.StepToDo
			}
		}
		if o.doc.Drill != nil {
			if err := s.resumeDrill(o); err != nil {
				return err
			}
			continue
		}
		o.findRecord()
		switch {
		case !o.moved() && row.Kind == unplanned:
			o.row.State, o.row.Ended = api.FailoverCancelled, catalog.At(s.Clock.Now())
			err = o.save()
			s.run.Go(o.withdraw)
		case s.Clock.Now().After(o.doc.Until):
			o.row.State = api.FailoverStopped
			err = o.save()
		default:
			for i := range o.doc.Steps { // whoever may have taken over meanwhile is asked anew
				if o.doc.Steps[i].Code == stepAsk {
					o.doc.Steps[i].State = api.StepToDo
				}
			}
			err = o.begin("the service")
		}
		if err != nil {
			return err
		}
	}
	return nil
}
