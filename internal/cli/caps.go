package cli

import (
	"context"
	"net/url"
	"strconv"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func capCommand() *cli.Command {
	return &cli.Command{Name: "cap", Usage: "upper bounds on what snapshots may be and take", Commands: []*cli.Command{
		{Name: "put", Usage: "set an upper bound for a volume, for a peer's volumes, or for the place",
			ArgsUsage: "volume|peer|place NAME", Description: "Example: candid cap put volume greenhouse-telemetry " +
				"--snapshots 200 --bytes \"10 GiB\" --reached \"oldest goes\"",
			Flags: []cli.Flag{
				&cli.IntFlag{Name: "snapshots", Usage: "at most so many, those in grace aside"},
				&cli.StringFlag{Name: "bytes", Usage: "at most so much that only they need, such as 10 GiB"},
				&cli.StringFlag{Name: "reached", Usage: "oldest goes, or stop taking, which is the default"},
			},
			Action: with("KIND NAME", capPut)},
		{Name: "list", Usage: "all upper bounds, with what there is", Description: "Example: candid cap list",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var cs []api.Cap
				if err := f.Get(ctx, "/caps", nil, &cs); err != nil {
					return err
				}
				return f.show(cs, func() {
					var rows [][]string
					for _, c := range cs {
						rows = append(rows, []string{c.Scope, c.Name, ofBound(c.HasSnapshots, c.Snapshots, strconv.Itoa),
							ofBound(c.HasBytes, c.Bytes, size), c.Reached})
					}
					f.list([]string{"CAP OF", "NAME", "SNAPSHOTS", "THEIR OWN BYTES", "WHEN REACHED"}, rows,
						"No caps. To bound what a volume may take: candid cap put volume NAME --bytes \"10 GiB\"")
				})
			})},
		{Name: "remove", Usage: "take an upper bound away", ArgsUsage: "volume|peer|place NAME",
			Description: "Example: candid cap remove volume greenhouse-telemetry", Action: with("KIND NAME",
				func(ctx context.Context, f *session, cmd *cli.Command) error {
					return f.sentence(func(out any) error {
						return f.Delete(ctx, "/caps/"+url.PathEscape(cmd.Args().Get(0))+"/"+url.PathEscape(cmd.Args().Get(1)), out)
					})
				})},
	}}
}

func ofBound[N int | int64](has, most N, words func(N) string) string {
	if most == 0 {
		return words(has)
	}
	return words(has) + " of " + words(most)
}

func capPut(ctx context.Context, f *session, cmd *cli.Command) error {
	ask := api.CapPut{Scope: cmd.Args().Get(0), Name: cmd.Args().Get(1), Snapshots: int(cmd.Int("snapshots")),
		Reached: cmd.String("reached")}
	if text := cmd.String("bytes"); text != "" {
		n, err := parseSize(text)
		if err != nil {
			return err
		}
		ask.Bytes = n
	}
	var c api.Cap
	if err := f.Put(ctx, "/caps", ask, &c); err != nil {
		return err
	}
	return f.show(c, func() { f.say("%s %s: %s", c.Scope, c.Name, c.Sentence) })
}

// parseSize reads bytes with a binary unit, such as 10 GiB or 256MiB.
func parseSize(text string) (int64, error) {
	text = strings.TrimSpace(text)
	number := strings.TrimRight(text, "BKMGTi ")
	unit := strings.TrimSpace(strings.TrimPrefix(text, number))
	v, err := strconv.ParseFloat(number, 64)
	scale, known := map[string]float64{"": 1, "B": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40}[unit]
	if err != nil || !known || v < 0 || v*scale > 1<<62 {
		return 0, misuse("size %q: write such as \"10 GiB\" or 256MiB", text)
	}
	return int64(v * scale), nil
}
