package cli

import (
	"context"
	"net/url"
	"path/filepath"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func mountCommand() *cli.Command {
	return &cli.Command{Name: "mount", Usage: "show all snapshots of a volume as a filesystem on the site's host",
		ArgsUsage: "[VOLUME DIR]",
		Description: "Every moment is a directory; nothing is copied and nothing can be changed. It comes back\nwhen the " +
			"service starts anew, until it is ended.\n\nExamples:\n   candid mount field-notebooks /srv/shares/moments\n   " +
			"candid mount --list\n   candid mount --end /srv/shares/moments",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "list", Usage: "show what is mounted"}, &cli.StringFlag{Name: "end",
			Usage: "take the filesystem at this directory away"},
			&cli.BoolFlag{Name: "anyway", Usage: "with --end: although someone is in it"}},
		Action: with("[VOLUME] [DIR]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			if dir := cmd.String("end"); dir != "" {
				q := url.Values{"dir": {filepath.Clean(dir)}}
				if cmd.Bool("anyway") {
					q.Set("anyway", "true")
				}
				return f.sentence(func(out any) error { return f.Delete(ctx, "/mounts?"+q.Encode(), out) })
			}
			if cmd.Bool("list") || cmd.Args().Len() == 0 {
				var all []api.Mount
				if err := f.Get(ctx, "/mounts", nil, &all); err != nil {
					return err
				}
				return f.show(all, func() {
					rows := make([][]string, len(all))
					for i, m := range all {
						rows[i] = []string{m.Dir, m.Volume, when(m.Since), m.By}
					}
					f.list([]string{"DIRECTORY", "VOLUME", "SINCE", "ASKED BY"}, rows,
						"Nothing is mounted. candid mount VOLUME DIR shows a volume's snapshots at a directory.")
				})
			}
			if cmd.Args().Len() != 2 {
				return misuse("give the volume and the empty directory to show it at: candid mount VOLUME DIR")
			}
			var m api.Mount
			if err := f.Post(ctx, "/mounts", api.MountAsk{Volume: cmd.Args().First(), Dir: cmd.Args().Get(1)}, &m); err != nil {
				return err
			}
			return f.show(m, func() {
				f.say("The snapshots of %s are at %s: a directory for each moment, latest leads to the newest, "+
					"previous-versions has them as Samba wants them.", m.Volume, m.Dir)
			})
		})}
}
