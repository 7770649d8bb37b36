// Package policy reads policy documents: which volumes, when to take snapshots, what
// to keep at which place, and the objectives.
//
//	policy: survey-standard
//	volumes: {collection: herbarium}     # labels, all must match; or names: [...]
//	take:
//	  - every 15 minutes between 07:00 and 19:00 on mon-fri
//	  - daily at 23:30
//	zone: Europe/Lisbon
//	skip_unchanged: true
//	keep:                                # by place
//	  larkfield: {newest: 8, hourly: 48, daily: 14, by_hand: 30 days}
//	  stonewick: {daily: 30, weekly: 8, monthly: 12, yearly: 7}
//	objectives: {larkfield: 1 hour, stonewick: 4 hours}
//	grace: 24 hours
//
// Every error names the line, the column and the word.
package policy

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/core/cadence"
	"candidharbor/core/retention"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
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
	Grace         time.Duration
}

// DefaultGrace is the time between expiry and removal when a policy names none.
const DefaultGrace = 24 * time.Hour

type document struct {
	Policy        string                `yaml:"policy"`
	Volumes       map[string]any        `yaml:"volumes"`
	Take          []string              `yaml:"take"`
	Zone          string                `yaml:"zone"`
	SkipUnchanged bool                  `yaml:"skip_unchanged"`
	Keep          map[string]placeRules `yaml:"keep"`
	Objectives    map[string]string     `yaml:"objectives"`
	Grace         string                `yaml:"grace"`
}

type placeRules struct {
	Newest  *int   `yaml:"newest"`
	Hourly  *int   `yaml:"hourly"`
	Daily   *int   `yaml:"daily"`
	Weekly  *int   `yaml:"weekly"`
	Monthly *int   `yaml:"monthly"`
	Yearly  *int   `yaml:"yearly"`
	ByHand  string `yaml:"by_hand"`
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
		return fmt.Errorf("%s name %q: use 1 to 63 lower-case letters, digits, dots, dashes or underscores, beginning with a letter or digit", what, name)
	}
	return nil
}

type reader struct {
	file *ast.File
	ps   Problems
}

// at adds a problem at the place of a YAML path such as $.take[0].
func (r *reader) at(path string, err error) {
	p := Problem{What: err.Error()}
	if yp, perr := yaml.PathString(path); perr == nil {
		if node, ferr := yp.FilterFile(r.file); ferr == nil && node != nil {
			if tok := node.GetToken(); tok != nil && tok.Position != nil {
				p.Line, p.Column = tok.Position.Line, tok.Position.Column
				var pe *cadence.PhraseError
				if errors.As(err, &pe) && pe.Column > 0 {
					p.Column += pe.Column - 1
				}
			}
		}
	}
	r.ps = append(r.ps, p)
}

// Parse compiles a document. The error is of type Problems.
func Parse(text string) (*Policy, error) {
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return nil, Problems{yamlProblem(err)}
	}
	var d document
	if err := yaml.UnmarshalWithOptions([]byte(text), &d, yaml.Strict()); err != nil {
		return nil, Problems{yamlProblem(err)}
	}
	r := &reader{file: file}
	p := &Policy{Name: d.Policy, SkipUnchanged: d.SkipUnchanged, Grace: DefaultGrace, Keep: map[string]retention.Rules{}, Objectives: map[string]time.Duration{}}
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
	for _, place := range slices.Sorted(maps.Keys(d.Keep)) {
		r.keep(place, d.Keep[place], p)
	}
	for _, place := range slices.Sorted(maps.Keys(d.Objectives)) {
		dur, err := ParseDuration(d.Objectives[place])
		if err != nil {
			r.at("$.objectives."+place, err)
		}
		p.Objectives[place] = dur
	}
	if d.Grace != "" {
		if p.Grace, err = ParseDuration(d.Grace); err != nil {
			r.at("$.grace", err)
		}
	}
	if len(r.ps) > 0 {
		return nil, r.ps
	}
	return p, nil
}

func yamlProblem(err error) Problem {
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

func (r *reader) keep(place string, k placeRules, p *Policy) {
	path := "$.keep." + place
	rules := retention.Rules{Zone: p.Zone}
	any := false
	count := func(name string, v *int) int {
		if v == nil {
			return 0
		}
		any = true
		if *v < 1 || *v > 1_000_000 {
			r.at(path+"."+name, fmt.Errorf("%s: %d keeps nothing or too much: give 1 to 1000000, or leave it out", name, *v))
		}
		return *v
	}
	rules.Newest = count("newest", k.Newest)
	for i, v := range []*int{k.Hourly, k.Daily, k.Weekly, k.Monthly, k.Yearly} {
		t := retention.Tier(i)
		rules.Count[t] = count(t.String(), v)
	}
	if k.ByHand != "" {
		d, err := ParseDuration(k.ByHand)
		if err != nil {
			r.at(path+".by_hand", err)
		}
		rules.ByHand = d
	}
	if !any {
		r.at("$.keep", fmt.Errorf("%s keeps nothing: give newest or a tier, or leave the place out to keep everything there", place))
	}
	if len(p.Take) > 0 && rules.Count[retention.Hourly] > 0 {
		if typical := fastest(p.Take); typical > 0 && typical >= 24*time.Hour {
			r.at(path+".hourly", fmt.Errorf("hourly: snapshots come only every %s, so an hourly tier keeps the same ones as daily; leave it out or take more often", Words(typical)))
		}
	}
	p.Keep[place] = rules
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

var units = []struct {
	name string
	d    time.Duration
}{{"year", 365 * 24 * time.Hour}, {"week", 7 * 24 * time.Hour}, {"day", 24 * time.Hour}, {"hour", time.Hour}, {"minute", time.Minute}, {"second", time.Second}}

// ParseDuration reads a duration such as "90 minutes", "30 days" or "1 hour".
func ParseDuration(s string) (time.Duration, error) {
	n, unit, ok := strings.Cut(strings.TrimSpace(s), " ")
	if v, err := strconv.Atoi(n); ok && err == nil && v > 0 && v < 1_000_000 {
		for _, u := range units {
			if unit = strings.TrimSpace(unit); unit == u.name || unit == u.name+"s" {
				if d := time.Duration(v) * u.d; d/u.d == time.Duration(v) {
					return d, nil
				}
			}
		}
	}
	return 0, fmt.Errorf("duration %q: write a number and seconds, minutes, hours, days, weeks or years, such as 30 days", s)
}

// Words writes a duration the way ParseDuration reads it, in the largest unit that
// divides it.
func Words(d time.Duration) string {
	for _, u := range units {
		if d >= u.d && d%u.d == 0 && u.name != "year" && (u.name != "week" || d%(28*24*time.Hour) == 0) {
			if d == u.d {
				return "1 " + u.name
			}
			return fmt.Sprintf("%d %ss", d/u.d, u.name)
		}
	}
	return d.String()
}
