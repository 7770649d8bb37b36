package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func siteCommand() *cli.Command {
	return &cli.Command{Name: "site", Usage: "other sites", Commands: []*cli.Command{
		{Name: "invite", Usage: "make an invitation that another site can use once, within an hour", Description: "Example: candid site invite",
			Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
				var i api.Invitation
				if err := f.Post(ctx, "/sites/invitations", nil, &i); err != nil {
					return err
				}
				return f.show(i, func() {
					f.say("%s", i.Text)
					fmt.Fprintf(f.err, "Use it once at the other site, before %s: candid site pair INVITATION\n", when(i.Ends))
				})
			})},
		{Name: "pair", Usage: "pair with the site that made the invitation", ArgsUsage: "INVITATION", Description: "Example: candid site pair harbor-invitation:…",
			Action: with("INVITATION", func(ctx context.Context, f *face, cmd *cli.Command) error {
				var p api.Peer
				if err := f.Post(ctx, "/sites", api.PairAsk{Invitation: cmd.Args().First()}, &p); err != nil {
					return err
				}
				return f.show(p, func() {
					f.say("Paired with %s at %s.", p.Name, strings.Join(p.Addresses, ", "))
					f.say("Carry snapshots there: candid route add NAME --to %s --volumes key=value", p.Name)
				})
			})},
		{Name: "list", Usage: "this site and those it is paired with", Description: "Example: candid site list", Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var self api.Site
			var ps []api.Peer
			if err := errors.Join(f.Get(ctx, "/site", nil, &self), f.Get(ctx, "/sites", nil, &ps)); err != nil {
				return err
			}
			return f.show(map[string]any{"site": self, "paired": ps}, func() {
				rows := [][]string{{self.Name, "this site", short(self.Key), self.Peers, "-"}}
				for _, p := range ps {
					rows = append(rows, []string{p.Name, "paired", short(p.Key), strings.Join(p.Addresses, ", "), whenPtr(p.Seen)})
				}
				f.list([]string{"SITE", "", "KEY", "ADDRESSES", "LAST SEEN"}, rows, "")
			})
		})},
		{Name: "check", Usage: "test whether a paired site answers and is the one it was", ArgsUsage: "NAME", Description: "Example: candid site check stonewick",
			Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
				var c api.PeerCheck
				if err := f.Post(ctx, "/sites/"+url.PathEscape(cmd.Args().First())+"/check", nil, &c); err != nil {
					return err
				}
				return f.show(c, func() { f.say("%s", c.Sentence) })
			})},
	}}
}

func routeCommand() *cli.Command {
	return &cli.Command{Name: "route", Usage: "what is carried to other sites", Commands: []*cli.Command{
		{Name: "add", Usage: "carry each new snapshot of chosen volumes to a paired site", ArgsUsage: "NAME", Description: "Example: candid route add to-stonewick --to stonewick --volumes collection=herbarium",
			Flags: []cli.Flag{&cli.StringFlag{Name: "to", Usage: "the paired site", Required: true},
				&cli.StringSliceFlag{Name: "volumes", Usage: "key=value of labels (all must match), or name=VOLUME", Required: true}},
			Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
				ask := api.RouteAdd{Name: cmd.Args().First(), To: cmd.String("to")}
				var pairs []string
				for _, p := range cmd.StringSlice("volumes") {
					if n, ok := strings.CutPrefix(p, "name="); ok {
						ask.Names = append(ask.Names, n)
					} else {
						pairs = append(pairs, p)
					}
				}
				var err error
				if ask.Labels, err = labels(pairs); err != nil {
					return err
				}
				var r api.Route
				if err := f.Post(ctx, "/routes", ask, &r); err != nil {
					return err
				}
				return f.show(r, func() { f.say("Route %s to %s is open, for %s. %s", r.Name, r.To, routeVolumes(&r), r.Sentence) })
			})},
		{Name: "list", Usage: "all routes", Description: "Example: candid route list", Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var rs []api.Route
			if err := f.Get(ctx, "/routes", nil, &rs); err != nil {
				return err
			}
			return f.show(rs, func() {
				var rows [][]string
				for _, r := range rs {
					rows = append(rows, []string{r.Name, r.To, r.State, size(r.SentBytes), size(r.SavedBytes), r.Sentence})
				}
				f.list([]string{"ROUTE", "TO", "STATE", "SENT", "SAVED", ""}, rows, "No routes yet. Open one: candid route add NAME --to SITE --volumes key=value")
			})
		})},
		{Name: "show", Usage: "one route, by volume", ArgsUsage: "NAME", Description: "Example: candid route show to-stonewick", Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var r api.Route
			if err := f.Get(ctx, "/routes/"+url.PathEscape(cmd.Args().First()), nil, &r); err != nil {
				return err
			}
			return f.show(r, func() {
				f.say("%s is %s. %s", r.Name, r.State, r.Sentence)
				f.say("Sent %s in all; %s did not have to be sent.", size(r.SentBytes), size(r.SavedBytes))
				var rows [][]string
				for _, v := range r.Volumes {
					lag := "-"
					if v.Newest != nil {
						lag = age(v.LagSeconds)
					}
					rows = append(rows, []string{v.Volume, whenPtr(v.Newest), lag, strconv.Itoa(v.Backlog), strconv.Itoa(v.Carried)})
				}
				f.list([]string{"VOLUME", "NEWEST THERE", "LAG", "BACKLOG", "CARRIED"}, rows, "It chooses no volume at present.")
			})
		})},
		{Name: "run", Usage: "carry now", ArgsUsage: "NAME", Description: "Example: candid route run to-stonewick", Flags: runFlags(), Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var r api.Run
			if err := f.Post(ctx, "/routes/"+url.PathEscape(cmd.Args().First())+"/runs", nil, &r); err != nil {
				return err
			}
			return f.follow(ctx, cmd, &r)
		})},
		{Name: "remove", Usage: "close a route; what it carried stays", ArgsUsage: "NAME", Description: "Example: candid route remove trial", Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
			return f.sentence(func(out any) error { return f.Delete(ctx, "/routes/"+url.PathEscape(cmd.Args().First()), out) })
		})},
	}}
}

func routeVolumes(r *api.Route) string {
	var names []string
	for _, v := range r.Volumes {
		names = append(names, v.Volume)
	}
	if len(names) == 0 {
		return "no volume yet"
	}
	return strings.Join(names, ", ")
}
