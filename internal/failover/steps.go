package failover

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/internal/capture"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/runbook"

	"golang.org/x/sync/errgroup"
)

// doStep does a step of the runbook.
func (o *act) doStep(ctx context.Context, st *actStep, step *runbook.Step) (string, error) {
	switch step.Kind {
	case runbook.BringUp:
		if o.doc.Drill != nil {
			return o.drillUp(ctx, st.Book)
		}
		return o.bringUp(ctx, st.Book)
	case runbook.Hook:
		return "it ended well", o.hook(ctx, step.Hook, st.Attempt)
	case runbook.Check:
		return o.check(ctx, step, st.Attempt)
	case runbook.Pause:
		if o.doc.Drill != nil && o.doc.Drill.Cadence {
			return "nobody is asked in a drill by cadence", nil
		}
		return o.pause(ctx, st, step)
	}
	return "", refusal.Badf("a step of kind %q is not known", step.Kind)
}

// broughtUpAtOnce bounds how many volumes are brought up side by side.
const broughtUpAtOnce = 4

// bringUp has this site serve the volumes of a step, side by side.
func (o *act) bringUp(ctx context.Context, step int) (string, error) {
	vols, err := o.s.volumesOf(o.book)
	if err != nil {
		return "", err
	}
	var eg errgroup.Group
	eg.SetLimit(broughtUpAtOnce)
	var mu sync.Mutex
	how, n := "", 0
	groups := map[string][]string{}
	for _, v := range vols {
		if v.step != step {
			continue
		}
		n++
		i := slices.IndexFunc(o.doc.Volumes, func(a actVolume) bool { return a.Name == v.Name })
		if i < 0 {
			return "", refusal.Conflictf("%s was not there when the failover began", v.Name)
		}
		if v.group != "" {
			groups[v.group] = append(groups[v.group], v.Name)
		}
		if o.doc.Volumes[i].Up {
			continue
		}
		from := o.doc.Volumes[i].From
		eg.Go(func() error {
			row, err := o.s.Catalog.Snapshot(from)
			if err != nil {
				return err
			}
			said, err := o.s.takeUp(ctx, o.j, v.Name, row, v.path)
			if err != nil {
				return fmt.Errorf("%s: %w", v.Name, err)
			}
			o.j.Logf("%s %s", v.Name, said)
			mu.Lock()
			defer mu.Unlock()
			how = v.Name + " " + said
			return nil
		})
	}
	if err := eg.Wait(); err != nil {
		return "", err
	}
	for name, members := range groups {
		if err := o.s.keepGroup(name, members); err != nil {
			return "", err
		}
	}
	if o.lastBringUp(step) {
		o.doc.Up = o.s.Clock.Now()
	}
	if n == 1 {
		return how, nil
	}
	return phrase.Many(n, "volume") + " up", nil
}

func (o *act) lastBringUp(step int) bool {
	for i := step + 1; i < len(o.book.Steps); i++ {
		if o.book.Steps[i].Kind == runbook.BringUp {
			return false
		}
	}
	return true
}

// keepGroup has the volumes of a set be taken as one here too.
func (s *Service) keepGroup(name string, members []string) error {
	old, err := s.Catalog.Group(name)
	if err == nil && slices.Equal(old.Members.V, members) {
		return nil
	}
	if err == nil {
		for _, m := range members {
			if !slices.Contains(old.Members.V, m) {
				return refusal.Conflictf("another group is named %s here: rename it, and go on", name)
			}
		}
		return nil
	}
	if !errors.Is(err, catalog.ErrNone) {
		return err
	}
	for _, m := range members {
		if g, _, err := s.capture.GroupOf(m); err != nil || g != nil {
			return err // it is in one already
		}
	}
	g := &catalog.Group{Name: name}
	g.Members.V = members
	return s.Catalog.PutGroup(g)
}

// env is what hooks are told.
func (o *act) env(attempt int) []string {
	env := []string{"CANDID_RUNBOOK=" + o.row.Runbook, o.marker(), "CANDID_ATTEMPT=" + strconv.Itoa(attempt),
		"CANDID_SITE=" + o.s.Name()}
	if o.doc.Drill != nil {
		env = append(env, "CANDID_DRILL=1")
	}
	return env
}

func (o *act) hook(ctx context.Context, name string, attempt int) error {
	vols, err := o.s.volumesOf(o.book)
	if err != nil {
		return err
	}
	h := capture.HookRun{Name: name, Env: o.env(attempt)}
	var exports []string
	for _, v := range vols {
		told, export := *v.Volume, ""
		if v.IsDisk() {
			told.Path, export = "", v.Name
		}
		i := slices.IndexFunc(o.doc.Volumes, func(a actVolume) bool { return a.Name == v.Name })
		if o.doc.Drill != nil && i >= 0 {
			if told.Path = o.doc.Volumes[i].Place; v.IsDisk() {
				told.Path, export = "", told.Path
			}
		}
		h.Volumes, exports = append(h.Volumes, &told), append(exports, export)
	}
	h.Env = append(h.Env, "CANDID_EXPORTS="+strings.Join(exports, "\n"))
	if o.net != nil {
		h.Start = o.net.Do
	}
	return o.s.capture.RunHook(ctx, o.j, h)
}

// checkEvery is how often a check that does not pass is tried again.
const checkEvery = 200 * time.Millisecond

// check looks until what it looks for is there, or its time is over.
func (o *act) check(ctx context.Context, step *runbook.Step, attempt int) (string, error) {
	var last error
	for {
		if last = o.probe(ctx, &step.Check, attempt); last == nil {
			return "it is as it is to be", nil
		}
		select {
		case <-time.After(checkEvery):
		case <-ctx.Done():
			return "", fmt.Errorf("%w", last)
		}
	}
}

func (o *act) probe(ctx context.Context, p *runbook.Probe, attempt int) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	dial := (&net.Dialer{}).DialContext
	if o.net != nil {
		dial = o.net.Dial
	}
	switch {
	case p.TCP != "":
		c, err := dial(ctx, "tcp", p.TCP)
		if err != nil {
			return err
		}
		return c.Close()
	case p.HTTP != "":
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, p.HTTP, nil)
		if err != nil {
			return err
		}
		client := &http.Client{Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true}}
		res, err := client.Do(q)
		if err != nil {
			return err
		}
		res.Body.Close()
		if res.StatusCode != p.Status {
			return fmt.Errorf("%s answers %d, not %d", p.HTTP, res.StatusCode, p.Status)
		}
		return nil
	case p.File != "":
		return o.isThere(p.File)
	}
	return o.hook(ctx, p.Hook, attempt)
}

// pause waits for a person.
func (o *act) pause(ctx context.Context, st *actStep, step *runbook.Step) (string, error) {
	answered := make(chan string, 1)
	o.s.mu.Lock()
	o.s.pauses[o.row.ID] = &waiting{step.Person, answered}
	o.s.mu.Unlock()
	defer func() {
		o.s.mu.Lock()
		delete(o.s.pauses, o.row.ID)
		o.s.mu.Unlock()
	}()
	st.State, o.row.State = api.StepWaiting, api.FailoverWaiting
	if err := o.save(); err != nil {
		return "", err
	}
	defer func() { o.row.State = api.FailoverRunning }()
	select {
	case by := <-answered:
		return by + " said that it is done", nil
	case <-ctx.Done():
		return "", errors.New("nobody said that it is done")
	}
}

// waiting is a pause that nobody has answered.
type waiting struct {
	role     string
	answered chan string
}

// Answer says that what a failover waits for is done.
func (s *Service) Answer(name, role, by string) (string, error) {
	rows, err := s.Catalog.Failovers(nil, []string{api.FailoverWaiting}, 1000)
	if err != nil {
		return "", err
	}
	for _, f := range rows {
		if f.Runbook != name && f.ID != name {
			continue
		}
		s.mu.Lock()
		w := s.pauses[f.ID]
		s.mu.Unlock()
		if w == nil {
			continue
		}
		if w.role == "administrator" && role != "administrator" {
			return "", refusal.Wrap(refusal.Refused, fmt.Errorf("the runbook %s waits for an administrator", f.Runbook))
		}
		select {
		case w.answered <- by:
		default:
		}
		what := "failover"
		if f.Kind == drill {
			what = drill
		}
		return fmt.Sprintf("The %s by %s goes on.", what, f.Runbook), nil
	}
	return "", refusal.Conflictf("no failover by %s waits for anybody", strings.TrimSpace(name))
}
