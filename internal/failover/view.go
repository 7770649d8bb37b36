package failover

import (
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/transfer"
)

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func isRefusal(err error) bool {
	_, is := err.(*transfer.Refusal)
	return is
}

// view shows an act.
func (o *act) view() *api.Failover {
	f := &o.row
	out := &api.Failover{ID: f.ID, Kind: f.Kind, Runbook: f.Runbook, Peer: f.Peer, State: f.State, Began: f.Began.Time,
		Ended: f.Ended.Ptr(), AskedBy: f.AskedBy, Run: f.Run, Steps: []api.FailoverStep{}, Volumes: []api.FailoverLoss{}}
	now := o.s.Clock.Now()
	var waits, runs, failed string
	for _, st := range o.doc.Steps {
		v := api.FailoverStep{Code: st.Code, Text: st.Text, State: st.State, Attempt: st.Attempt, Said: st.Said}
		if !st.Began.IsZero() {
			began := st.Began
			v.Began = &began
			if end := st.Ended; !end.IsZero() {
				v.Seconds = end.Sub(st.Began).Seconds()
			} else {
				v.Seconds = now.Sub(st.Began).Seconds()
			}
		}
		switch st.State {
		case api.StepWaiting:
			waits = st.Text
		case api.StepRunning:
			runs = st.Text
		case api.StepFailed:
			failed = st.Text + ": " + st.Said
		}
		out.Steps = append(out.Steps, v)
	}
	for _, av := range o.doc.Volumes {
		l := api.FailoverLoss{Volume: av.Name, Group: av.Group, From: av.From, Place: av.Place,
			LossSeconds:  time.Duration(av.Loss).Seconds(),
			DoubtSeconds: time.Duration(av.Doubt).Seconds()}
		if o.row.Kind == planned {
			l.LossSeconds, l.DoubtSeconds = 0, 0
		}
		if !av.Taken.IsZero() {
			taken, known := av.Taken, av.Known
			if known.IsZero() { // of an act that an earlier release began
				known = taken
			}
			l.Taken, l.Known = &taken, &known
		}
		out.Volumes = append(out.Volumes, l)
	}
	if !o.doc.Down.IsZero() {
		end := o.doc.Up
		if end.IsZero() {
			end = now
		}
		out.DownSeconds = end.Sub(o.doc.Down).Seconds()
	}
	if o.doc.Drill != nil {
		o.viewDrill(out, runs, waits)
		return out
	}
	switch f.State {
	case api.FailoverDone:
		out.Sentence = o.outcome()
	case api.FailoverWaiting:
		out.Sentence = fmt.Sprintf("It waits for a person: %s.", strings.TrimPrefix(waits, "Pause: "))
		out.Next, out.Command = "When that is done, say so", "candid failover answer "+f.Runbook
	case api.FailoverStopped:
		out.Sentence = fmt.Sprintf("%s is active, and not all of it is up. %s", o.s.Name(), failed)
		out.Next, out.Command = "Mend it and go on", "candid failover "+f.Runbook+" --"+f.Kind
	case api.FailoverFailed, api.FailoverCancelled:
		out.Sentence = "Nothing was taken over. " + failed
	default:
		out.Sentence = runs
	}
	if f.Kind == handOver {
		out.Sentence = map[string]string{api.FailoverRunning: "This site is handing over to " + f.Peer + ".",
			api.FailoverDone: "Handed over to " + f.Peer + "."}[f.State]
		if out.Sentence == "" {
			out.Sentence = "It was given up; this site serves on."
		}
	}
	return out
}

// Failovers lists what was moved, or was to be, newest first.
func (s *Service) Failovers() ([]api.Failover, error) { return s.list(planned, unplanned, handOver) }

func (s *Service) list(kinds ...string) ([]api.Failover, error) {
	rows, err := s.Catalog.Failovers(kinds, nil, 200)
	if err != nil {
		return nil, err
	}
	out := make([]api.Failover, 0, len(rows))
	for _, r := range rows {
		o, err := s.read(r)
		if err != nil {
			return nil, err
		}
		out = append(out, *o.view())
	}
	return out, nil
}

// Show shows one failover, by its id, or the last one by a runbook.
func (s *Service) Show(id string) (*api.Failover, error) {
	row, err := s.act(id, planned, unplanned, handOver)
	if err != nil {
		return nil, err
	}
	o, err := s.read(row)
	if err != nil {
		return nil, err
	}
	return o.view(), nil
}

// Cancel gives a failover up that has moved nothing yet.
func (s *Service) Cancel(id string) (string, error) {
	f, err := s.Show(id)
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	j := s.acting[f.ID]
	s.mu.Unlock()
	row, err := s.Catalog.Failover(f.ID)
	if err != nil {
		return "", err
	}
	o, err := s.read(row)
	if err != nil {
		return "", err
	}
	if o.findRecord(); o.moved() {
		return "", refusal.Conflictf("%s is active by it already: what goes back is a failover of its own, candid "+
			"failback %s",
			s.Name(), f.Runbook)
	}
	if j == nil {
		return "", refusal.Conflictf("the failover by %s is %s: there is nothing to give up", f.Runbook, f.State)
	}
	j.Stop()
	return fmt.Sprintf("The failover by %s is given up, unless the other site has handed over already.", f.Runbook), nil
}

// Authority tells who is active of a volume, and by which records.
func (s *Service) Authority(name string) (*api.Authority, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return nil, err
	}
	active, term := s.authority.Active(v)
	out := &api.Authority{Volume: v.Name, Origin: v.Origin, Active: active, Here: active == s.Name(), Term: int64(term),
		Doubt: string(s.authority.Doubt(v)), May: []string{}, Records: []api.AuthorityRecord{}}
	line := s.authority.Line(v)
	for i := len(line) - 1; i >= 0; i-- {
		r := line[i]
		m := r.Of(lineageOf(v))
		rec := api.AuthorityRecord{ID: r.ID.String(), Term: int64(m.Term), Edition: int64(m.Edition), Site: r.Site,
			At: time.Unix(0, r.At), Why: r.Why, SignedBy: hex.EncodeToString(r.Signer)}
		if !m.From.IsZero() {
			rec.From = m.From.String()
		}
		for _, x := range r.Next {
			rec.May = append(rec.May, x.Site)
		}
		out.Records = append(out.Records, rec)
	}
	if len(out.Records) > 0 {
		out.May = out.Records[0].May
	}
	left, err := s.Catalog.LeftBehind(s.Place(), v.Name)
	if err != nil {
		return nil, err
	}
	out.Left = len(left)
	b, err := s.Catalog.StandBack(v.Lineage)
	if err != nil {
		return nil, err
	}
	if b != nil && active != s.Name() {
		out.Back = &api.StandingBack{Site: b.Site, Since: b.Since.Time, Hook: b.Hook, Confirmed: b.Confirmed.Ptr(),
			Kept: b.Kept}
	}
	out.Sentence = s.authoritySentence(v, out)
	return out, nil
}

func (s *Service) authoritySentence(v *catalog.Volume, a *api.Authority) string {
	switch {
	case a.Doubt != "" && a.Active == authority.Nobody:
		said := "a person has said so"
		if authority.Cause(a.Doubt) == authority.CauseTwoSites {
			said = fmt.Sprintf("one of them was stopped, that was said where both were seen (candid site confirm %s), and "+
				"a person has said who goes on", s.Name())
		}
		return fmt.Sprintf("It is not known whether %s is still the active site: %s. Nothing is taken or served "+
			"here until %s: candid authority go-on %s.", s.Name(), doubtWords[authority.Cause(a.Doubt)], said, v.Name)
	case len(a.Records) == 0:
		return fmt.Sprintf("%s is active, and no other site may take over.", a.Active)
	case a.Term <= 1 && a.Active == a.Origin:
		return fmt.Sprintf("%s is active since the beginning; %s may take over.", a.Active, words(others(a.May, a.Active)))
	}
	since := a.Records[0]
	for _, r := range a.Records { // the record that moved it; later editions only list others
		if r.Term == since.Term {
			since = r
		}
	}
	out := fmt.Sprintf("%s is active in term %d, since %s.", a.Active, a.Term, phrase.Stamp(since.At))
	switch {
	case a.Back == nil:
	case a.Back.Confirmed != nil:
		out += " This site stood back, and nobody writes here any more."
	default:
		out += " This site stands back; it is not certain yet that nobody writes here any more."
	}
	return out
}

var doubtWords = map[authority.Cause]string{
	authority.CausePutBack:  "this site was put back to an earlier state",
	authority.CauseTwoSites: "two sites show its key",
	authority.CauseDamaged:  "a record of authority cannot be read",
	authority.CauseAlone:    "no other site has answered since the start, and site.yaml says to wait for one",
}

func others(all []string, but string) []string {
	return slices.DeleteFunc(slices.Clone(all), func(s string) bool { return s == but })
}

// GoOn is a person's word that this site is the active one of a volume.
func (s *Service) GoOn(name, by string) (*api.Authority, error) {
	v, err := s.Catalog.Volume(name)
	if err != nil {
		return nil, err
	}
	if s.authority.Doubt(v) == "" {
		return nil, refusal.Conflictf("it is known who is active of %s: candid authority show %s", name, name)
	}
	row, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
	if err != nil {
		return nil, err
	}
	if row == nil {
		return nil, refusal.Conflictf("%s has no snapshot to go on from", name)
	}
	if err := s.authority.GoOn(v, row, by); err != nil {
		return nil, err
	}
	if v, err = s.Catalog.Volume(name); err != nil {
		return nil, err
	}
	if up, err := s.isUp(v); err != nil {
		return nil, err
	} else if up && v.IsDisk() {
		if err := s.disks.ServeAgain(s.run.Context(), v); err != nil { // Today tells what it needs
			s.Log.Error("a disk that this site is active of cannot be opened", "volume", v.Name, "error", err)
		}
	}
	return s.Authority(name)
}

// LeftBehind lists what was left behind here, of one volume or of all.
func (s *Service) LeftBehind(volume string) ([]api.LeftBehind, error) {
	if volume != "" {
		if _, err := s.Catalog.Volume(volume); err != nil {
			return nil, err
		}
	}
	rows, err := s.Catalog.LeftBehind(s.Place(), volume)
	if err != nil {
		return nil, err
	}
	out := make([]api.LeftBehind, len(rows))
	for i, r := range rows {
		out[i] = api.LeftBehind{Snapshot: r.ID, Volume: r.Volume, Site: r.Taker(), Term: r.Term, Taken: r.Began.Time,
			Until: r.LeftUntil.Time, Why: r.OutOfTurn, Bytes: r.Bytes}
	}
	return out, nil
}

// LetLeftGo keeps a snapshot that was left behind no longer: the next pruning sends it into grace.
func (s *Service) LetLeftGo(id string) (string, error) {
	row, err := s.Catalog.Snapshot(id)
	if err != nil {
		return "", err
	}
	if row, err = s.Catalog.SnapshotAt(s.Place(), row.ID); err != nil {
		return "", err
	}
	if row == nil || row.LeftUntil.IsZero() {
		return "", refusal.Conflictf("snapshot %.12s was not left behind here: candid left-behind list", id)
	}
	if err := s.capture.LetLeftGo(row); err != nil {
		return "", err
	}
	return fmt.Sprintf("What was left behind of %s, taken %s, is kept no longer: the next pruning sends it into grace.",
		row.Volume, phrase.Stamp(row.Began.Time)), nil
}
