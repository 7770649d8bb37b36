package cli

import (
	"context"
	"net/url"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func outletCommand() *cli.Command {
	path := func(cmd *cli.Command) string { return "/outlets/" + url.PathEscape(cmd.Args().First()) }
	act := func(name, usage string) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME", Description: "Example: candid outlet " + name +
			" nas", Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
			return f.sentence(func(out any) error { return f.Post(ctx, path(cmd)+"/"+name, nil, out) })
		})}
	}
	run := func(name, usage, query string) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME", Description: "Example: candid outlet " + name +
			" nas", Flags: runFlags(), Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
			var r api.Run
			if err := f.Post(ctx, path(cmd)+"/runs"+query, nil, &r); err != nil {
				return err
			}
			return f.follow(ctx, cmd, &r)
		})}
	}
	return &cli.Command{Name: "outlet", Usage: "newest states as plain files at machines that do not run this service",
		Commands: []*cli.Command{
			{Name: "key", Usage: "the line that lets this site in there, for authorized_keys",
				Description: "Example: candid outlet key", Action: with("", func(ctx context.Context, f *session,
					_ *cli.Command) error {
					var k api.OutletKey
					if err := f.Get(ctx, "/outlet-key", nil, &k); err != nil {
						return err
					}
					return f.show(k, func() { f.say("%s", k.Line) })
				})},
			{Name: "add", Usage: "lay the newest states of volumes out there, each in a directory of its name",
				ArgsUsage: "NAME SFTP-ADDRESS",
				Description: "The first call tells which key the machine shows: compare it there, and give it.\n\nExamples:\n   " +
					"candid outlet add nas sftp://copies@nas.example/srv/larkfield --volumes collection=herbarium\n   candid outlet " +
					"add nas sftp://copies@nas.example/srv/larkfield --volumes collection=herbarium --host-key SHA256:…",
				Flags: []cli.Flag{&cli.StringSliceFlag{Name: "volumes", Required: true,
					Usage: "key=value of labels (all must match), or name=VOLUME"},
					&cli.StringFlag{Name: "host-key", Usage: "fingerprint of the key that the machine must show"},
					&cli.StringFlag{Name: "cap", Usage: "the most that is sent, such as \"5 MiB/s\""}},
				Action: with("NAME SFTP-ADDRESS", outletAdd)},
			{Name: "list", Usage: "all outlets", Description: "Example: candid outlet list", Action: with("", outletList)},
			{Name: "show", Usage: "one outlet: what lies there of each volume", ArgsUsage: "NAME",
				Description: "Example: candid outlet show nas", Action: with("NAME", func(ctx context.Context, f *session,
					cmd *cli.Command) error {
					var o api.Outlet
					if err := f.Get(ctx, path(cmd), nil, &o); err != nil {
						return err
					}
					return f.show(o, func() { f.outlet(&o) })
				})},
			run("run", "bring it up to date now", ""),
			run("verify", "read back all that lies there, and put right what others changed", "?verify=true"),
			act("pause", "lay nothing out until it is resumed"),
			act("resume", "go on"),
			{Name: "remove", Usage: "lay nothing more out there; what lies there stays", ArgsUsage: "NAME",
				Description: "Example: candid outlet remove nas", Action: with("NAME", func(ctx context.Context, f *session,
					cmd *cli.Command) error {
					return f.sentence(func(out any) error { return f.Delete(ctx, path(cmd), out) })
				})},
		}}
}

func outletAdd(ctx context.Context, f *session, cmd *cli.Command) error {
	ask := api.OutletAdd{Name: cmd.Args().First(), To: cmd.Args().Get(1), HostKey: cmd.String("host-key"),
		Cap: cmd.String("cap")}
	var err error
	if ask.Labels, ask.Names, err = choice(cmd.StringSlice("volumes")); err != nil {
		return err
	}
	var o api.Outlet
	if err := f.Post(ctx, "/outlets", ask, &o); err != nil {
		return err
	}
	return f.show(o, func() {
		f.say("The outlet %s is open. %s", o.Name, o.Sentence)
		f.disks(&o)
	})
}

func outletList(ctx context.Context, f *session, _ *cli.Command) error {
	var all []api.Outlet
	if err := f.Get(ctx, "/outlets", nil, &all); err != nil {
		return err
	}
	return f.show(all, func() {
		var rows [][]string
		for _, o := range all {
			rows = append(rows, []string{o.Name, o.To, o.State, whenPtr(o.LastOK), o.Sentence})
		}
		f.list([]string{"OUTLET", "TO", "STATE", "LAST DONE", ""}, rows,
			"No outlets yet. candid outlet key shows what lets this site in at a machine; then candid outlet add NAME "+
				"sftp://USER@HOST/DIR --volumes key=value")
	})
}

func (f *session) outlet(o *api.Outlet) {
	f.say("%s is %s. %s", o.Name, o.State, o.Sentence)
	limit := ""
	if o.Cap != "" {
		limit = ", at most " + o.Cap
	}
	f.say("It lies at %s, whose key is %s%s.", o.To, o.HostKey, limit)
	f.disks(o)
	var rows [][]string
	for _, v := range o.Volumes {
		state := "newest"
		if v.Behind {
			state = "behind"
		}
		if v.Error != "" {
			state = v.Error
		} else if v.AsOf == nil && !v.Behind {
			state = "no snapshot yet"
		}
		rows = append(rows, []string{v.Volume, whenPtr(v.AsOf), whenPtr(v.Verified), state})
	}
	f.list([]string{"VOLUME", "AS OF", "READ BACK", ""}, rows, "It chooses no volume of files.")
}

func (f *session) disks(o *api.Outlet) {
	if len(o.Disks) > 0 {
		f.say("Disks are not laid out as files: %s.", strings.Join(o.Disks, ", "))
	}
}
