package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"

	"candidharbor/api"
	"candidharbor/internal/phrase"

	"github.com/urfave/cli/v3"
)

func runCommand() *cli.Command {
	id := func(cmd *cli.Command) (int64, error) {
		n, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
		if err != nil || n < 1 {
			return 0, misuse("%q is not a run: give its number, from candid run list", cmd.Args().First())
		}
		return n, nil
	}
	return &cli.Command{Name: "run", Usage: "what is and was done", Commands: []*cli.Command{
		{Name: "list", Usage: "runs, newest first", Description: "Example: candid run list --limit 50",
			Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many"}, &cli.StringFlag{Name: "of",
				Usage: "only those of this volume or route"}, &cli.StringFlag{Name: "kind",
				Usage: "only these, such as snapshot, carry or restore"}},
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var page api.Page[api.Run]
				if err := f.Get(ctx, "/runs", url.Values{"limit": {strconv.Itoa(cmd.Int("limit"))}, "subject": {cmd.String("of")},
					"kind": {cmd.String("kind")}}, &page); err != nil {
					return err
				}
				return f.show(page, func() {
					var rows [][]string
					for _, r := range page.Items {
						rows = append(rows, []string{strconv.FormatInt(r.ID, 10), when(r.Queued), r.Kind, r.Subject, r.State, r.AskedBy,
							phrase.FirstSentence(r.Outcome)})
					}
					f.list([]string{"RUN", "QUEUED", "KIND", "OF", "STATE", "ASKED BY", "OUTCOME"}, rows, "Nothing was run yet.")
				})
			})},
		{Name: "show", Usage: "one run with its log", ArgsUsage: "ID", Description: "Example: candid run show 17",
			Action: with("ID", func(ctx context.Context, f *session, cmd *cli.Command) error {
				n, err := id(cmd)
				if err != nil {
					return err
				}
				var r api.Run
				if err := f.Get(ctx, fmt.Sprintf("/runs/%d", n), nil, &r); err != nil {
					return err
				}
				return f.show(r, func() {
					f.say("run %d: %s of %s, asked by %s", r.ID, r.Kind, r.Subject, r.AskedBy)
					f.say("state    %s", r.State)
					f.say("queued   %s, began %s, ended %s", when(r.Queued), whenPtr(r.Began), whenPtr(r.Ended))
					if !r.Over() {
						f.say("now      %s", progressText(&r))
					}
					f.say("outcome  %s", r.Outcome)
					for _, l := range r.Log {
						f.say("  %s  %s", when(l.At), l.Text)
					}
				})
			})},
		{Name: "follow", Usage: "show a run until it is over", ArgsUsage: "ID", Description: "Example: candid run follow 17",
			Flags: runFlags(), Action: with("ID", func(ctx context.Context, f *session, cmd *cli.Command) error {
				n, err := id(cmd)
				if err != nil {
					return err
				}
				return f.followRun(ctx, cmd, n)
			})},
		{Name: "cancel", Usage: "end a run at its next safe point", ArgsUsage: "ID",
			Description: "Example: candid run cancel 17", Action: with("ID", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				n, err := id(cmd)
				if err != nil {
					return err
				}
				return f.sentence(func(out any) error { return f.Post(ctx, fmt.Sprintf("/runs/%d/cancel", n), nil, out) })
			})},
	}}
}
