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

	"github.com/urfave/cli/v3"
)

func runbookCommand() *cli.Command {
	path := func(cmd *cli.Command, end string) string {
		return "/runbooks/" + url.PathEscape(cmd.Args().First()) + end
	}
	return &cli.Command{Name: "runbook", Usage: "how this site takes volumes over, step by step", Commands: []*cli.Command{
		{Name: "put", Usage: "store a runbook, at the site that takes over; - reads standard input", ArgsUsage: "FILE",
			Description: "Example: candid runbook put field-station.yaml", Action: with("FILE", runbookPut)},
		{Name: "list", Usage: "all runbooks, and whether each would work now", Description: "Example: candid runbook list",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var all []api.Runbook
				if err := f.Get(ctx, "/runbooks", nil, &all); err != nil {
					return err
				}
				return f.show(all, func() {
					var rows [][]string
					for _, b := range all {
						ready := "no"
						if b.Readiness.Ready {
							ready = "yes"
						}
						rows = append(rows, []string{b.Name, ready, strings.Join(b.Volumes, ", "), strconv.Itoa(b.Version),
							b.Readiness.Sentence})
					}
					f.list([]string{"RUNBOOK", "READY", "BRINGS UP", "VERSION", ""}, rows,
						"No runbooks yet. Write one and store it: candid runbook put FILE")
				})
			})},
		{Name: "show", Usage: "one runbook", ArgsUsage: "NAME", Description: "Example: candid runbook show field-station",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var b api.Runbook
				if err := f.Get(ctx, path(cmd, ""), nil, &b); err != nil {
					return err
				}
				return f.show(b, func() {
					fmt.Fprint(f.out, b.Body)
					f.say("# version %d, changed %s by %s. %s", b.Version, when(b.Changed), b.ChangedBy, b.Readiness.Sentence)
				})
			})},
		{Name: "check", Usage: "whether a runbook would work now, and why not; exit code 3 when it would not",
			ArgsUsage: "NAME", Description: "Example: candid runbook check field-station",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var b api.Runbook
				if err := f.Get(ctx, path(cmd, ""), nil, &b); err != nil {
					return err
				}
				if err := f.show(b.Readiness, func() { f.ready(b.Readiness) }); err != nil {
					return err
				}
				if !b.Readiness.Ready {
					return &exitError{code: exitRemarks}
				}
				return nil
			})},
		{Name: "history", Usage: "all versions of a runbook, newest first", ArgsUsage: "NAME",
			Description: "Example: candid runbook history field-station",
			Flags:       []cli.Flag{&cli.IntFlag{Name: "version", Usage: "print the document of this version"}},
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var all []api.Runbook
				if err := f.Get(ctx, path(cmd, "/versions"), nil, &all); err != nil {
					return err
				}
				if n := cmd.Int("version"); n > 0 {
					for _, b := range all {
						if b.Version == n {
							return f.show(b, func() { fmt.Fprint(f.out, b.Body) })
						}
					}
					return misuse("runbook %s has no version %d", cmd.Args().First(), n)
				}
				return f.show(all, func() {
					var rows [][]string
					for _, b := range all {
						what := "stored"
						if b.Body == "" {
							what = "removed"
						}
						rows = append(rows, []string{strconv.Itoa(b.Version), what, when(b.Changed), b.ChangedBy})
					}
					f.list([]string{"VERSION", "", "WHEN", "BY"}, rows, "")
				})
			})},
		{Name: "remove", Usage: "forget a runbook; its versions stay", ArgsUsage: "NAME",
			Description: "Example: candid runbook remove trial",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error { return f.Delete(ctx, path(cmd, ""), out) })
			})},
	}}
}

func runbookPut(ctx context.Context, f *session, cmd *cli.Command) error {
	var raw []byte
	var err error
	if name := cmd.Args().First(); name == "-" {
		raw, err = io.ReadAll(io.LimitReader(os.Stdin, 1<<20))
	} else {
		raw, err = os.ReadFile(name)
	}
	if err != nil {
		return &exitError{exitMisuse, fmt.Errorf("the runbook cannot be read: %w", err)}
	}
	var b api.Runbook
	if err := f.Put(ctx, "/runbooks", api.RunbookPut{Body: string(raw)}, &b); err != nil {
		return err
	}
	return f.show(b, func() {
		f.say("Runbook %s is stored, version %d.", b.Name, b.Version)
		f.ready(b.Readiness)
	})
}

// ready lists what a runbook needs, what lacks first.
func (f *session) ready(r *api.Readiness) {
	if r.Ready {
		f.say("It would work now.")
	} else {
		f.say("It would not work now:")
	}
	for _, ok := range []bool{false, true} {
		for _, c := range r.Checks {
			if c.OK != ok {
				continue
			}
			mark := "no "
			if ok {
				mark = "yes"
			}
			f.say("  %s  %s", mark, c.Text)
			if !ok && c.Command != "" {
				f.say("       %s", c.Command)
			}
		}
	}
}
