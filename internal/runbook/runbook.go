// Package runbook reads runbooks: which volumes a site takes over, in which order, and what is done between.
//
//	runbook: field-station
//	at: stonewick                          # the site that takes over
//	witness: mereside                      # asked before it takes over without the active one
//	bring_up:                              # in this order; several in one line together
//	  - accession-register                 # a volume, or a group
//	  - {volume: specimen-db, within: 5 minutes, failing: go on}
//	  - {hook: start-register}             # of that site's site.yaml
//	  - {check: {tcp: "127.0.0.1:5432"}, within: 60 seconds}
//	  - {pause: {say: "Ask the registrar to sign in", person: operator}}
//	  - [field-notebooks, herbarium-scans]
//	after: [{hook: tell-staff}]
//	paths: {field-notebooks: /srv/notebooks}   # where directories lie there
//	objectives: {loss: 15 minutes, time: 30 minutes}
//	drill: {when: monthly on first monday at 05:00, zone: Europe/Lisbon, keep: 1 hour, in: /srv/drills}
//
// Every error names the line, the column and the word.
package runbook

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/retention"
	"candidharbor/internal/policy"

	"github.com/goccy/go-yaml/ast"
)

// Kind is what a step does.
type Kind string

// The kinds of steps.
const (
	BringUp Kind = "bring up" // volumes and groups, together
	Hook    Kind = "hook"
	Check   Kind = "check"
	Pause   Kind = "pause"
)

// Failing is what becomes of the rest when a step fails.
type Failing string

// What becomes of the rest.
const (
	Stop Failing = "stop"
	GoOn Failing = "go on"
)

// Step is one thing that is done.
type Step struct {
	Kind    Kind
	Names   []string // of volumes and groups
	Group   bool     // the one name is a group's
	Hook    string
	Check   Probe
	Say     string // of a pause
	Person  string // the role that answers it; empty: any that may
	Within  time.Duration
	Failing Failing
}

// Probe is what a check looks at: one of its fields is set.
type Probe struct {
	TCP    string
	HTTP   string
	Status int
	File   string
	Hook   string
}

// Runbook is a compiled document.
type Runbook struct {
	Name string
	At   string
	// Witness is a third site that is asked before this one takes over without the active one; empty: none is.
	Witness string
	Steps   []Step
	After   []Step
	Paths   map[string]string
	Loss    time.Duration // 0: not said
	Time    time.Duration
	Drill   *cadence.Cadence // nil: by hand alone
	Keep    time.Duration    // how long a drill stays up; 0: it is taken away at once
	In      string           // where directories of drills lie; empty: with the site's own data
	Zone    *time.Location
}

// How long steps may take that do not say it.
const (
	bringUpWithin = 30 * time.Minute
	hookWithin    = 5 * time.Minute
	checkWithin   = time.Minute
	pauseWithin   = 24 * time.Hour
	drillKept     = time.Hour
)

type document struct {
	Runbook    string            `yaml:"runbook"`
	At         string            `yaml:"at"`
	Witness    string            `yaml:"witness"`
	BringUp    []any             `yaml:"bring_up"`
	After      []any             `yaml:"after"`
	Paths      map[string]string `yaml:"paths"`
	Objectives struct {
		Loss string `yaml:"loss"`
		Time string `yaml:"time"`
	} `yaml:"objectives"`
	Drill *struct {
		When string `yaml:"when"`
		Zone string `yaml:"zone"`
		Keep string `yaml:"keep"`
		In   string `yaml:"in"`
	} `yaml:"drill"`
}

type reader struct {
	file *ast.File
	ps   policy.Problems
	book *Runbook
}

func (r *reader) at(path string, format string, args ...any) {
	r.ps = append(r.ps, policy.ProblemAt(r.file, path, fmt.Errorf(format, args...)))
}

// Problems is the error of a document that cannot be used.
type Problems struct{ All policy.Problems }

func (p *Problems) Error() string {
	s := make([]string, len(p.All))
	for i, x := range p.All {
		s[i] = x.String()
	}
	return "the runbook cannot be used: " + strings.Join(s, "; ")
}

// Parse compiles a document. The error is a *Problems.
func Parse(text string) (*Runbook, error) {
	var d document
	file, err := policy.Read(text, &d)
	if err != nil {
		return nil, &Problems{policy.Problems{policy.YAMLProblem(err)}}
	}
	r := &reader{file: file, book: &Runbook{Name: d.Runbook, At: d.At, Witness: d.Witness, Paths: d.Paths,
		Keep: drillKept, Zone: time.UTC}}
	if err := policy.CheckName("runbook", d.Runbook); err != nil {
		r.at("$.runbook", "%w", err)
	}
	if err := policy.CheckName("site", d.At); err != nil {
		r.at("$.at", "at says which site takes over: %w", err)
	}
	if d.Witness != "" {
		if err := policy.CheckName("site", d.Witness); err != nil {
			r.at("$.witness", "witness names a third site: %w", err)
		} else if d.Witness == d.At {
			r.at("$.witness", "%s takes over: its witness is another site", d.At)
		}
	}
	r.book.Steps = r.steps("bring_up", d.BringUp)
	r.book.After = r.steps("after", d.After)
	r.volumes()
	r.objectives(&d)
	r.drill(&d)
	if len(r.ps) > 0 {
		return nil, &Problems{r.ps}
	}
	return r.book, nil
}

func (r *reader) steps(key string, all []any) (out []Step) {
	for i, raw := range all {
		at := fmt.Sprintf("$.%s[%d]", key, i)
		switch s := raw.(type) {
		case string:
			out = append(out, r.complete(at, Step{Kind: BringUp, Names: []string{s}}, nil))
		case []any:
			st := Step{Kind: BringUp}
			for _, n := range s {
				name, ok := n.(string)
				if !ok {
					r.at(at, "what is brought up together is a list of volumes and groups")
				}
				st.Names = append(st.Names, name)
			}
			out = append(out, r.complete(at, st, nil))
		case map[string]any:
			out = append(out, r.step(at, s))
		default:
			r.at(at, "a step is the name of a volume or a group, a list of those, or one of volume, group, hook, check, pause")
		}
	}
	return out
}

var stepKeys = []string{"volume", "group", "hook", "check", "pause"}

func (r *reader) step(at string, s map[string]any) Step {
	var does []string
	for _, k := range slices.Sorted(maps.Keys(s)) {
		switch {
		case slices.Contains(stepKeys, k):
			does = append(does, k)
		case k != "within" && k != "failing":
			r.at(at+"."+k, "a step has no %q: it is one of %s, with within and failing", k, strings.Join(stepKeys, ", "))
		}
	}
	if len(does) != 1 {
		r.at(at, "a step does one thing, of %s: this does %d", strings.Join(stepKeys, ", "), len(does))
		return Step{}
	}
	st := Step{}
	text := func(k string) string {
		v, ok := s[k].(string)
		if !ok || v == "" {
			r.at(at+"."+k, "%s needs a name", k)
		}
		return v
	}
	switch does[0] {
	case "volume":
		st.Kind, st.Names = BringUp, []string{text("volume")}
	case "group":
		st.Kind, st.Names, st.Group = BringUp, []string{text("group")}, true
	case "hook":
		st.Kind, st.Hook = Hook, text("hook")
	case "check":
		st.Kind = Check
		r.check(at+".check", s["check"], &st)
	case "pause":
		st.Kind = Pause
		r.pause(at+".pause", s["pause"], &st)
	}
	return r.complete(at, st, s)
}

// words reads the entries of a step that has several.
func (r *reader) words(at string, raw any, st *Step, known ...string) map[string]string {
	m, ok := raw.(map[string]any)
	if !ok {
		r.at(at, "give one of %s", strings.Join(known, ", "))
		return nil
	}
	out := map[string]string{}
	for _, k := range slices.Sorted(maps.Keys(m)) {
		switch {
		case k == "within":
			st.Within = r.duration(at+".within", fmt.Sprint(m[k]))
		case !slices.Contains(known, k):
			r.at(at+"."+k, "%q is not known here: use %s", k, strings.Join(known, ", "))
		default:
			out[k] = fmt.Sprint(m[k])
		}
	}
	return out
}

func (r *reader) check(at string, raw any, st *Step) {
	w := r.words(at, raw, st, "tcp", "http", "status", "file", "hook")
	st.Check = Probe{TCP: w["tcp"], HTTP: w["http"], File: w["file"], Hook: w["hook"], Status: 200}
	if code, has := w["status"]; has {
		if _, err := fmt.Sscanf(code, "%d", &st.Check.Status); err != nil || st.Check.HTTP == "" {
			r.at(at+".status", "status is the number that http is to answer, such as 200")
		}
	}
	n := 0
	for _, k := range []string{"tcp", "http", "file", "hook"} {
		if w[k] != "" {
			n++
		}
	}
	switch {
	case n != 1:
		r.at(at, "a check looks at one thing: tcp, http, file or hook")
	case st.Check.HTTP != "" && !strings.HasPrefix(st.Check.HTTP, "http://") && !strings.HasPrefix(st.Check.HTTP,
		"https://"):
		r.at(at+".http", "give an address that begins with http:// or https://")
	case st.Check.File != "" && !filepath.IsAbs(st.Check.File):
		r.at(at+".file", "give an absolute path")
	}
}

func (r *reader) pause(at string, raw any, st *Step) {
	w := r.words(at, raw, st, "say", "person")
	st.Say, st.Person = w["say"], w["person"]
	if st.Say == "" {
		r.at(at, "a pause says what a person is to do: say")
	}
	if st.Person != "" && st.Person != "administrator" && st.Person != "operator" {
		r.at(at+".person", "who answers is an administrator or an operator, not %q", st.Person)
	}
}

func (r *reader) complete(at string, st Step, s map[string]any) Step {
	st.Failing = Stop
	if f, has := s["failing"]; has {
		st.Failing = Failing(fmt.Sprint(f))
		if st.Failing != Stop && st.Failing != GoOn {
			r.at(at+".failing", "failing is %q: write stop, or go on", f)
		}
	}
	if w, has := s["within"]; has {
		st.Within = r.duration(at+".within", fmt.Sprint(w))
	}
	if st.Within == 0 {
		st.Within = map[Kind]time.Duration{BringUp: bringUpWithin, Hook: hookWithin, Check: checkWithin,
			Pause: pauseWithin}[st.Kind]
	}
	for _, h := range []string{st.Hook, st.Check.Hook} {
		if h != "" && policy.CheckName("hook", h) != nil {
			r.at(at, "%w", policy.CheckName("hook", h))
		}
	}
	return st
}

func (r *reader) duration(at, text string) time.Duration {
	d, err := retention.ParseDuration(text)
	if err != nil {
		r.at(at, "%w", err)
	}
	return d
}

// volumes refuses what is brought up twice, or not at all.
func (r *reader) volumes() {
	seen := map[string]bool{}
	for i, st := range r.book.Steps {
		for _, n := range st.Names {
			if seen[n] {
				r.at(fmt.Sprintf("$.bring_up[%d]", i), "%s is brought up twice", n)
			}
			seen[n] = true
		}
	}
	if len(seen) == 0 {
		r.at("$.runbook", "the runbook brings nothing up: name volumes or groups under bring_up")
	}
	for i, st := range r.book.After {
		if st.Kind == BringUp {
			r.at(fmt.Sprintf("$.after[%d]", i), "volumes and groups belong under bring_up")
		}
	}
	for _, v := range slices.Sorted(maps.Keys(r.book.Paths)) {
		if !filepath.IsAbs(r.book.Paths[v]) {
			r.at("$.paths."+v, "the path of %s must be absolute", v)
		}
	}
}

func (r *reader) objectives(d *document) {
	if d.Objectives.Loss != "" {
		r.book.Loss = r.duration("$.objectives.loss", d.Objectives.Loss)
	}
	if d.Objectives.Time != "" {
		r.book.Time = r.duration("$.objectives.time", d.Objectives.Time)
	}
}

func (r *reader) drill(d *document) {
	if d.Drill == nil {
		return
	}
	if d.Drill.Keep == "none" {
		r.book.Keep = 0
	} else if d.Drill.Keep != "" {
		r.book.Keep = r.duration("$.drill.keep", d.Drill.Keep)
	}
	if r.book.In = d.Drill.In; r.book.In != "" && !filepath.IsAbs(r.book.In) {
		r.at("$.drill.in", "give an absolute path")
	}
	var err error
	if d.Drill.Zone != "" {
		if r.book.Zone, err = cadence.LoadZone(d.Drill.Zone); err != nil {
			r.at("$.drill.zone", "time zone %q is not known: give a name such as Europe/Lisbon or UTC", d.Drill.Zone)
			return
		}
	}
	if d.Drill.When == "" {
		return
	}
	if r.book.Drill, err = cadence.Parse(d.Drill.When, r.book.Zone); err != nil {
		r.ps = append(r.ps, policy.ProblemAt(r.file, "$.drill.when", err))
		return
	}
	if _, _, looks := r.book.Drill.OnChange(); looks || r.book.Drill.AtStart() {
		r.ps = append(r.ps, policy.ProblemAt(r.file, "$.drill.when", errors.New("give times, such as monthly on first "+
			"monday at 05:00")))
	}
}

// Volumes are the names of all volumes and groups, in their order.
func (b *Runbook) Volumes() (names []string) {
	for _, st := range b.Steps {
		names = append(names, st.Names...)
	}
	return names
}

// Words says in one line what a step does.
func (st *Step) Words() string {
	switch st.Kind {
	case BringUp:
		return "bring up " + strings.Join(st.Names, ", ")
	case Hook:
		return "hook " + st.Hook
	case Pause:
		return "pause: " + st.Say
	case Check:
		for _, x := range [][2]string{{"tcp", st.Check.TCP}, {"http", st.Check.HTTP}, {"file", st.Check.File},
			{"hook", st.Check.Hook}} {
			if x[1] != "" {
				return "check " + x[0] + " " + x[1]
			}
		}
	}
	return string(st.Kind)
}
