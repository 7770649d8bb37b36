package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func addressesCommand() *cli.Command {
	return &cli.Command{Name: "addresses", ArgsUsage: "NAME",
		Usage: "by which ways a paired site is reached: each tried, one added, one taken away",
		Description: "Examples:\n   candid site addresses stonewick\n   candid site addresses stonewick " +
			"--add 10.2.0.2:7311\n   candid site addresses stonewick --remove 10.2.0.2:7311",
		Flags: []cli.Flag{&cli.StringSliceFlag{Name: "add", Usage: "host:port, tried before those that the site says itself"},
			&cli.StringSliceFlag{Name: "remove", Usage: "one that was added"}},
		Action: with("NAME", siteAddresses)}
}

func siteAddresses(ctx context.Context, f *session, cmd *cli.Command) error {
	name := cmd.Args().First()
	path := "/sites/" + url.PathEscape(name) + "/addresses"
	add, remove := cmd.StringSlice("add"), cmd.StringSlice("remove")
	if len(add)+len(remove) > 0 {
		var ps []api.Peer
		if err := f.Get(ctx, "/sites", nil, &ps); err != nil {
			return err
		}
		i := slices.IndexFunc(ps, func(p api.Peer) bool { return p.Name == name })
		if i < 0 {
			return misuse("site %s is not paired: candid site list names those that are", name)
		}
		own := ps[i].OwnAddresses
		for _, a := range remove {
			at := slices.Index(own, a)
			if at < 0 {
				return misuse("%s was not added here: candid site addresses %s shows those that were", a, name)
			}
			own = slices.Delete(own, at, at+1)
		}
		set := api.SiteAddressesSet{Addresses: append(append([]string{}, own...), add...)}
		return f.sentence(func(out any) error { return f.Put(ctx, path, set, out) })
	}
	var all []api.SiteAddress
	if err := f.Post(ctx, path+"/check", nil, &all); err != nil {
		return err
	}
	return f.show(all, func() {
		var rows [][]string
		for _, a := range all {
			from, how := "said by "+name, fmt.Sprintf("answers in %s", time.Duration(a.Seconds*1e9).Round(100*time.Microsecond))
			if a.Own {
				from = "added here"
			}
			if a.Trouble != "" {
				how = "does not answer: " + a.Trouble
			}
			use := strings.Join(a.Routes, ", ")
			if a.InUse {
				use = strings.TrimSuffix("the line, "+use, ", ")
			}
			rows = append(rows, []string{a.Address, from, use, how})
		}
		f.list([]string{"ADDRESS", "FROM", "USED BY", ""}, rows, "No address of it is known: it calls here.")
	})
}
