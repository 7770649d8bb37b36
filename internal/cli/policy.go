package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/phrase"

	"github.com/urfave/cli/v3"
)

func policyCommand() *cli.Command {
	return &cli.Command{Name: "policy", Usage: "which volumes, when, kept for how long", Commands: []*cli.Command{
		{Name: "put", Usage: "store a policy document, or several with --- between them; - reads standard input",
			ArgsUsage: "FILE", Description: "Example: candid policy put survey-standard.yaml",
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "accept that snapshots expire by it"}},
			Action: with("FILE", policyPut)},
		{Name: "check", Usage: "what is wrong with a document, what is hardly meant, what it would let go", ArgsUsage: "FILE",
			Description: "Example: candid policy check survey-standard.yaml", Action: with("FILE", policyCheck)},
		{Name: "diff", Usage: "a document compared with the stored one, and what it would let go", ArgsUsage: "FILE",
			Description: "Example: candid policy diff survey-standard.yaml", Action: with("FILE", policyDiff)},
		{Name: "preview", Usage: "what a document, or a stored policy, would leave after some days",
			ArgsUsage: "FILE_OR_NAME", Description: "Example: candid policy preview survey-standard --days 365",
			Flags: []cli.Flag{&cli.IntFlag{Name: "days", Value: 90, Usage: "how far to look"},
				&cli.BoolFlag{Name: "from-nothing", Usage: "as if no snapshot had been taken yet"},
				&cli.BoolFlag{Name: "steps", Usage: "also each moment with what keeps it, and how space grows until then"}},
			Action: with("FILE_OR_NAME", policyPreview)},
		policyExampleCommand(),
		{Name: "list", Usage: "all policies", Description: "Example: candid policy list",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var ps []api.Policy
				if err := f.Get(ctx, "/policies", nil, &ps); err != nil {
					return err
				}
				return f.show(ps, func() {
					var rows [][]string
					for _, p := range ps {
						takes := strings.Join(p.Take, "; ")
						if p.Paused {
							takes = "paused"
						}
						rows = append(rows, []string{p.Name, strconv.Itoa(p.Version), when(p.Changed), takes, strings.Join(p.Keep, "; "),
							strings.Join(p.Volumes, ", ")})
					}
					f.list([]string{"POLICY", "VERSION", "CHANGED", "TAKES", "KEEPS", "VOLUMES"}, rows,
						"No policies yet. Write one and store it: candid policy put FILE")
				})
			})},
		{Name: "show", Usage: "one policy document", ArgsUsage: "NAME",
			Description: "Example: candid policy show survey-standard",
			Action: with("NAME", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				var p api.Policy
				if err := f.Get(ctx, "/policies/"+url.PathEscape(cmd.Args().First()), nil, &p); err != nil {
					return err
				}
				return f.show(p, func() {
					fmt.Fprint(f.out, p.Body)
					if p.Description != "" {
						f.say("# for: %s", p.Description)
					}
					f.say("# version %d, changed %s by %s; chooses: %s", p.Version, when(p.Changed), p.ChangedBy,
						strings.Join(p.Volumes, ", "))
				})
			})},
		{Name: "history", Usage: "all versions of a policy, newest first", ArgsUsage: "NAME",
			Description: "Example: candid policy history survey-standard",
			Flags:       []cli.Flag{&cli.IntFlag{Name: "version", Usage: "print the document of this version"}},
			Action:      with("NAME", policyHistory)},
		{Name: "export", Usage: "all policies as one file, which policy put takes back",
			Description: "Example: candid policy export > policies.yaml", Action: with("", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				var ps []api.Policy
				if err := f.Get(ctx, "/policies", nil, &ps); err != nil {
					return err
				}
				return f.show(ps, func() {
					for i, p := range ps {
						if i > 0 {
							f.say("---")
						}
						f.say("%s", strings.TrimRight(p.Body, "\n"))
					}
				})
			})},
		{Name: "schema", Usage: "the JSON Schema of policy documents, for editors",
			Description: "Example: candid policy schema > policy.schema.json",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.Text(ctx, "/policies/schema", nil, f.raw)
			})},
		{Name: "calendar", Usage: "coming snapshots and expiries as an iCalendar file",
			Description: "Example: candid policy calendar --days 90 > snapshots.ics",
			Flags:       []cli.Flag{&cli.IntFlag{Name: "days", Value: 30, Usage: "how far to look"}},
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.Text(ctx, "/calendar", url.Values{"days": {strconv.Itoa(cmd.Int("days"))}}, f.raw)
			})},
		{Name: "remove", Usage: "remove a policy; what was kept by it stays", ArgsUsage: "NAME",
			Description: "Example: candid policy remove trial",
			Flags:       []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "accept that snapshots expire by it"}},
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				path := "/policies/" + url.PathEscape(cmd.Args().First())
				if cmd.Bool("yes") {
					path += "?accept=true"
				}
				return f.sentence(func(out any) error { return f.Delete(ctx, path, out) })
			})},
	}}
}

// documents reads the policies of a file.
func documents(name string) ([]string, error) {
	var raw []byte
	var err error
	if name == "-" {
		raw, err = io.ReadAll(io.LimitReader(os.Stdin, 1<<20))
	} else {
		raw, err = os.ReadFile(name)
	}
	if err != nil {
		return nil, &exitError{exitMisuse, fmt.Errorf("the policy file cannot be read: %w", err)}
	}
	var out []string
	for _, doc := range strings.Split("\n"+string(raw), "\n---") {
		if strings.TrimSpace(doc) != "" {
			out = append(out, strings.TrimPrefix(doc, "\n"))
		}
	}
	if len(out) == 0 {
		return nil, misuse("%s holds no policy", name)
	}
	return out, nil
}

// document reads a file that holds one policy.
func document(name string) (string, error) {
	docs, err := documents(name)
	if err == nil && len(docs) > 1 {
		err = misuse("%s holds %d policies: give one at a time", name, len(docs))
	}
	if err != nil {
		return "", err
	}
	return docs[0], nil
}

func policyPut(ctx context.Context, f *session, cmd *cli.Command) error {
	docs, err := documents(cmd.Args().First())
	if err != nil {
		return err
	}
	var stored []api.Policy
	for _, doc := range docs {
		var check api.PolicyCheck
		if err := f.Post(ctx, "/policies/check", api.PolicyPut{Body: doc}, &check); err != nil {
			return err
		}
		if len(check.Problems) == 0 && len(check.Letting) > 0 && !cmd.Bool("yes") {
			f.letting(f.err, &check)
			return &exitError{exitFailed, fmt.Errorf("nothing was stored of %s: under it %s would expire; say --yes to "+
				"accept that", check.Name, plural(len(check.Letting), "snapshot", "snapshots"))}
		}
		var p api.Policy
		if err := f.Put(ctx, "/policies", api.PolicyPut{Body: doc, Accept: cmd.Bool("yes")}, &p); err != nil {
			return err
		}
		stored = append(stored, p)
		if !f.json {
			f.stored(&p, &check)
		}
	}
	if !f.json {
		return nil
	}
	if len(stored) == 1 {
		return f.printJSON(stored[0])
	}
	return f.printJSON(stored)
}

func (f *session) stored(p *api.Policy, check *api.PolicyCheck) {
	f.say("Policy %s is stored as version %d.", p.Name, p.Version)
	if p.Paused {
		f.say("! It is paused: nothing is taken, and nothing expires.")
	}
	for _, t := range p.Take {
		f.say("takes  %s", t)
	}
	for _, k := range p.Keep {
		f.say("keeps  %s", k)
	}
	if len(p.Volumes) > 0 {
		f.say("for    %s", strings.Join(p.Volumes, ", "))
	}
	f.hints(check)
}

func (f *session) hints(check *api.PolicyCheck) {
	for _, h := range check.Hints {
		if h.Line > 0 {
			f.say("! line %d: %s", h.Line, h.What)
		} else {
			f.say("! %s", h.What)
		}
	}
	if n := len(check.Uncovered); n > 0 {
		f.say("! No policy chooses %s.", phrase.Names(check.Uncovered, 5))
	}
}

// letting lists what a document would let go, place by place.
func (f *session) letting(w io.Writer, check *api.PolicyCheck) {
	byPlace := map[string][]api.Going{}
	var places []string
	for _, g := range check.Letting {
		if byPlace[g.Place] == nil {
			places = append(places, g.Place)
		}
		byPlace[g.Place] = append(byPlace[g.Place], g)
	}
	for i, place := range places {
		what := ""
		if i == 0 && check.Bytes > 0 {
			what = fmt.Sprintf(", and %s come back here after grace and a sweep", size(check.Bytes))
		}
		fmt.Fprintf(w, "At %s %s would expire%s:\n", place, plural(len(byPlace[place]), "snapshot", "snapshots"), what)
		for k, g := range byPlace[place] {
			if k == 20 {
				fmt.Fprintf(w, "  … and %d more\n", len(byPlace[place])-20)
				break
			}
			fmt.Fprintf(w, "  %s of %s, taken %s: %s\n", short(g.ID), g.Volume, when(g.Taken), g.Why)
		}
	}
}

func policyCheck(ctx context.Context, f *session, cmd *cli.Command) error {
	docs, err := documents(cmd.Args().First())
	if err != nil {
		return err
	}
	var all []api.PolicyCheck
	bad := 0
	for _, doc := range docs {
		var check api.PolicyCheck
		if err := f.Post(ctx, "/policies/check", api.PolicyPut{Body: doc}, &check); err != nil {
			return err
		}
		all = append(all, check)
		bad += len(check.Problems)
		if f.json {
			continue
		}
		for _, p := range check.Problems {
			f.say("line %d, column %d: %s", p.Line, p.Column, p.What)
		}
		if len(check.Problems) > 0 {
			continue
		}
		f.say("%s can be stored. It chooses %s.", check.Name, orNone(check.Volumes))
		f.hints(&check)
		f.letting(f.out, &check)
	}
	if f.json {
		if err := f.printJSON(all); err != nil {
			return err
		}
	}
	if bad > 0 {
		return &exitError{code: exitMisuse}
	}
	return nil
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "no volume yet"
	}
	return strings.Join(names, ", ")
}

func policyDiff(ctx context.Context, f *session, cmd *cli.Command) error {
	doc, err := document(cmd.Args().First())
	if err != nil {
		return err
	}
	var d api.PolicyDiff
	if err := f.Post(ctx, "/policies/diff", api.PolicyPut{Body: doc}, &d); err != nil {
		return err
	}
	if len(d.Check.Problems) > 0 {
		p := d.Check.Problems[0]
		return misuse("the document cannot be used: line %d, column %d: %s", p.Line, p.Column, p.What)
	}
	return f.show(d, func() {
		changed := false
		for _, l := range d.Lines {
			changed = changed || l.Sign != " "
		}
		switch {
		case d.Version == 0:
			f.say("%s is not stored yet.", d.Check.Name)
		case !changed:
			f.say("%s is stored like this already, as version %d.", d.Check.Name, d.Version)
		default:
			f.say("%s compared with version %d:", d.Check.Name, d.Version)
			for _, l := range d.Lines {
				f.say("%s %s", l.Sign, l.Text)
			}
		}
		f.hints(&d.Check)
		if len(d.Check.Letting) == 0 {
			f.say("No snapshot would expire by it.")
		}
		f.letting(f.out, &d.Check)
	})
}

func policyHistory(ctx context.Context, f *session, cmd *cli.Command) error {
	var vs []api.PolicyVersion
	if err := f.Get(ctx, "/policies/"+url.PathEscape(cmd.Args().First())+"/versions", nil, &vs); err != nil {
		return err
	}
	if n := cmd.Int("version"); n > 0 {
		for _, v := range vs {
			if v.Version == n && !v.Removed {
				return f.show(v, func() { fmt.Fprint(f.out, v.Body) })
			}
		}
		return &exitError{exitFailed, fmt.Errorf("policy %q has no document of version %d", cmd.Args().First(), n)}
	}
	return f.show(vs, func() {
		var rows [][]string
		for i, v := range vs {
			what := "changed"
			switch {
			case v.Removed:
				what = "removed"
			case i == len(vs)-1:
				what = "made"
			}
			rows = append(rows, []string{strconv.Itoa(v.Version), when(v.Changed), v.ChangedBy, what})
		}
		f.list([]string{"VERSION", "WHEN", "WHO", "WHAT"}, rows, "")
	})
}

func policyPreview(ctx context.Context, f *session, cmd *cli.Command) error {
	ask := api.PreviewAsk{Days: cmd.Int("days"), FromNothing: cmd.Bool("from-nothing")}
	name := cmd.Args().First()
	if _, err := os.Stat(name); err == nil || name == "-" {
		if ask.Body, err = document(name); err != nil {
			return err
		}
	} else {
		ask.Name = name
	}
	var p api.Preview
	if err := f.Post(ctx, "/policies/preview", ask, &p); err != nil {
		return err
	}
	return f.show(p, func() {
		outlook(f, &p)
		if !cmd.Bool("steps") {
			f.say("\nEach moment with what keeps it, and how space grows until then: --steps")
			return
		}
		for _, pl := range p.Places {
			f.say("\nAt %s, on %s:", pl.Place, when(p.To))
			var rows [][]string
			for i, r := range pl.Ladder {
				if i == 40 {
					rows = append(rows, []string{"…", fmt.Sprintf("and %d more", len(pl.Ladder)-40)})
					break
				}
				rows = append(rows, []string{when(r.Taken), strings.Join(r.Reasons, "; ")})
			}
			f.list([]string{"MOMENT", "KEPT AS"}, rows, "There would be none.")
			rows = nil
			for i := 0; i < len(pl.Samples); i += max(1, (len(pl.Samples)-1)/4) {
				rows = append(rows, []string{when(pl.Samples[i].At), strconv.Itoa(pl.Samples[i].Count), size(pl.Samples[i].Bytes)})
			}
			f.say("")
			f.list([]string{"BY", "SNAPSHOTS", "SPACE, ABOUT"}, rows, "")
		}
	})
}

// outlook tells what a policy would leave: how far back one could go at each place, then what else there is to know.
func outlook(f *session, p *api.Preview) {
	var rows [][]string
	for _, pl := range p.Places {
		back, reach := "nothing", "-"
		if pl.Oldest != nil {
			back, reach = when(*pl.Oldest), phrase.Ago(p.To.Sub(*pl.Oldest))
		}
		count, bytes := "0", size(0)
		if n := len(pl.Samples); n > 0 {
			count, bytes = strconv.Itoa(pl.Samples[n-1].Count), size(pl.Samples[n-1].Bytes)
		}
		rows = append(rows, []string{pl.Place, back, reach, strconv.Itoa(pl.Kept), count, bytes, pl.By})
	}
	f.say("On %s one could go back to:", when(p.To))
	f.list([]string{"AT", "MOMENT", "REACH", "STEPS", "SNAPSHOTS", "SPACE, ABOUT", "KEPT BY"}, rows, "")
	for _, s := range p.Sentences {
		f.say("%s", s)
	}
}
