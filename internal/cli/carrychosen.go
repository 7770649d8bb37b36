package cli

import (
	"context"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func carryChosenCommand() *cli.Command {
	return &cli.Command{Name: "carry", Usage: "carry chosen snapshots to another site, or to a place, once and without " +
		"a route", ArgsUsage: "ID...", Description: "Example: candid snapshot carry 3f9a0c11b2d4 --to stonewick " +
		"--keep-until 2028-01-01 --reason \"audit of 2026\"",
		Flags: append([]cli.Flag{&cli.StringFlag{Name: "to", Required: true,
			Usage: "paired site or attached place: candid site list shows the room there"},
			&cli.StringFlag{Name: "keep-until", Usage: "keep them there until WHEN, whatever the rules there say: a date, " +
				"or +30d"},
			&cli.BoolFlag{Name: "keep", Usage: "keep them there until somebody there lets them go"},
			&cli.StringFlag{Name: "reason", Usage: "why, shown there beside the keep mark"}}, runFlags()...),
		Action: with("ID [ID...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			end, err := future(cmd.String("keep-until"))
			if err != nil {
				return err
			}
			var r api.Run
			if err := f.Post(ctx, "/snapshots/carry", api.CarryChosen{Snapshots: cmd.Args().Slice(), To: cmd.String("to"),
				Keep: cmd.Bool("keep"), KeepUntil: end, Reason: cmd.String("reason")}, &r); err != nil {
				return err
			}
			return f.follow(ctx, cmd, &r)
		})}
}
