package cli

import (
	"context"
	"net/url"
	"strconv"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func placeCommand() *cli.Command {
	return &cli.Command{Name: "place", Usage: "further places of this site, such as disks that come and go",
		Commands: []*cli.Command{
			{Name: "attach", Usage: "open a place in a directory of the host; an empty one becomes a new place",
				ArgsUsage: "NAME", Description: "Example: candid place attach shelf-disk --path /mnt/shelf-disk/harbor",
				Flags: []cli.Flag{&cli.StringFlag{Name: "path", Usage: "the directory", Required: true}},
				Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
					return f.sentence(func(out any) error {
						return f.Put(ctx, "/places/"+url.PathEscape(cmd.Args().First()), api.PlaceAttach{Path: cmd.String("path")}, out)
					})
				})},
			{Name: "detach", Usage: "close a place, so that its disk can be taken away", ArgsUsage: "NAME",
				Description: "Example: candid place detach shelf-disk", Action: with("NAME", func(ctx context.Context, f *session,
					cmd *cli.Command) error {
					return f.sentence(func(out any) error {
						return f.Post(ctx, "/places/"+url.PathEscape(cmd.Args().First())+"/detach", nil, out)
					})
				})},
			{Name: "list", Usage: "all further places", Description: "Example: candid place list",
				Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var ps []api.Place
					if err := f.Get(ctx, "/places", nil, &ps); err != nil {
						return err
					}
					return f.show(ps, func() {
						var rows [][]string
						for _, p := range ps {
							row := []string{p.Name, "detached", "-", "-", "-", p.Path}
							if p.Attached {
								row = []string{p.Name, "attached", strconv.Itoa(p.Snapshots), size(p.StoredBytes), size(p.FreeBytes), p.Path}
							}
							rows = append(rows, row)
						}
						f.list([]string{"PLACE", "", "SNAPSHOTS", "STORED", "FREE", "PATH"}, rows,
							"This site has one place, its own. Attach a disk: candid place attach NAME --path DIR")
					})
				})},
		}}
}
