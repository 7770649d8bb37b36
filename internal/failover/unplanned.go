package failover

import (
	"context"
	"fmt"
	"slices"
	"time"

	"candidharbor/api"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/runbook"
)

// Failover begins to take over what a runbook names, or tells what that would mean.
func (s *Service) Failover(ctx context.Context, name string, ask api.FailoverAsk, by string) (*api.Failover, error) {
	if s.IsPlace {
		return nil, pairing.ErrPlaceHolds
	}
	row, err := s.Catalog.Runbook(name)
	if err != nil {
		return nil, err
	}
	return s.failover(ctx, row, ask, by)
}

func (s *Service) failover(ctx context.Context, row *catalog.Runbook, ask api.FailoverAsk, by string) (*api.Failover,
	error) {
	name := row.Name
	s.beginning.Lock() // two people begin one after the other
	defer s.beginning.Unlock()
	open, err := s.Catalog.Failovers([]string{planned, unplanned}, []string{api.FailoverRunning, api.FailoverWaiting,
		api.FailoverStopped}, 1000)
	if err != nil {
		return nil, err
	}
	for _, f := range open {
		if f.Runbook != name {
			continue
		}
		if f.State != api.FailoverStopped || ask.DryRun {
			return nil, refusal.Conflictf("a failover by %s is %s already, since %s: candid failover show %s", name, f.State,
				phrase.Stamp(f.Began.Time), name)
		}
		return s.goOn(f, by)
	}
	o, err := s.prepare(row, ask, by)
	if err != nil {
		return nil, err
	}
	if !ask.Unplanned && o.row.Peer == "" {
		return nil, refusal.Conflictf("nobody hands %s over: this site is active already, or it is not known who is", name)
	}
	ready, err := s.readiness(o.book)
	if err != nil {
		return nil, err
	}
	if ask.DryRun {
		if _, err := o.choose(); err != nil {
			return nil, err
		}
		out := o.view()
		out.Sentence = o.wouldBe(ready)
		if ask.Unplanned {
			out.Sentence += o.newerElsewhere(ctx)
		}
		return out, nil
	}
	if !ready.Ready && !ask.Anyway {
		return nil, refusal.Conflictf("nothing was taken over, because the runbook is not ready: %s. Mend it, or take over "+
			"nevertheless with --anyway", trimmed(ready.Sentence))
	}
	if err := s.endDrills(); err != nil {
		return nil, err
	}
	o.doc.Anyway = ask.Anyway
	return o.begun(by)
}

// goOn has a failover go on that stopped at a step.
func (s *Service) goOn(f *catalog.Failover, by string) (*api.Failover, error) {
	o, err := s.read(f)
	if err != nil {
		return nil, err
	}
	for i := range o.doc.Steps {
		if o.doc.Steps[i].State == api.StepFailed || o.doc.Steps[i].State == api.StepRunning {
			o.doc.Steps[i].State = api.StepToDo
		}
	}
	o.doc.Until = s.Clock.Now().Add(o.limit())
	return o.begun(by)
}

// parse reads a runbook as it is stored.
func parse(row *catalog.Runbook) (*runbook.Runbook, error) {
	b, err := runbook.Parse(row.Body)
	if err != nil {
		return nil, fmt.Errorf("stored runbook %q: %w", row.Name, err)
	}
	return b, nil
}

// prepare plans an act; nothing is stored.
func (s *Service) prepare(row *catalog.Runbook, ask api.FailoverAsk, by string) (*act, error) {
	b, err := parse(row)
	if err != nil {
		return nil, err
	}
	vols, err := s.volumesOf(b)
	if err != nil {
		return nil, refusal.Conflictf("%w", err)
	}
	o := &act{s: s, book: b, doc: actDoc{Body: row.Body, Version: row.Version},
		row: catalog.Failover{ID: newID(), Kind: planned, Runbook: b.Name, State: api.FailoverRunning, AskedBy: by,
			Began: catalog.At(s.Clock.Now())}}
	if ask.Unplanned {
		o.row.Kind = unplanned
	}
	up := 0
	for _, v := range vols {
		is, err := s.isUp(v.Volume)
		if err != nil {
			return nil, err
		}
		if is {
			up++
		}
		o.doc.Volumes = append(o.doc.Volumes, actVolume{Name: v.Name, Group: v.group, Up: is})
		switch {
		case v.ActiveAt(s.Name()) || v.Active == authority.Nobody:
		case o.row.Peer == "":
			o.row.Peer = v.Active
		case o.row.Peer != v.Active && !ask.Unplanned:
			return nil, refusal.Conflictf("%s is active at %s, and others of the runbook at %s: one failover has one other site",
				v.Name, v.Active, o.row.Peer)
		}
	}
	if up == len(vols) {
		return nil, refusal.Conflictf("%s serves all volumes of %s already", s.Name(), b.Name)
	}
	o.doc.Until = s.Clock.Now().Add(o.limit())
	o.planSteps()
	return o, nil
}

// limit is how long an act may go on by itself after a start.
func (o *act) limit() time.Duration {
	limit := time.Hour
	for _, st := range slices.Concat(o.book.Steps, o.book.After) {
		limit += st.Within
	}
	return limit
}

// ask asks all sites who is active, and refuses to go on when the answer is not what the act was begun for.
func (o *act) ask(ctx context.Context) (string, error) {
	answered, err := o.s.authority.AskAll(ctx)
	if err != nil {
		return "", err
	}
	for _, av := range o.doc.Volumes {
		v, err := o.s.Catalog.Volume(av.Name)
		if err != nil {
			return "", err
		}
		active, _ := o.s.authority.Active(v)
		switch {
		case o.moved() && active != o.s.Name():
			return "", refusal.Conflictf("%s is active at %s by now: this failover goes on no more", v.Name, active)
		case !o.moved() && o.row.Kind == planned && active != o.row.Peer:
			return "", refusal.Conflictf("%s is active at %s, not at %s", v.Name, active, o.row.Peer)
		}
	}
	if o.row.Kind == planned && !slices.Contains(answered, o.row.Peer) {
		return "", refusal.Wrap(refusal.Elsewhere, fmt.Errorf("%s does not answer: a planned failover needs it. If "+
			"it is lost: "+
			"candid failover %s --unplanned", o.row.Peer, o.row.Runbook))
	}
	if len(answered) == 0 {
		return "no other site answers", nil
	}
	return words(answered) + " answered", nil
}

// choose finds from which snapshots the histories go on: the newest that are here, of a group the newest set that is
// here whole.
func (o *act) choose() (string, error) {
	sets := map[string][]int{}
	for i := range o.doc.Volumes {
		if o.doc.Volumes[i].Up {
			continue
		}
		if g := o.doc.Volumes[i].Group; g != "" {
			sets[g] = append(sets[g], i)
			continue
		}
		v, err := o.s.Catalog.Volume(o.doc.Volumes[i].Name)
		if err != nil {
			return "", err
		}
		row, err := o.newest(v)
		if err != nil {
			return "", err
		}
		if err := o.from(i, row); err != nil {
			return "", err
		}
	}
	for name, members := range sets {
		if err := o.chooseSet(name, members); err != nil {
			return "", err
		}
	}
	if err := o.losses(); err != nil {
		return "", err
	}
	var oldest actVolume
	for _, v := range o.doc.Volumes {
		if !v.Up && (oldest.Name == "" || v.Known.Before(oldest.Known)) {
			oldest = v
		}
	}
	return fmt.Sprintf("the oldest is that of %s, as of %s", oldest.Name, phrase.Stamp(oldest.Known)), nil
}

// asOf is the moment up to which states are brought up; zero: the newest.
func (o *act) asOf() (at time.Time) {
	if o.doc.Drill != nil {
		at = o.doc.Drill.At
	}
	return at
}

// newest is the newest state of a volume that is here.
func (o *act) newest(v *catalog.Volume) (*catalog.Snapshot, error) {
	at := o.asOf()
	if at.IsZero() {
		row, err := o.s.Catalog.LastSnapshot(o.s.Place(), v.Lineage)
		if err == nil && row == nil {
			err = refusal.Conflictf("nothing of %s has arrived here: there is nothing to go on from", v.Name)
		}
		return row, err
	}
	best, _, err := o.s.rules.Moment(v, at.Format(time.RFC3339Nano))
	if err != nil || best.LeftUntil.IsZero() {
		return best, err
	}
	// What was left behind is nobody's newest state.
	rows, err := o.s.Catalog.Snapshots(o.s.Place(), v.Name, catalog.SnapshotFilter{To: at, Limit: mostSets})
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(rows, func(r *catalog.Snapshot) bool { return r.LeftUntil.IsZero() })
	if i < 0 {
		return nil, refusal.Conflictf("nothing of %s is here from before %s but what was left behind", v.Name,
			phrase.Stamp(at))
	}
	return rows[i], nil
}

func (o *act) from(i int, row *catalog.Snapshot) error {
	known, within, err := o.s.ownTime(row)
	v := &o.doc.Volumes[i]
	v.From, v.Taken, v.Known, v.Within = row.ID, row.Began.Time, known, int64(within)
	return err
}

// takenInSet is how many snapshots were taken in the set of one.
func (s *Service) takenInSet(row *catalog.Snapshot) (int, error) {
	root, err := s.rules.RootOf(row)
	if err != nil || root.Set == nil {
		return 0, err
	}
	return int(root.Set.Of), nil
}

// mostSets is how far back a set is looked for that is here whole.
const mostSets = 1000

func (o *act) chooseSet(group string, members []int) error {
	var first []*catalog.Snapshot
	have := make([]map[string]*catalog.Snapshot, len(members))
	for k, i := range members {
		rows, err := o.s.Catalog.Snapshots(o.s.Place(), o.doc.Volumes[i].Name,
			catalog.SnapshotFilter{Limit: mostSets, To: o.asOf()})
		if err != nil {
			return err
		}
		have[k] = map[string]*catalog.Snapshot{}
		for _, r := range rows {
			if r.SetID != "" && r.LeftUntil.IsZero() {
				have[k][r.SetID] = r
			}
		}
		if k == 0 {
			first = rows
		}
	}
	for _, r := range first {
		if r.SetID == "" || !r.LeftUntil.IsZero() {
			continue
		}
		if slices.ContainsFunc(have, func(h map[string]*catalog.Snapshot) bool { return h[r.SetID] == nil }) {
			continue
		}
		// Of what never arrived nothing is known here but that it was taken too.
		if n, err := o.s.takenInSet(r); err != nil || n != len(members) {
			continue // one that cannot be read is not whole either
		}
		for k, i := range members {
			if err := o.from(i, have[k][r.SetID]); err != nil {
				return err
			}
		}
		return nil
	}
	return refusal.Conflictf("no set of the group %s has arrived here whole: bring its volumes up one by one", group)
}

// takeOver signs that this site is active of all volumes, in one record.
func (o *act) takeOver() (string, error) {
	if o.findRecord(); o.moved() {
		return "it was signed before", nil
	}
	var all []authority.Going
	for _, av := range o.doc.Volumes {
		v, err := o.s.Catalog.Volume(av.Name)
		if err != nil {
			return "", err
		}
		if av.Up || v.ActiveAt(o.s.Name()) {
			continue
		}
		row, err := o.s.Catalog.Snapshot(av.From)
		if err != nil {
			return "", err
		}
		all = append(all, authority.Going{Volume: v, From: row})
	}
	o.doc.Down = o.s.Clock.Now()
	if len(all) == 0 {
		o.doc.Record = "none"
		return "this site is active already", nil
	}
	r, err := o.s.authority.Move(o.s.Name(), all, actOf(o.row.ID), "runbook "+o.row.Runbook)
	if err != nil {
		return "", err
	}
	o.doc.Record = r.ID.String()
	o.s.run.Go(func(ctx context.Context) { // so that whoever is there stands back at once
		if _, err := o.s.authority.AskAll(ctx); err != nil {
			o.s.Log.Error("other sites could not be told who is active", "error", err)
		}
	})
	for _, g := range all {
		if err := o.s.capture.Reconsider(g.Volume); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("this site is active of %s", phrase.Many(len(all), "volume")), nil
}

// findRecord finds the record of authority of this act, which may be durable although the act does not say so.
func (o *act) findRecord() {
	if o.moved() {
		return
	}
	for _, av := range o.doc.Volumes {
		v, err := o.s.Catalog.Volume(av.Name)
		if err != nil {
			continue
		}
		for _, r := range o.s.authority.Line(v) {
			if r.Act == actOf(o.row.ID) && r.Site == o.s.Name() {
				o.doc.Record = r.ID.String()
				return
			}
		}
	}
}
