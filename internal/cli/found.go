package cli

import (
	"context"
	"net/url"

	"candidharbor/api"
	"candidharbor/internal/visible"

	"github.com/urfave/cli/v3"
)

func foundCommand() *cli.Command {
	path := func(volume string) string { return "/volumes/" + url.PathEscape(volume) + "/found" }
	tell := func(f *session, l *api.FoundList) error {
		return f.show(l, func() {
			rows := make([][]string, len(l.Items))
			can := 0
			for i, m := range l.Items {
				state := "found"
				switch {
				case m.Snapshot != "":
					state = "taken over as " + short(m.Snapshot)
				case m.CanTake:
					state, can = "found, can be taken over", can+1
				}
				rows[i] = []string{m.Name, when(m.Taken), state}
			}
			empty := "Nothing like " + l.Pattern + " is there."
			if l.Pattern == "" {
				empty = "Nobody leaves point-in-time directories of " + l.Volume + " that the site knows of. If someone does: " +
					"candid found set " + l.Volume + " PATTERN"
			}
			f.list([]string{"NAME", "TAKEN", "STATE"}, rows, empty)
			if can > 0 {
				f.say("%s can be taken into the history: candid found take %s", plural(can, "moment", "moments"), l.Volume)
			}
		})
	}
	return &cli.Command{Name: "found", Usage: "point-in-time directories that the filesystem or another tool left " +
		"of a volume", Commands: []*cli.Command{
		{Name: "set", Usage: "say where they lie, by a path with a time in it; none: nowhere", ArgsUsage: "VOLUME PATTERN",
			Description: "Example: candid found set field-notebooks \"/srv/shares/.moments/daily-%Y-%m-%d\" --zone " +
				"Europe/Lisbon",
			Flags: []cli.Flag{&cli.StringFlag{Name: "zone", Usage: "time zone of these times; UTC when not given"}},
			Action: with("VOLUME PATTERN", func(ctx context.Context, f *session, cmd *cli.Command) error {
				put := api.FoundPut{Pattern: cmd.Args().Get(1), Zone: cmd.String("zone")}
				if put.Pattern == "none" {
					put.Pattern = ""
				}
				var l api.FoundList
				if err := f.Put(ctx, path(cmd.Args().First()), put, &l); err != nil {
					return err
				}
				return tell(f, &l)
			})},
		{Name: "list", Usage: "what there is, newest first", ArgsUsage: "VOLUME",
			Description: "Example: candid found list field-notebooks",
			Action: with("VOLUME", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				var l api.FoundList
				if err := f.Get(ctx, path(cmd.Args().First()), nil, &l); err != nil {
					return err
				}
				return tell(f, &l)
			})},
		{Name: "browse", Usage: "a directory of one of them", ArgsUsage: "VOLUME NAME [PATH]",
			Description: "Example: candid found browse field-notebooks daily-2026-03-04 2026", Action: with("VOLUME NAME [PATH]",
				func(ctx context.Context, f *session, cmd *cli.Command) error {
					a := cmd.Args()
					var b api.FoundBrowse
					if err := f.Get(ctx, path(a.First())+"/browse", url.Values{"found": {a.Get(1)}, "path": {a.Get(2)}},
						&b); err != nil {
						return err
					}
					return f.show(b, func() {
						rows := make([][]string, len(b.Entries))
						for i, e := range b.Entries {
							amount := e.Kind
							if e.Kind == "file" {
								amount = size(e.Size)
							}
							rows[i] = []string{e.Mode, amount, when(e.Modified), e.Name}
						}
						f.list([]string{"MODE", "SIZE", "MODIFIED", "NAME"}, rows, "It is empty.")
						if b.More {
							f.say("These are the first thousand names.")
						}
						f.say("To bring something back: candid restore %s PATH --found %s --in-place", a.First(), visible.Word(b.Name))
					})
				})},
		{Name: "take", Usage: "take them into the volume's history with their own times: those named, or all older than " +
			"its first snapshot", ArgsUsage: "VOLUME [NAME...]", Flags: runFlags(),
			Description: "Example: candid found take field-notebooks", Action: with("VOLUME [NAME...]", func(ctx context.Context,
				f *session, cmd *cli.Command) error {
				var r api.Run
				if err := f.Post(ctx, path(cmd.Args().First())+"/take", api.FoundTake{Names: cmd.Args().Tail()}, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			})},
	}}
}
