package cli

import (
	"context"
	"net/url"
	"regexp"
	"strconv"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func recipeCommand() *cli.Command {
	flags := func() []cli.Flag {
		return []cli.Flag{&cli.StringFlag{Name: "at", Usage: "WHEN: latest, a moment, a snapshot's id, or how long before " +
			"each run: -24h, -7d (latest when not given)"},
			&cli.StringFlag{Name: "to", Usage: "directory on the site's host"}, &cli.BoolFlag{Name: "in-place",
				Usage: "back where it was; a safety snapshot is taken first"},
			&cli.StringFlag{Name: "into", Usage: "another volume, which becomes as this one was; of a disk another disk"},
			&cli.BoolFlag{Name: "disconnect", Usage: "cut off the clients of the disk first"},
			&cli.StringFlag{Name: "on-conflict", Usage: "skip, replace, older or keep-both"}, &cli.StringFlag{Name: "from-site",
				Usage: "the site whose snapshot to use"},
			&cli.BoolFlag{Name: "exact", Usage: "keep the directory of --to exactly as the snapshot: what is not in it goes; " +
				"begins with a new or empty one"},
			&cli.StringFlag{Name: "when", Usage: "a cadence such as \"daily at 02:30\", a WHEN such as \"2027-03-01 01:00\", " +
				"or never: only when asked for"}, &cli.StringFlag{Name: "zone", Usage: "time zone of --when; " +
				"when not given UTC, and this machine's for one moment"},
			&cli.StringFlag{Name: "check", Usage: "hook of site.yaml that checks what was restored; none takes it off"}}
	}
	path := func(name string) string { return "/recipes/" + url.PathEscape(name) }
	tell := func(f *session, r *api.Recipe) error {
		return f.show(r, func() {
			f.say("%s: %s", r.Name, r.Sentence)
			if r.NextDue != nil {
				f.say("Next due %s.", when(*r.NextDue))
			}
		})
	}
	return &cli.Command{Name: "recipe", Usage: "saved restores: repeated, changed, scheduled", Commands: []*cli.Command{
		{Name: "save", Usage: "save a restore under a name", ArgsUsage: "NAME VOLUME [PATH...]", Flags: flags(),
			Description: "Example: candid recipe save test-copy accession-register --at latest --to /srv/test/register " +
				"--exact --when \"daily at 02:30\" --zone Europe/Lisbon",
			Action: with("NAME VOLUME [PATH...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
				a := cmd.Args().Slice()
				put := api.RecipePut{Restore: api.RestoreAsk{Volume: a[1], Paths: a[2:], At: "latest"}}
				recipeFlags(cmd, &put)
				var r api.Recipe
				if err := f.Post(ctx, path(a[0]), put, &r); err != nil {
					return err
				}
				return tell(f, &r)
			})},
		{Name: "edit", Usage: "change a saved restore; what is not given stays", ArgsUsage: "NAME [PATH...]", Flags: flags(),
			Description: "Example: candid recipe edit test-copy --at -24h --when \"weekly on sun at 03:00\"",
			Action: with("NAME [PATH...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var r api.Recipe
				name := cmd.Args().First()
				if err := f.Get(ctx, path(name), nil, &r); err != nil {
					return err
				}
				if paths := cmd.Args().Tail(); len(paths) > 0 {
					r.Restore.Paths = paths
				}
				recipeFlags(cmd, &r.RecipePut)
				var changed api.Recipe
				if err := f.Put(ctx, path(name), r.RecipePut, &changed); err != nil {
					return err
				}
				return tell(f, &changed)
			})},
		{Name: "list", Usage: "all saved restores", Description: "Example: candid recipe list",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var all []api.Recipe
				if err := f.Get(ctx, "/recipes", nil, &all); err != nil {
					return err
				}
				return f.show(all, func() {
					var rows [][]string
					for _, r := range all {
						last := "never"
						if len(r.Runs) > 0 {
							last = r.Runs[0].State + " " + whenPtr(r.Runs[0].Ended)
						}
						rows = append(rows, []string{r.Name, r.Sentence, whenPtr(r.NextDue), last})
					}
					f.list([]string{"RECIPE", "WHAT IT DOES", "NEXT", "LAST RUN"}, rows,
						"No saved restores yet. Save one: candid recipe save NAME VOLUME --to DIR")
				})
			})},
		{Name: "show", Usage: "one saved restore with its last runs", ArgsUsage: "NAME",
			Description: "Example: candid recipe show test-copy", Action: with("NAME", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				var r api.Recipe
				if err := f.Get(ctx, path(cmd.Args().First()), nil, &r); err != nil {
					return err
				}
				return f.show(r, func() {
					f.say("%s", r.Sentence)
					f.say("Saved by %s, %s. Next due: %s.", r.By, when(r.Made), whenPtr(r.NextDue))
					var rows [][]string
					for _, run := range r.Runs {
						rows = append(rows, []string{strconv.FormatInt(run.ID, 10), when(run.Queued), run.State, run.Outcome})
					}
					f.list([]string{"RUN", "AT", "STATE", "OUTCOME"}, rows, "It has not run yet: candid recipe run "+r.Name)
				})
			})},
		{Name: "run", Usage: "carry a saved restore out now", ArgsUsage: "NAME", Flags: runFlags(),
			Description: "Example: candid recipe run test-copy", Action: with("NAME", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				var r api.Run
				if err := f.Post(ctx, path(cmd.Args().First())+"/runs", nil, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			})},
		{Name: "remove", Usage: "forget a saved restore; what it brought back stays", ArgsUsage: "NAME",
			Description: "Example: candid recipe remove test-copy", Action: with("NAME", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				return f.sentence(func(out any) error { return f.Delete(ctx, path(cmd.Args().First()), out) })
			})},
	}}
}

var ago = regexp.MustCompile(`^-\d+[mhdw]$`)

// recipeFlags puts what was given into a recipe.
func recipeFlags(cmd *cli.Command, put *api.RecipePut) {
	if cmd.IsSet("at") {
		if put.Restore.At = cmd.String("at"); !ago.MatchString(put.Restore.At) { // how long ago is counted at each run
			put.Restore.At = instant(put.Restore.At)
		}
	}
	if cmd.IsSet("to") {
		put.Restore.To, put.Restore.InPlace, put.Restore.Into = cmd.String("to"), false, ""
	}
	if cmd.IsSet("into") {
		put.Restore.Into, put.Restore.InPlace, put.Restore.To = cmd.String("into"), false, ""
	}
	if cmd.IsSet("disconnect") {
		put.Restore.Disconnect = cmd.Bool("disconnect")
	}
	if cmd.IsSet("in-place") {
		if put.Restore.InPlace = cmd.Bool("in-place"); put.Restore.InPlace {
			put.Restore.To, put.Restore.Into = "", ""
		}
	}
	for flag, into := range map[string]*string{"on-conflict": &put.Restore.OnConflict, "from-site": &put.Restore.From,
		"zone": &put.Zone, "when": &put.When, "check": &put.Check} {
		if cmd.IsSet(flag) {
			*into = cmd.String(flag)
		}
	}
	if put.Zone == "" { // a moment is then of the zone of whoever writes it, as at every other WHEN
		put.When = instant(put.When)
	}
	if put.When == "never" {
		put.When = ""
	}
	if put.Check == "none" {
		put.Check = ""
	}
	if cmd.IsSet("exact") {
		put.Exact = cmd.Bool("exact")
	}
}

func trialCommand() *cli.Command {
	return &cli.Command{Name: "trial", Usage: "restores that are tried: random files of a random moment, brought back " +
		"to scratch space and compared", Commands: []*cli.Command{
		{Name: "set", Usage: "when restores are tried by themselves, or off", ArgsUsage: "CADENCE",
			Description: "Example: candid trial set \"daily at 04:10\" --files 200",
			Flags: []cli.Flag{&cli.StringFlag{Name: "zone", Usage: "time zone; UTC when not given"}, &cli.IntFlag{Name: "files",
				Usage: "how many files of a volume, or parts of 1 MiB of a disk, at most; 100 when not given"}},
			Action: with("CADENCE", func(ctx context.Context, f *session, cmd *cli.Command) error {
				put := api.TrialsPut{When: cmd.Args().First(), Zone: cmd.String("zone"), Files: cmd.Int("files")}
				if put.When == "off" {
					put.When = ""
				}
				var t api.Trials
				if err := f.Put(ctx, "/trials", put, &t); err != nil {
					return err
				}
				return f.show(t, func() {
					if t.NextDue == nil {
						f.say("Restores are tried only when asked for: candid trial run")
						return
					}
					f.say("Restores are tried %s, of each volume up to %s of a random moment. Next: %s.", t.When,
						plural(t.Files, "file", "files"), when(*t.NextDue))
				})
			})},
		{Name: "list", Usage: "the last trial of each volume, here and at sites that tell",
			Description: "Example: candid trial list", Action: with("", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				var t api.Trials
				if err := f.Get(ctx, "/trials", nil, &t); err != nil {
					return err
				}
				return f.show(t, func() {
					var rows [][]string
					for _, x := range t.Last {
						good := "good"
						if !x.Good {
							good = "NOT WHOLE"
						}
						goal := "-"
						if x.ObjectiveSecs > 0 {
							goal = age(x.ObjectiveSecs)
						}
						files := strconv.FormatInt(x.Files, 10)
						if x.Files == 0 { // a disk
							files = "-"
						}
						rows = append(rows, []string{x.Volume, x.Site, when(x.At), good, files, size(x.Bytes),
							age(x.WholeSeconds), goal, when(x.Taken)})
					}
					f.list([]string{"VOLUME", "SITE", "TRIED", "RESULT", "FILES", "BYTES", "ALL OF IT IN", "OBJECTIVE", "MOMENT"},
						rows,
						"Nothing was tried yet: candid trial run, or candid trial set \"daily at 04:10\"")
					if t.NextDue != nil {
						f.say("Tried %s; next %s.", t.When, when(*t.NextDue))
					} else {
						f.say("Nothing is tried by itself: candid trial set \"daily at 04:10\"")
					}
				})
			})},
		{Name: "run", Usage: "try a restore of a volume now, or of all", ArgsUsage: "[VOLUME]", Flags: runFlags(),
			Description: "Example: candid trial run field-notebooks",
			Action: with("[VOLUME]", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				var runs []api.Run
				if err := f.Post(ctx, "/trials", api.TrialAsk{Volume: cmd.Args().First()}, &runs); err != nil {
					return err
				}
				if len(runs) == 0 {
					f.say("No volume has a snapshot here yet: there is nothing to try.")
				}
				for i := range runs {
					if err := f.follow(ctx, cmd, &runs[i]); err != nil {
						return err
					}
				}
				return nil
			})},
	}}
}
