package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func siteCommand() *cli.Command {
	grants := &cli.StringSliceFlag{Name: "grant", Usage: "what the other site may do here: offer, read, see, " +
		"configure, or nothing; offer and see when not given"}
	return &cli.Command{Name: "site", Usage: "other sites", Commands: []*cli.Command{
		{Name: "invite", Usage: "make an invitation that another site can use once, within an hour",
			Description: "Example: candid site invite --grant read --grant see", Flags: []cli.Flag{grants},
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var i api.Invitation
				if err := f.Post(ctx, "/sites/invitations", api.InviteAsk{Grants: cmd.StringSlice("grant")}, &i); err != nil {
					return err
				}
				return f.show(i, func() {
					f.say("%s", i.Text)
					fmt.Fprintf(f.err, "Use it once at the other site, before %s: candid site pair INVITATION\n", when(i.Ends))
				})
			})},
		{Name: "order", Usage: "in which order other sites are asked for what is not here; with names: set it",
			ArgsUsage: "[SITE...]", Description: "Example: candid site order stonewick mereside",
			Action: with("[SITE...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var order api.RecoveryOrder
				err := f.Get(ctx, "/recovery/order", nil, &order)
				if cmd.Args().Len() > 0 {
					err = f.Put(ctx, "/recovery/order", api.RecoveryOrder{Sites: cmd.Args().Slice()}, &order)
				}
				if err != nil {
					return err
				}
				return f.show(order, func() {
					if len(order.Sites) == 0 {
						f.say("No site is paired: what is not here is nowhere.")
						return
					}
					f.say("What is not here is looked for at %s, in this order.", strings.Join(order.Sites, ", then "))
				})
			})},
		{Name: "pair", Usage: "pair with the site that made the invitation", ArgsUsage: "INVITATION",
			Description: "Example: candid site pair harbor-invitation:… --grant nothing", Flags: []cli.Flag{grants},
			Action: with("INVITATION", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var p api.Peer
				if err := f.Post(ctx, "/sites", api.PairAsk{Invitation: cmd.Args().First(), Grants: cmd.StringSlice("grant")},
					&p); err != nil {
					return err
				}
				return f.show(p, func() {
					f.say("Paired with %s at %s.", p.Name, strings.Join(p.Addresses, ", "))
					grantsTell(f, &p)
					if p.Granted.Offer {
						f.say("Carry snapshots there: candid route add NAME --to %s --volumes key=value", p.Name)
					}
					if p.Granted.Read {
						f.say("Take snapshots from there: candid route add NAME --from %s --volumes key=value", p.Name)
					}
				})
			})},
		{Name: "setup", Usage: "pair with several sites and open a route to each, in one go", ArgsUsage: "INVITATION...",
			Description: "Example: candid site setup harbor-invitation:… harbor-invitation:… --volumes " +
				"collection=herbarium --dry-run",
			Flags: append([]cli.Flag{grants, &cli.StringSliceFlag{Name: "volumes",
				Usage: "what to carry: key=value of labels (all must match), or name=VOLUME", Required: true},
				&cli.BoolFlag{Name: "dry-run", Usage: "only tell what it would do"}}, termFlags()...),
			Action: with("INVITATION...", func(ctx context.Context, f *session, cmd *cli.Command) error {
				ask := api.SetUp{Invitations: cmd.Args().Slice(), Grants: cmd.StringSlice("grant"),
					Terms: terms(cmd, api.RouteTerms{}), DryRun: cmd.Bool("dry-run")}
				var err error
				if ask.Labels, ask.Names, err = choice(cmd.StringSlice("volumes")); err != nil {
					return err
				}
				var r api.SetUpResult
				if err := f.Post(ctx, "/sites/setup", ask, &r); err != nil {
					return err
				}
				if err := f.show(r, func() {
					for _, s := range r.Steps {
						f.say("%s", s.Text)
					}
					f.say("%s", r.Sentence)
				}); err != nil || r.Failed == 0 {
					return err
				}
				return &exitError{code: exitFailed}
			})},
		{Name: "list", Usage: "this site and those it is paired with", Description: "Example: candid site list",
			Action: with("", siteList)},
		addressesCommand(),
		{Name: "confirm", Usage: "say that of two sites with one key only one is left", ArgsUsage: "NAME",
			Description: "Example: candid site confirm stonewick",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error {
					return f.Post(ctx, "/sites/"+url.PathEscape(cmd.Args().First())+"/confirm", nil, out)
				})
			})},
		{Name: "check", Usage: "test whether a paired site answers and is the one it was", ArgsUsage: "NAME",
			Description: "Example: candid site check stonewick",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var c api.PeerCheck
				if err := f.Post(ctx, "/sites/"+url.PathEscape(cmd.Args().First())+"/check", nil, &c); err != nil {
					return err
				}
				return f.show(c, func() { f.say("%s", c.Sentence) })
			})},
		{Name: "grant", Usage: "let a paired site do more here: offer, read, see, configure", ArgsUsage: "NAME GRANT...",
			Description: "Example: candid site grant mereside read --volumes collection=herbarium",
			Flags: []cli.Flag{&cli.StringSliceFlag{Name: "volumes", Usage: "what may be read: key=value of labels (all must " +
				"match), or name=VOLUME; all volumes when not given"},
				&cli.StringFlag{Name: "quota", Usage: "upper bound for what its snapshots need here, such as \"2 TiB\""}},
			Action: with("NAME GRANT...", func(ctx context.Context, f *session, cmd *cli.Command) error {
				ask := api.GrantAsk{Grants: cmd.Args().Tail()}
				var err error
				if ask.Labels, ask.Names, err = choice(cmd.StringSlice("volumes")); err != nil {
					return err
				}
				if q := cmd.String("quota"); q != "" {
					if ask.QuotaBytes, err = parseSize(q); err != nil {
						return err
					}
				}
				var p api.Peer
				if err := f.Post(ctx, "/sites/"+url.PathEscape(cmd.Args().First())+"/grants", ask, &p); err != nil {
					return err
				}
				return f.show(p, func() { grantsTell(f, &p) })
			})},
		{Name: "revoke", Usage: "take grants back, or end the pairing when none is named", ArgsUsage: "NAME [GRANT...]",
			Description: "Example: candid site revoke mereside read",
			Action: with("NAME [GRANT...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error {
					return f.Post(ctx, "/sites/"+url.PathEscape(cmd.Args().First())+"/revoke",
						api.RevokeAsk{Grants: cmd.Args().Tail()}, out)
				})
			})},
		{Name: "rotate", Usage: "give this site a new key, which paired sites learn first",
			Description: "Example: candid site rotate",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "force", Usage: "also when a paired site cannot be told; it must be " +
				"paired anew"}},
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				path := "/site/rotate"
				if cmd.Bool("force") {
					path += "?force=true"
				}
				return f.sentence(func(out any) error { return f.Post(ctx, path, nil, out) })
			})},
	}}
}

func grantsTell(f *session, p *api.Peer) {
	f.say("Here %s may: %s. There this site may: %s.", p.Name, p.Grants.Words, p.Granted.Words)
}

// choice reads volumes given as labels, or by name.
func choice(words []string) (byLabel map[string]string, names []string, err error) {
	var pairs []string
	for _, w := range words {
		if n, ok := strings.CutPrefix(w, "name="); ok {
			names = append(names, n)
		} else {
			pairs = append(pairs, w)
		}
	}
	byLabel, err = labels(pairs)
	return byLabel, names, err
}

func paceCommand() *cli.Command {
	return &cli.Command{Name: "pace", Usage: "how fast is sent to another site, by time of week", Commands: []*cli.Command{
		{Name: "set", Usage: "set the calendar: of its lines the first whose time it is holds; no line: no limit",
			ArgsUsage: "SITE [LINE...]",
			Description: "Example: candid pace set stonewick \"20 Mbit/s between 07:00 and 19:00 on mon-fri\" \"200 Mbit/s\" " +
				"--zone Europe/Lisbon",
			Flags: []cli.Flag{&cli.StringFlag{Name: "zone", Usage: "time zone of the lines; UTC when not given"}},
			Action: with("SITE [LINE...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var p api.Peer
				ask := api.PaceSet{Lines: cmd.Args().Tail(), Zone: cmd.String("zone")}
				if ask.Lines == nil {
					ask.Lines = []string{}
				}
				if err := f.Put(ctx, "/sites/"+url.PathEscape(cmd.Args().First())+"/pace", ask, &p); err != nil {
					return err
				}
				return f.show(p.Pace, func() { paceTell(f, &p) })
			})},
		{Name: "show", Usage: "the calendar, and what holds now", ArgsUsage: "SITE",
			Description: "Example: candid pace show stonewick",
			Action: with("SITE", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var ps []api.Peer
				if err := f.Get(ctx, "/sites", nil, &ps); err != nil {
					return err
				}
				for i := range ps {
					if ps[i].Name == cmd.Args().First() {
						return f.show(ps[i].Pace, func() { paceTell(f, &ps[i]) })
					}
				}
				return &exitError{exitFailed, fmt.Errorf("site %q is not paired; candid site list shows those that are",
					cmd.Args().First())}
			})},
	}}
}

func paceTell(f *session, p *api.Peer) {
	now := fmt.Sprintf("Towards %s at present: %s", p.Name, p.Pace.Now)
	if p.Pace.NowBytes < 0 {
		now = fmt.Sprintf("Nothing limits what is sent to %s at present", p.Name)
	}
	if p.Pace.Next != nil {
		now += ", until " + when(*p.Pace.Next)
	}
	f.say("%s. %s sent since the service started.", now, size(p.Pace.SentBytes))
	zone := p.Pace.Zone
	if zone == "" {
		zone = "UTC"
	}
	for _, l := range p.Pace.Lines {
		f.say("  %s (%s)", l, zone)
	}
}

func siteList(ctx context.Context, f *session, _ *cli.Command) error {
	var self api.Site
	var ps []api.Peer
	if err := errors.Join(f.Get(ctx, "/site", nil, &self), f.Get(ctx, "/sites", nil, &ps)); err != nil {
		return err
	}
	return f.show(map[string]any{"site": self, "paired": ps}, func() {
		rows := [][]string{{self.Name, "this site", short(self.Key), self.Peers, "-", self.Release, "-", "", ""}}
		for _, p := range ps {
			line := "no line"
			if p.Up {
				line = "line up"
			}
			if len(p.Addresses)+len(p.OwnAddresses) > 1 && p.Line != nil {
				line = "line by " + p.Line.Address
				if !p.Line.Dialled {
					line = "line from " + p.Line.Address
				}
			}
			room := "-"
			if p.FreeBytes > 0 {
				room = size(p.FreeBytes)
			}
			at := strings.Join(slices.Concat(p.OwnAddresses, p.Addresses), ", ")
			rows = append(rows, []string{p.Name, line, short(p.Key), at,
				whenPtr(p.Seen), cmp.Or(p.Release, "-"), room, p.Grants.Words, p.Granted.Words})
		}
		f.list([]string{"SITE", "", "KEY", "ADDRESSES", "LAST SEEN", "RELEASE", "ROOM", "IT MAY HERE", "THIS SITE MAY THERE"},
			rows, "")
	})
}
