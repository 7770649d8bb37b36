package cli

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func groupCommand() *cli.Command {
	return &cli.Command{Name: "group", Usage: "volumes that are snapshotted as one set", Commands: []*cli.Command{
		{Name: "put", Usage: "make a group, or change it", ArgsUsage: "NAME VOLUME VOLUME...",
			Description: "Example: candid group put accessions accession-register field-notebooks --freeze register-freeze " +
				"--thaw register-thaw",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "freeze", Usage: "hook of site.yaml that holds the writers before the volumes are read"},
				&cli.StringFlag{Name: "thaw", Usage: "hook that lets them go afterwards, whatever happened"},
				&cli.StringFlag{Name: "failing", Usage: "when the freeze fails: stop, and take nothing, or spread, and take a " +
					"set nevertheless"},
				&cli.BoolFlag{Name: "without-hooks", Usage: "the hooks that it has are left out on purpose"},
			},
			Action: with("NAME VOLUME VOLUME...", groupPut)},
		{Name: "edit", Usage: "change one thing of a group and leave the rest", ArgsUsage: "NAME",
			Description: "Example: candid group edit accessions --add grant-office",
			Flags: []cli.Flag{
				&cli.StringSliceFlag{Name: "add", Usage: "volume to take in"},
				&cli.StringSliceFlag{Name: "remove", Usage: "volume to take out"},
				&cli.StringFlag{Name: "freeze", Usage: "hook that holds the writers"},
				&cli.StringFlag{Name: "thaw", Usage: "hook that lets them go"},
				&cli.StringFlag{Name: "failing", Usage: "when the freeze fails: stop or spread"},
				&cli.BoolFlag{Name: "without-hooks", Usage: "it is to have no hooks any more"},
			},
			Action: with("NAME", groupEdit)},
		{Name: "list", Usage: "all groups", Description: "Example: candid group list",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var gs []api.Group
				if err := f.Get(ctx, "/groups", nil, &gs); err != nil {
					return err
				}
				return f.show(gs, func() {
					var rows [][]string
					for _, g := range gs {
						newest := "-"
						if len(g.Newest) > 0 {
							newest = when(g.Newest[0].Taken)
						}
						rows = append(rows, []string{g.Name, strings.Join(g.Volumes, ", "), freezeWords(&g), newest})
					}
					f.list([]string{"GROUP", "VOLUMES", "WRITERS", "NEWEST SET"}, rows,
						"No groups yet. Volumes that belong together: candid group put NAME VOLUME VOLUME")
				})
			})},
		{Name: "show", Usage: "one group with its newest set", ArgsUsage: "NAME",
			Description: "Example: candid group show accessions", Action: with("NAME", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				var g api.Group
				if err := f.Get(ctx, "/groups/"+url.PathEscape(cmd.Args().First()), nil, &g); err != nil {
					return err
				}
				return f.show(g, func() { groupTell(f, &g) })
			})},
		{Name: "restore", Usage: "bring all volumes of a group back to one common instant", ArgsUsage: "NAME",
			Description: "Example: candid group restore accessions --at -1d --in-place --dry-run",
			Flags: append([]cli.Flag{&cli.StringFlag{Name: "at", Required: true,
				Usage: "WHEN: a moment, latest, or the id of a snapshot of a set"}, &cli.StringFlag{Name: "to",
				Usage: "directory on the site's host; each volume gets one of its name in it"},
				&cli.BoolFlag{Name: "in-place", Usage: "back where they were; a safety snapshot of each is taken first"},
				&cli.BoolFlag{Name: "disconnect", Usage: "disconnect the clients that have its disks open: they lose what " +
					"they did not flush, and must open them anew"},
				&cli.StringFlag{Name: "on-conflict", Usage: "skip, replace, older or keep-both"}, &cli.BoolFlag{Name: "dry-run",
					Usage: "only tell what would be done"}}, runFlags()...),
			Action: with("NAME", groupRestore)},
		{Name: "remove", Usage: "dissolve a group; its volumes and snapshots stay", ArgsUsage: "NAME",
			Description: "Example: candid group remove accessions", Action: with("NAME", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				return f.sentence(func(out any) error { return f.Delete(ctx, "/groups/"+url.PathEscape(cmd.Args().First()), out) })
			})},
	}}
}

func groupPut(ctx context.Context, f *session, cmd *cli.Command) error {
	ask := api.GroupPut{Volumes: cmd.Args().Tail(), Freeze: cmd.String("freeze"), Thaw: cmd.String("thaw"),
		Failing: cmd.String("failing"), DropHooks: cmd.Bool("without-hooks")}
	var g api.Group
	if err := f.Put(ctx, "/groups/"+url.PathEscape(cmd.Args().First()), ask, &g); err != nil {
		return err
	}
	return f.show(g, func() { groupTell(f, &g) })
}

func groupEdit(ctx context.Context, f *session, cmd *cli.Command) error {
	ask := api.GroupEdit{Add: cmd.StringSlice("add"), Remove: cmd.StringSlice("remove"),
		DropHooks: cmd.Bool("without-hooks")}
	for name, to := range map[string]**string{"freeze": &ask.Freeze, "thaw": &ask.Thaw, "failing": &ask.Failing} {
		if cmd.IsSet(name) {
			v := cmd.String(name)
			*to = &v
		}
	}
	var g api.Group
	if err := f.Patch(ctx, "/groups/"+url.PathEscape(cmd.Args().First()), ask, &g); err != nil {
		return err
	}
	return f.show(g, func() { groupTell(f, &g) })
}

func freezeWords(g *api.Group) string {
	if g.Freeze == "" {
		return "as their policies say"
	}
	thaw := "nothing lets them go"
	if g.Thaw != "" {
		thaw = "let go by " + g.Thaw
	}
	failing := "no set if that fails"
	if g.Failing == "spread" {
		failing = "a spread set if that fails"
	}
	return fmt.Sprintf("held by %s, %s, %s", g.Freeze, thaw, failing)
}

func groupTell(f *session, g *api.Group) {
	f.say("%s: %s are taken as one set.", g.Name, strings.Join(g.Volumes, ", "))
	if g.Description != "" {
		f.say("for          %s", g.Description)
	}
	f.say("writers      %s", freezeWords(g))
	if len(g.Waiting) > 0 {
		f.say("It waits: %s paused, and a set is whole or not at all. To go on: candid volume resume %s", areWords(g.Waiting),
			g.Waiting[0])
	}
	if len(g.Newest) == 0 {
		f.say("No set yet. The next comes when one of its volumes is due, or with: candid snapshot take %s", g.Volumes[0])
		return
	}
	f.say("newest set   %s, %s", when(g.Newest[0].Taken), g.Newest[0].Consistency)
	for _, m := range g.Newest {
		seen := ""
		if m.SeenUntil != nil {
			seen = ", seen until " + when(*m.SeenUntil)
		}
		f.say("  %s  %s%s", m.ID[:12], m.Volume, seen)
	}
}

func areWords(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return strings.Join(names, ", ") + " are"
}

func groupRestore(ctx context.Context, f *session, cmd *cli.Command) error {
	ask := api.GroupRestoreAsk{Group: cmd.Args().First(), At: instant(cmd.String("at")), To: cmd.String("to"),
		InPlace: cmd.Bool("in-place"), OnConflict: cmd.String("on-conflict"), Disconnect: cmd.Bool("disconnect")}
	if (ask.To == "") == !ask.InPlace {
		return misuse("say where to: one of --to DIR or --in-place")
	}
	if !cmd.Bool("dry-run") {
		var r api.Run
		if err := f.Post(ctx, "/group-restores", ask, &r); err != nil {
			return err
		}
		return f.follow(ctx, cmd, &r)
	}
	var p api.GroupRestore
	if err := f.Post(ctx, "/group-restores/plan", ask, &p); err != nil {
		return err
	}
	return f.show(p, func() {
		f.say("The set of %s was taken %s.", p.Group, when(p.Taken))
		for _, v := range p.Volumes {
			f.say("%s to %s: %s; %s to write, %s are free", v.Volume, v.Target, v.Summary, size(v.Bytes), size(v.FreeBytes))
		}
		for _, name := range p.Lacking {
			f.say("%s is of the group and not in that set: nothing of it would come back.", name)
		}
		f.say("Nothing was changed: this is what would be done.")
	})
}
