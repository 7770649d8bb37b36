package cli

import (
	"context"
	"fmt"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func beginCommand() *cli.Command {
	return &cli.Command{Name: "begin", Usage: "the first steps: from an empty site to a file brought back from another",
		Description: "Each step is done as soon as the site sees that it is. Example: candid begin",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "put-away", Usage: "show them in the console no more"},
			&cli.BoolFlag{Name: "bring-back", Usage: "show them in the console again"}},
		Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
			away := cmd.Bool("put-away")
			if away && cmd.Bool("bring-back") {
				return misuse("--put-away and --bring-back exclude each other")
			}
			var steps api.FirstSteps
			var err error
			if away || cmd.Bool("bring-back") {
				err = f.Put(ctx, "/first-steps", api.FirstStepsSet{PutAway: away}, &steps)
			} else {
				err = f.Get(ctx, "/first-steps", nil, &steps)
			}
			if err != nil {
				return err
			}
			return f.show(steps, func() {
				f.firstSteps(&steps)
				if away {
					f.say("The console shows them no more; candid begin does, and --bring-back shows them there again.")
				}
			})
		})}
}

func (f *session) firstSteps(steps *api.FirstSteps) {
	next := true
	for i, s := range steps.Steps {
		mark := " "
		if s.Done {
			mark = "x"
		}
		f.say("[%s] %d. %s", mark, i+1, s.Text)
		if !s.Done && next { // of the others the help would be in the way
			next = false
			f.say("       %s", s.Help)
			f.say("       %s", s.Command)
		}
	}
	if next {
		f.say("All of it is done: files come back from another site.")
	} else {
		fmt.Fprintf(f.err, "%d of %d are done; candid begin goes on from here.\n", steps.Done, len(steps.Steps))
	}
}

func policyExampleCommand() *cli.Command {
	return &cli.Command{Name: "example", ArgsUsage: "[NAME]",
		Usage:       "a policy to begin with, written for this site; without a name: which there are",
		Description: "Example: candid policy example shared-files > shared-files.yaml",
		Action: with("[NAME]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			var all []api.PolicyExample
			if err := f.Get(ctx, "/policies/examples", nil, &all); err != nil {
				return err
			}
			name := cmd.Args().First()
			for _, e := range all {
				if e.Name == name {
					return f.show(e, func() { fmt.Fprint(f.out, e.Body) })
				}
			}
			if name != "" {
				return misuse("there is no example %q: candid policy example lists them", name)
			}
			return f.show(all, func() {
				var rows [][]string
				for _, e := range all {
					rows = append(rows, []string{e.Name, e.Title})
				}
				f.list([]string{"EXAMPLE", "FOR"}, rows, "")
				f.say("Write one to a file, change it, and store it: candid policy example %s > my.yaml, candid policy preview "+
					"my.yaml, candid policy put my.yaml", all[0].Name)
			})
		})}
}
