package failover

import (
	"context"
	"fmt"
	"slices"
	"time"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/netns"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/recovery"
	"candidharbor/internal/refusal"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"
)

// What drills may take.
const (
	mostDrilled   = 256                // volumes that are up at once
	longestKept   = 7 * 24 * time.Hour // a drill
	drillAwayTime = 5 * time.Minute
)

// drillDoc is what an act says of itself that is a drill.
type drillDoc struct {
	At      time.Time     `json:"at,omitzero"` // as of when; zero: the newest
	Keep    time.Duration `json:"keep"`
	Cadence bool          `json:"cadence,omitempty"` // nobody is there
	Root    string        `json:"root,omitempty"`    // where its place is below
	Dir     string        `json:"dir,omitempty"`     // its place
	Network string        `json:"network,omitempty"`
	NoApart string        `json:"noApart,omitempty"` // why it has the host's network
	Ends    bool          `json:"ends,omitempty"`    // it is to be taken away, whatever was to come
	Stopped bool          `json:"stopped,omitempty"` // by a person, before all was up
	Until   time.Time     `json:"until,omitzero"`    // it stays up
	Failed  string        `json:"failed,omitempty"`
	Gone    time.Time     `json:"gone,omitzero"`
}

// openDrills are the states in which something of a drill may be there.
var openDrills = []string{api.FailoverRunning, api.FailoverWaiting, api.FailoverUp, api.FailoverStopped}

// StartDrill begins to bring up what a runbook names as clones, apart from all else.
func (s *Service) StartDrill(name string, ask api.DrillAsk, by string) (*api.Failover, error) {
	return s.startDrill(name, ask, by, false)
}

func (s *Service) startDrill(name string, ask api.DrillAsk, by string, cadence bool) (*api.Failover, error) {
	if s.IsPlace {
		return nil, pairing.ErrPlaceHolds
	}
	row, err := s.Catalog.Runbook(name)
	if err != nil {
		return nil, err
	}
	s.beginning.Lock()
	defer s.beginning.Unlock()
	o, err := s.prepareDrill(row, ask, by, cadence)
	if err != nil {
		return nil, err
	}
	return o.begun(by)
}

func (s *Service) prepareDrill(row *catalog.Runbook, ask api.DrillAsk, by string, cadence bool) (*act, error) {
	b, err := parse(row)
	if err != nil {
		return nil, err
	}
	vols, err := s.volumesOf(b)
	if err != nil {
		return nil, refusal.Conflictf("%w", err)
	}
	now := s.Clock.Now()
	o := &act{s: s, book: b, doc: actDoc{Body: row.Body, Version: row.Version,
		Drill: &drillDoc{Keep: b.Keep, Cadence: cadence, Network: api.NetworkHost}},
		row: catalog.Failover{ID: newID(), Kind: drill, Runbook: b.Name, State: api.FailoverRunning, AskedBy: by,
			Began: catalog.At(now)}}
	d := o.doc.Drill
	if ask.At != nil {
		if d.At = *ask.At; d.At.After(now) {
			return nil, refusal.Badf("%s has not come yet: a drill brings up what was", phrase.Stamp(d.At))
		}
	}
	if ask.KeepSeconds != nil {
		d.Keep = time.Duration(*ask.KeepSeconds) * time.Second
	}
	if d.Keep < 0 || d.Keep > longestKept {
		return nil, refusal.Badf("a drill stays up for 7 days at most")
	}
	up := 0
	open, err := s.Catalog.Failovers([]string{drill}, openDrills, 1000)
	if err != nil {
		return nil, err
	}
	for _, f := range open {
		if f.Runbook == b.Name {
			return nil, refusal.Conflictf("a drill by %s is %s already: candid drill show %s tells of it, and candid drill "+
				"end %s ends it", b.Name, f.State, b.Name, b.Name)
		}
		other, err := s.read(f)
		if err != nil {
			return nil, err
		}
		up += len(other.doc.Volumes)
	}
	if up+len(vols) > mostDrilled {
		return nil, refusal.Conflictf("%s would be up by drills at once, and %d may be: end another drill first",
			phrase.Many(up+len(vols), "volume"), mostDrilled)
	}
	for _, v := range vols {
		o.doc.Volumes = append(o.doc.Volumes, actVolume{Name: v.Name, Group: v.group})
	}
	if !cadence { // a person learns at once that there is nothing to bring up; what is due is a drill that fails
		if _, err := o.choose(); err != nil {
			return nil, err
		}
	}
	o.planSteps()
	return o, nil
}

// drillTasks are the drills that are held by a cadence.
func (s *Service) drillTasks() (all []*recovery.ScheduledTask, err error) {
	rows, err := s.Catalog.Runbooks()
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		b, err := parse(row)
		if err != nil { // it must not keep all else from being done
			s.Log.Error("a runbook cannot be read, and no drill is held by it", "runbook", row.Name, "error", err)
			continue
		}
		if b.Drill == nil {
			continue
		}
		all = append(all, &recovery.ScheduledTask{Key: catalog.DrillTask + b.Name, What: "drill " + b.Name, By: b.Drill,
			Do: func() ([]*run.Job, error) {
				if _, err := s.access.Record(access.ByService, "startDrill", b.Name, ""); err != nil {
					return nil, err
				}
				f, err := s.startDrill(b.Name, api.DrillAsk{}, "the cadence", true)
				if err != nil {
					return nil, err
				}
				s.mu.Lock()
				defer s.mu.Unlock()
				if j := s.acting[f.ID]; j != nil && b.Keep == 0 { // nobody waits for one that stays up
					return []*run.Job{j}, nil
				}
				return nil, nil
			}})
	}
	return all, nil
}

// EndDrill takes a drill away, at once.
func (s *Service) EndDrill(id, by string) (string, error) {
	row, err := s.act(id, drill)
	if err != nil {
		return "", err
	}
	if !slices.Contains(openDrills, row.State) {
		return "", refusal.Conflictf("the drill by %s is over and taken away: candid drill show %s", row.Runbook, row.ID)
	}
	s.mu.Lock()
	j := s.acting[row.ID]
	s.mu.Unlock()
	if j != nil {
		j.Stop()
		return fmt.Sprintf("The drill by %s ends, and all of it is taken away.", row.Runbook), nil
	}
	o, err := s.read(row)
	if err != nil {
		return "", err
	}
	o.doc.Drill.Ends = true
	if err := o.begin(by); err != nil {
		return "", err
	}
	return fmt.Sprintf("What is left of the drill by %s is taken away.", row.Runbook), nil
}

// endDrills makes way for what is no drill.
func (s *Service) endDrills() error {
	open, err := s.Catalog.Failovers([]string{drill}, openDrills, 1000)
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, row := range open {
		if j := s.acting[row.ID]; j != nil {
			j.Stop()
		}
	}
	return err
}

// chooseForDrill finds the states that a drill brings up. They stay as long as it does.
func (o *act) chooseForDrill(ctx context.Context) (string, error) {
	free, err := o.s.run.Hold(ctx, run.KeyPrune.Of("")) // what is chosen must not be let go meanwhile
	if err != nil {
		return "", err
	}
	defer free()
	said, err := o.choose()
	if err != nil {
		return "", err
	}
	now := o.s.Clock.Now()
	var ids []string
	for i := range o.doc.Volumes {
		v := &o.doc.Volumes[i]
		row, err := o.s.Catalog.SnapshotAt(o.s.Place(), v.From)
		if err != nil {
			return "", err
		}
		if row == nil || !row.GraceUntil.IsZero() {
			return "", refusal.Conflictf("the snapshot of %s from %s is about to be let go: candid snapshot recall %s",
				v.Name, phrase.Stamp(v.Taken), v.From[:12])
		}
		v.Loss = int64(max(0, now.Sub(v.Known)))
		ids = append(ids, row.ID)
	}
	o.s.mu.Lock()
	o.s.drilled[o.row.ID] = ids
	o.s.mu.Unlock()
	return said, nil
}

// drillUses names, by snapshot, the drills that stand on it.
func (s *Service) drillUses(string) (map[string][]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string][]string{}
	for drill, ids := range s.drilled {
		for _, id := range ids {
			out[id] = append(out[id], rules.DrillUse+drill)
		}
	}
	return out, nil
}

// marker is in the environment of all that a drill starts.
func (o *act) marker() string { return "CANDID_FAILOVER=" + o.row.ID }

// apart gives a drill a network of its own, where the service may make one.
func (o *act) apart() {
	d := o.doc.Drill
	n, err := netns.New()
	if err != nil {
		d.Network, d.NoApart = api.NetworkHost, err.Error()
		return
	}
	o.net, d.Network = n, api.NetworkOwn
}

// steps of a drill beside those of the runbook.
const (
	stepPlace = "place"
	stepKeep  = "keep"
	stepAway  = "away"
)

func (o *act) planDrill() {
	d := o.doc.Drill
	what := "Find the newest states that are here whole"
	if !d.At.IsZero() {
		what = "Find the states of " + phrase.Stamp(d.At) + " that are here whole"
	}
	o.plan(stepChoose, what, -1, false)
	o.plan(stepPlace, "Make a place and a network apart", -1, false)
	o.planBook(nil)
	if d.Keep > 0 {
		o.plan(stepKeep, "Keep it up for "+phrase.Ago(d.Keep), -1, false)
	}
	o.plan(stepAway, "Take all of it away", -1, false)
}

// doDrill does a step that only drills have.
func (o *act) doDrill(ctx context.Context, st *actStep) (string, error) {
	switch st.Code {
	case stepChoose:
		return o.chooseForDrill(ctx)
	case stepPlace:
		return o.makePlace()
	case stepKeep:
		return o.keepUp(ctx)
	}
	return o.away(ctx)
}

// isUpBy reports whether all that a runbook brings up is up once this step is to be done.
func (o *act) isUpBy(st *actStep) bool {
	return st.After || st.Code == stepKeep || st.Code == stepAway
}
