// Package policy reads policy documents: which volumes, when to take snapshots, what
// to keep at which place, and the objectives.
//
//	policy: survey-standard
//	volumes: {collection: herbarium}     # labels, all must match; or names: [...]
//	take:
//	  - every 15 minutes between 07:00 and 19:00 on mon-fri
//	  - daily at 23:30
//	zone: Europe/Lisbon
//	week_starts: monday
//	skip_unchanged: true
//	keep:                                # by place; so many, or for so long, the last of each or the first
//	  larkfield: {newest: 8, hourly: 48, daily: for 14 days, by_hand: 30 days, safety: 7 days}
//	  stonewick: {daily: 30, weekly: first 8, monthly: 12, yearly: 7}
//	milestones:                          # at all places named above, or at some
//	  - {name: year-end, on: yearly on last day of june, for: 7 years, at: [stonewick]}
//	quiesce: {freeze: register-freeze, thaw: register-thaw, failing: stop}   # hooks of site.yaml; or failing: spread
//	objectives: {larkfield: 1 hour, stonewick: 4 hours, recovery: 30 minutes}
//	grace: 24 hours
//	paused: false                        # a pause takes nothing and lets nothing go
//
// Every error names the line, the column and the word.
package policy

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/retention"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// Policy is a compiled document.
type Policy struct {
	Name          string
	Labels        map[string]string
	Names         []string
	Take          []*cadence.Cadence
	Zone          *time.Location
	SkipUnchanged bool
	Keep          map[string]retention.Rules // by place
	Objectives    map[string]time.Duration   // by place
	Recovery      time.Duration              // how long recovery may take; 0: not said
	Grace         time.Duration
	Paused        bool
	Quiesce       Quiesce
	Hints         []Problem // what is allowed but hardly meant
}

// Quiesce names the hooks that hold a volume's writers while it is read.
type Quiesce struct {
	Freeze  string `yaml:"freeze"`
	Thaw    string `yaml:"thaw"`
	Failing string `yaml:"failing"` // when the freeze fails: stop takes no snapshot, spread takes one nevertheless
}

// What is done when a freeze fails.
const (
	FailingStop   = "stop"
	FailingSpread = "spread"
)

// Check completes and refuses.
func (q *Quiesce) Check() error {
	switch {
	case q.Freeze == "" && q.Thaw == "" && q.Failing == "":
		return nil
	case q.Freeze == "":
		return errors.New("there is nothing to thaw without a freeze: name the hook that holds the writers")
	case q.Failing == "":
		q.Failing = FailingStop
	case q.Failing != FailingStop && q.Failing != FailingSpread:
		return fmt.Errorf("failing is %q: write stop, so that no snapshot is taken when the freeze fails, or spread, so "+
			"that one is taken nevertheless", q.Failing)
	}
	for _, name := range []string{q.Freeze, q.Thaw} {
		if name == "" {
			continue
		}
		if err := CheckName("hook", name); err != nil {
			return err
		}
	}
	return nil
}

// DefaultGrace is the time between expiry and removal when a policy names none.
const DefaultGrace = 24 * time.Hour

type document struct {
	Policy        string                `yaml:"policy"`
	Volumes       map[string]any        `yaml:"volumes"`
	Take          []string              `yaml:"take"`
	Zone          string                `yaml:"zone"`
	WeekStarts    string                `yaml:"week_starts"`
	SkipUnchanged bool                  `yaml:"skip_unchanged"`
	Keep          map[string]placeRules `yaml:"keep"`
	Objectives    map[string]string     `yaml:"objectives"`
	Milestones    []milestone           `yaml:"milestones"`
	Grace         string                `yaml:"grace"`
	Paused        bool                  `yaml:"paused"`
	Quiesce       Quiesce               `yaml:"quiesce"`
}

type placeRules struct {
	Newest  *int   `yaml:"newest"`
	Hourly  any    `yaml:"hourly"`
	Daily   any    `yaml:"daily"`
	Weekly  any    `yaml:"weekly"`
	Monthly any    `yaml:"monthly"`
	Yearly  any    `yaml:"yearly"`
	ByHand  string `yaml:"by_hand"`
	Safety  string `yaml:"safety"`
}

type milestone struct {
	Name string   `yaml:"name"`
	On   string   `yaml:"on"`
	For  string   `yaml:"for"`
	At   []string `yaml:"at"`
}

// Problem is one thing wrong with a document.
type Problem struct {
	Line   int    `json:"line"` // from 1; 0: the document as a whole
	Column int    `json:"column"`
	What   string `json:"what"`
}

func (p Problem) String() string {
	if p.Line == 0 {
		return p.What
	}
	return fmt.Sprintf("line %d, column %d: %s", p.Line, p.Column, p.What)
}

// Problems is the error of a document that cannot be used.
type Problems []Problem

func (ps Problems) Error() string {
	s := make([]string, len(ps))
	for i, p := range ps {
		s[i] = p.String()
	}
	return "the policy cannot be used: " + strings.Join(s, "; ")
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// CheckName refuses names that would not do in a path or an address.
func CheckName(what, name string) error {
	if !nameForm.MatchString(name) {
		return fmt.Errorf("%s name %q: use 1 to 63 lower-case letters, digits, dots, dashes or underscores, beginning "+
			"with a letter or digit", what, name)
	}
	return nil
}

type reader struct {
	file  *ast.File
	ps    Problems
	hints []Problem
}

// at adds a problem at the place of a YAML path such as $.take[0].
func (r *reader) at(path string, err error) { r.ps = append(r.ps, r.problem(path, err)) }

// hint notes what is allowed but hardly meant.
func (r *reader) hint(path, format string, args ...any) {
	r.hints = append(r.hints, r.problem(path, fmt.Errorf(format, args...)))
}

func (r *reader) problem(path string, err error) Problem { return ProblemAt(r.file, path, err) }

// ProblemAt is what is wrong at the place of a YAML path of a document.
func ProblemAt(file *ast.File, path string, err error) Problem {
	p := Problem{What: err.Error()}
	if yp, perr := yaml.PathString(path); perr == nil {
		if node, ferr := yp.FilterFile(file); ferr == nil && node != nil {
			if tok := node.GetToken(); tok != nil && tok.Position != nil {
				p.Line, p.Column = tok.Position.Line, tok.Position.Column
				var pe *cadence.PhraseError
				if errors.As(err, &pe) && pe.Column > 0 {
					p.Column += pe.Column - 1
				}
			}
		}
	}
	return p
}

// Parse compiles a document. The error is of type Problems.
func Parse(text string) (_ *Policy, err error) {
	defer unpanic(&err)
	var d document
	file, err := Read(text, &d)
	if err != nil {
		return nil, Problems{YAMLProblem(err)}
	}
	r := &reader{file: file}
	p := &Policy{Name: d.Policy, SkipUnchanged: d.SkipUnchanged, Paused: d.Paused, Grace: DefaultGrace,
		Keep: map[string]retention.Rules{}, Objectives: map[string]time.Duration{}}
	if err := CheckName("policy", d.Policy); err != nil {
		r.at("$.policy", err)
	}
	r.volumes(&d, p)
	p.Zone = time.UTC
	if d.Zone != "" {
		if z, err := cadence.LoadZone(d.Zone); err != nil {
			r.at("$.zone", fmt.Errorf("time zone %q is not known: give a name such as Europe/Lisbon or UTC", d.Zone))
		} else {
			p.Zone = z
		}
	}
	for i, phrase := range d.Take {
		c, err := cadence.Parse(phrase, p.Zone)
		if err != nil {
			r.at(fmt.Sprintf("$.take[%d]", i), err)
			continue
		}
		p.Take = append(p.Take, c)
	}
	shift := r.weekStarts(d.WeekStarts)
	for _, place := range slices.Sorted(maps.Keys(d.Keep)) {
		r.keep(place, d.Keep[place], p, shift)
	}
	r.milestones(&d, p)
	for _, place := range slices.Sorted(maps.Keys(d.Objectives)) {
		dur, err := retention.ParseDuration(d.Objectives[place])
		if err != nil {
			r.at("$.objectives."+place, err)
		}
		if place == "recovery" {
			p.Recovery = dur
		} else {
			p.Objectives[place] = dur
			r.objective(place, dur, p)
		}
	}
	if d.Grace != "" {
		if p.Grace, err = retention.ParseDuration(d.Grace); err != nil {
			r.at("$.grace", err)
		}
	}
	if err := d.Quiesce.Check(); err != nil {
		r.at("$.quiesce", err)
	}
	p.Quiesce = d.Quiesce
	if len(r.ps) > 0 {
		return nil, r.ps
	}
	p.Hints = r.hints
	return p, nil
}

// Read reads a document of a kind, whatever it holds: it is bounded in size and depth, and unknown keys are refused.
func Read(text string, into any) (file *ast.File, err error) {
	defer unpanic(&err)
	err = guarded(text, func(f *ast.File) error {
		file = f
		return yaml.UnmarshalWithOptions([]byte(text), into, yaml.Strict())
	})
	return file, err
}

// YAMLProblem is what is wrong with a document as YAML.
func YAMLProblem(err error) Problem {
	var ye yaml.Error
	if errors.As(err, &ye) {
		p := Problem{What: ye.GetMessage()}
		if tok := ye.GetToken(); tok != nil && tok.Position != nil {
			p.Line, p.Column = tok.Position.Line, tok.Position.Column
		}
		return p
	}
	return Problem{What: err.Error()}
}

func (r *reader) volumes(d *document, p *Policy) {
	if len(d.Volumes) == 0 {
		r.at("$.policy", errors.New("the policy chooses no volumes: add volumes with labels, or names"))
		return
	}
	for _, k := range slices.Sorted(maps.Keys(d.Volumes)) {
		v := d.Volumes[k]
		if list, ok := v.([]any); ok && k == "names" {
			for _, n := range list {
				p.Names = append(p.Names, fmt.Sprint(n))
			}
			continue
		}
		switch v.(type) {
		case []any, map[string]any, nil:
			r.at("$.volumes."+k, fmt.Errorf("label %q needs one value", k))
		default:
			if p.Labels == nil {
				p.Labels = map[string]string{}
			}
			p.Labels[k] = fmt.Sprint(v)
		}
	}
	if p.Labels != nil && p.Names != nil {
		r.at("$.volumes", errors.New("choose volumes by labels or by names, not by both"))
	}
}

func fastest(take []*cadence.Cadence) time.Duration {
	var least time.Duration
	for _, c := range take {
		if d := c.Typical(time.Date(2025, 1, 6, 0, 0, 0, 0, time.UTC)); d > 0 && (least == 0 || d < least) {
			least = d
		}
	}
	return least
}
