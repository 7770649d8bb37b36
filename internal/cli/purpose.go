package cli

import (
	"context"
	"net/url"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func purposeCommand() *cli.Command {
	return &cli.Command{Name: "purpose", Usage: "say what a policy, a route, a group or a site is for; without a text: " +
		"take that away", ArgsUsage: "policy|route|group|site NAME [TEXT]",
		Description: `Example: candid purpose route to-stonewick "nightly, over the leased line"`,
		Action: with("KIND NAME [TEXT...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			kind, name := cmd.Args().First(), cmd.Args().Get(1)
			var d api.Description
			ask := api.Description{Text: strings.Join(cmd.Args().Slice()[2:], " ")}
			if err := f.Put(ctx, "/descriptions/"+url.PathEscape(kind)+"/"+url.PathEscape(name), ask, &d); err != nil {
				return err
			}
			return f.show(d, func() {
				if d.Text == "" {
					f.say("The %s %s has no description any more.", kind, name)
				} else {
					f.say("%s %s: %s", kind, name, d.Text)
				}
			})
		})}
}
