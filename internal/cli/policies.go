package cli

import (
	"context"
	"strconv"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func pruneCommand() *cli.Command {
	return &cli.Command{Name: "prune", Usage: "apply the rules now: expired snapshots enter grace, those past grace go",
		ArgsUsage:   "[VOLUME]",
		Description: "Example: candid prune --dry-run",
		Flags: append([]cli.Flag{&cli.BoolFlag{Name: "dry-run",
			Usage: "only tell what would go, why, and what comes back"}}, runFlags()...),
		Action: with("[VOLUME]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			ask := api.PruneAsk{Volume: cmd.Args().First()}
			if !cmd.Bool("dry-run") {
				var r api.Run
				if err := f.Post(ctx, "/prune", ask, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			}
			var p api.PruneResult
			if err := f.Post(ctx, "/prune/plan", ask, &p); err != nil {
				return err
			}
			return f.show(p, func() {
				if p.Held != "" {
					f.say("Nothing is removed at present: %s.", p.Held)
					return
				}
				var rows [][]string
				for _, g := range p.Going {
					rows = append(rows, []string{short(g.ID), g.Volume, when(g.Taken), g.What, g.Why})
				}
				f.list([]string{"ID", "VOLUME", "TAKEN", "WHAT", "WHY"}, rows, "Nothing has expired.")
				if p.NotListed > 0 {
					f.say("… and %d more.", p.NotListed)
				}
				f.say("%d would enter grace, %d would be removed, %d kept again. A sweep would then give back %s; %s more when "+
					"those entering grace are removed too.",
					p.EnterGrace, p.Removed, p.Recalled, size(p.RemovedBytes), size(p.GraceBytes))
			})
		})}
}

func storeCommand() *cli.Command {
	return &cli.Command{Name: "store", Usage: "where snapshots are kept", Commands: []*cli.Command{
		{Name: "usage", Usage: "what the store holds, by volume", Description: "Example: candid store usage",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var u api.Usage
				if err := f.Get(ctx, "/store", nil, &u); err != nil {
					return err
				}
				return f.show(u, func() {
					f.say("%s: %s stored in %s, %d objects, %s; %s wait to be given back by a sweep; %s are free.", u.Place,
						size(u.StoredBytes), plural(u.Packs, "pack", "packs"),
						u.Objects, plural(u.Snapshots, "snapshot", "snapshots"), size(u.DeadBytes), size(u.FreeBytes))
					var rows [][]string
					for _, v := range u.Volumes {
						rows = append(rows, []string{v.Volume, strconv.Itoa(v.Snapshots), size(v.Referenced), size(v.Unique)})
					}
					f.list([]string{"VOLUME", "SNAPSHOTS", "NEEDS", "BACK IF ALL WENT"}, rows, "No volumes yet.")
				})
			})},
		{Name: "sweep", Usage: "give back what no snapshot needs", Description: "Example: candid store sweep --settle",
			Flags: append([]cli.Flag{&cli.BoolFlag{Name: "settle", Usage: "also pack what is there tighter; takes longer"}},
				runFlags()...),
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var r api.Run
				if err := f.Post(ctx, "/store/sweep", api.SweepAsk{Settle: cmd.Bool("settle")}, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			})},
		{Name: "verify", Usage: "read everything and recompute every identity",
			Description: "Example: candid store verify --strict", Flags: runFlags(),
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var r api.Run
				if err := f.Post(ctx, "/store/verify", nil, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			})},
		{Name: "rebuild-catalogue", Usage: "make the records of volumes and snapshots anew from the store",
			Description: "Example: candid store rebuild-catalogue",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error { return f.Post(ctx, "/store/rebuild-catalogue", nil, out) })
			})},
		{Name: "copy-catalogue", Usage: "copy the catalogue while it is in use",
			Description: "The copy lies in the data directory; the newest 14 are kept. Example: candid store copy-catalogue",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var c api.CatalogueCopy
				if err := f.Post(ctx, "/store/catalogue-copies", nil, &c); err != nil {
					return err
				}
				return f.show(c, func() {
					f.say("The catalogue was copied to %s, %s.", c.Path, size(c.Bytes))
					f.say("To go back to it: stop the service, remove catalog.db, catalog.db-wal and catalog.db-shm, put the copy " +
						"in place of catalog.db, start again. Nothing is removed then until you say candid store release.")
				})
			})},
		{Name: "copies", Usage: "list the copies of the catalogue", Description: "Example: candid store copies",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var all []api.CatalogueCopy
				if err := f.Get(ctx, "/store/catalogue-copies", nil, &all); err != nil {
					return err
				}
				return f.show(all, func() {
					var rows [][]string
					for _, c := range all {
						rows = append(rows, []string{when(c.Made), size(c.Bytes), c.Path})
					}
					f.list([]string{"MADE", "SIZE", "FILE"}, rows, "There is no copy of the catalogue yet: candid store "+
						"copy-catalogue makes one.")
				})
			})},
		{Name: "release", Usage: "let removal go on after a rebuild", Description: "Example: candid store release",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error { return f.Post(ctx, "/store/release", nil, out) })
			})},
	}}
}
