package cli

import (
	"context"
	"fmt"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func restoreManyCommand() *cli.Command {
	return &cli.Command{Name: "restore", Usage: "bring each of several snapshots into a directory of its own",
		ArgsUsage:   "ID...",
		Description: "Example: candid snapshot restore 3f9a0c11b2d4 a00c8b4f7f8e --to /srv/restored",
		Flags: append([]cli.Flag{&cli.StringFlag{Name: "to", Required: true,
			Usage: "the directory on the site's host below which they lie, as VOLUME-TIME"}}, runFlags()...),
		Action: with("ID [ID...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			var runs []api.Run
			ask := api.RestoreMany{Snapshots: cmd.Args().Slice(), To: cmd.String("to")}
			if err := f.Post(ctx, "/snapshots/restore", ask, &runs); err != nil {
				return err
			}
			if cmd.Bool("no-wait") {
				return f.show(runs, func() { f.say("Begun: %d. See how they go: candid run list", len(runs)) })
			}
			failed, remarks := 0, 0
			rows := make([][]string, len(runs))
			for i := range runs {
				if err := f.awaitRun(ctx, &runs[i]); err != nil {
					return err
				}
				switch r := runs[i]; r.State {
				case api.RunDone:
				case api.RunDoneWithRemarks:
					remarks++
				default:
					failed++
				}
				rows[i] = []string{runs[i].Subject, fmt.Sprint(runs[i].ID), runs[i].State, runs[i].Outcome}
			}
			if err := f.show(runs, func() { f.list([]string{"VOLUME", "RUN", "STATE", "OUTCOME"}, rows, "") }); err != nil {
				return err
			}
			switch {
			case failed > 0:
				return &exitError{code: exitFailed}
			case remarks > 0 && cmd.Bool("strict"):
				return &exitError{code: exitRemarks}
			}
			return nil
		})}
}
