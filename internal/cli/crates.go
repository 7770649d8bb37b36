package cli

import (
	"context"
	"net/url"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func crateCommand() *cli.Command {
	return &cli.Command{Name: "crate", Usage: "carry snapshots without a network, in a file", Commands: []*cli.Command{
		{Name: "write", Usage: "write what a route still has to carry, or chosen snapshots, into a new file on the " +
			"site's host", ArgsUsage: "PATH", Description: "Example: candid crate write /mnt/drive/first-copy.crate --route " +
			"to-stonewick --seal",
			Flags: append([]cli.Flag{&cli.StringFlag{Name: "route", Usage: "write what this route still has to carry"},
				&cli.StringSliceFlag{Name: "snapshot", Usage: "or this snapshot; may be given several times"},
				&cli.StringFlag{Name: "part-size", Usage: "split into parts of about this size, such as \"4 GiB\""},
				&cli.BoolFlag{Name: "seal", Usage: "encrypt, so that only the site at the route's other end can open it"}},
				runFlags()...),
			Action: with("PATH", func(ctx context.Context, f *session, cmd *cli.Command) error {
				ask := api.CrateWrite{Path: cmd.Args().First(), Route: cmd.String("route"), Snapshots: cmd.StringSlice("snapshot"),
					Seal: cmd.Bool("seal")}
				if t := cmd.String("part-size"); t != "" {
					var err error
					if ask.PartBytes, err = parseSize(t); err != nil {
						return err
					}
				}
				var r api.Run
				if err := f.Post(ctx, "/crates", ask, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			})},
		{Name: "list", Usage: "what is in a file of a crate", ArgsUsage: "PATH",
			Description: "Example: candid crate list /mnt/drive/first-copy.crate",
			Action: with("PATH", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var c api.Crate
				if err := f.Get(ctx, "/crates", url.Values{"path": {cmd.Args().First()}}, &c); err != nil {
					return err
				}
				return f.show(c, func() {
					whom := ""
					if c.For != "" {
						whom = " for " + c.For
					}
					f.say("Part %d of crate %s, written at %s%s, %s.", c.Part, c.ID, c.Site, whom, when(c.Made))
					if len(c.Missing) > 0 {
						f.say("It builds on %d snapshots that are not here, so it cannot be loaded: %s", len(c.Missing),
							strings.Join(c.Missing, ", "))
					}
					var rows [][]string
					for _, s := range c.Snapshots {
						here := ""
						if s.Here {
							here = "here already"
						}
						rows = append(rows, []string{short(s.ID), s.Volume, when(s.Taken), size(s.Bytes), here})
					}
					f.list([]string{"SNAPSHOT", "VOLUME", "TAKEN", "HOLDS", ""}, rows, "It holds no snapshot.")
				})
			})},
		{Name: "load", Usage: "take in a crate; parts in their order", ArgsUsage: "PATH...",
			Description: "Example: candid crate load /mnt/drive/first-copy.crate", Flags: runFlags(),
			Action: with("PATH...", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var r api.Run
				if err := f.Post(ctx, "/crates/load", api.CrateLoad{Paths: cmd.Args().Slice()}, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			})},
	}}
}
