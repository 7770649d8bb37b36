package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/url"

	"github.com/urfave/cli/v3"

	"candidharbor/api"
)

func tokenCommand() *cli.Command {
	add := &cli.Command{
		Name: "add", Usage: "make a token; it is shown this once", ArgsUsage: "NAME",
		Description: "Example: candid token add night-desk --person ines --until +90d",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "person", Usage: "whose it is: it may do what that person may; when not given, what " +
				"administrators may"},
			&cli.StringFlag{Name: "until", Usage: "WHEN it ends by itself: a date, or +90d; when it is removed if not given"},
		},
		Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
			end, err := future(cmd.String("until"))
			if err != nil {
				return err
			}
			var t api.Token
			ask := api.TokenAdd{Name: cmd.Args().First(), Person: cmd.String("person"), Until: end}
			if err := f.Post(ctx, "/tokens", ask, &t); err != nil {
				return err
			}
			return f.show(t, func() { f.say("%s", t.Text) })
		}),
	}
	link := &cli.Command{
		Name: "link", Usage: "print an address of the console that signs in once, as administrator, within 10 minutes",
		Description: "Example: candid token link",
		Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
			var l api.SignInLink
			if err := f.Post(ctx, "/tokens/link", nil, &l); err != nil {
				return err
			}
			return f.show(l, func() {
				f.say("%s", l.Address)
				fmt.Fprintf(f.err, "Open it once, before %s; it lets in until %s.\n", when(l.Until), when(l.Ends))
			})
		}),
	}
	list := &cli.Command{
		Name: "list", Usage: "all tokens, without their texts", Description: "Example: candid token list",
		Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
			var ts []api.Token
			if err := f.Get(ctx, "/tokens", nil, &ts); err != nil {
				return err
			}
			return f.show(ts, func() {
				var rows [][]string
				for _, t := range ts {
					ends := "when removed"
					switch {
					case t.Ended:
						ends = "ended " + when(*t.Until)
					case t.Until != nil:
						ends = when(*t.Until)
					}
					rows = append(rows, []string{t.Name, cmp.Or(t.Person, "-"), when(t.Made), ends})
				}
				f.list([]string{"TOKEN", "PERSON", "MADE", "ENDS"}, rows, "No tokens yet. Make one: candid token add NAME")
			})
		}),
	}
	remove := &cli.Command{
		Name: "remove", Usage: "make a token useless", ArgsUsage: "NAME",
		Description: "Example: candid token remove night-desk",
		Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
			return f.sentence(func(out any) error { return f.Delete(ctx, "/tokens/"+url.PathEscape(cmd.Args().First()), out) })
		}),
	}
	return &cli.Command{Name: "token", Usage: "who may come by HTTP", Commands: []*cli.Command{add, link, list, remove}}
}
