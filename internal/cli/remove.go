package cli

import (
	"context"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func removeCommand() *cli.Command {
	return &cli.Command{Name: "remove", Usage: "put snapshots into grace, or let them go for good", ArgsUsage: "ID...",
		Description: "Examples:\n   candid snapshot remove 3f9a0c11b2d4\n   candid snapshot remove 3f9a0c11b2d4 --at-once",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "at-once", Usage: "without grace, so that nobody can recall them"},
			&cli.BoolFlag{Name: "dry-run", Usage: "with --at-once: only tell what would go"},
			&cli.BoolFlag{Name: "yes", Usage: "with --at-once: do not ask for the volume's name"}},
		Action: with("ID [ID...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			if cmd.Bool("at-once") {
				return removeAtOnce(ctx, f, cmd)
			}
			if cmd.Bool("dry-run") || cmd.Bool("yes") {
				return misuse("--dry-run and --yes are for --at-once; what goes into grace can be had back")
			}
			return f.each(ctx, cmd, func(path string, s *api.Snapshot) error {
				return f.Delete(ctx, path, s)
			}, func(s api.Snapshot) {
				f.say("%s of %s is in grace until %s. Until then it can be had back: candid snapshot recall %s", short(s.ID),
					s.Volume, whenPtr(s.GraceUntil), short(s.ID))
				if s.Group != "" {
					f.say("The rest of its set, of the group %s, went with it and comes back with it.", s.Group)
				}
			})
		})}
}

// removeAtOnce tells first what would go, and removes it when its volume's name was typed.
func removeAtOnce(ctx context.Context, f *session, cmd *cli.Command) error {
	const path = "/snapshots/remove-at-once"
	ask := api.RemoveAtOnce{Snapshots: cmd.Args().Slice(), DryRun: true}
	var would api.RemovedAtOnce
	if err := f.Post(ctx, path, ask, &would); err != nil {
		return err
	}
	if cmd.Bool("dry-run") {
		return f.show(would, func() { f.goneAtOnce(&would) })
	}
	if !cmd.Bool("yes") {
		if err := f.typed(would.Sentence, would.Type); err != nil {
			return err
		}
	}
	ask.DryRun, ask.Type = false, would.Type
	var done api.RemovedAtOnce
	if err := f.Post(ctx, path, ask, &done); err != nil {
		return err
	}
	return f.show(done, func() { f.goneAtOnce(&done) })
}

func (f *session) goneAtOnce(r *api.RemovedAtOnce) {
	rows := make([][]string, len(r.Going))
	for i, g := range r.Going {
		rows[i] = []string{short(g.ID), g.Volume, when(g.Taken)}
	}
	f.list([]string{"ID", "VOLUME", "TAKEN"}, rows, "")
	f.say("%s", r.Sentence)
}
