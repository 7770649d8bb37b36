package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"
)

func cloneCommand() *cli.Command {
	path := func(name string) string { return "/clones/" + url.PathEscape(name) }
	return &cli.Command{Name: "clone", Usage: "writable copies of snapshots that take room only for what is changed",
		Commands: []*cli.Command{
			{Name: "create", Usage: "make a writable copy of a volume as of a moment, at a new or empty directory of the " +
				"site's host; of a disk, an export of that name",
				ArgsUsage: "NAME VOLUME [DIR]",
				Description: "Examples:\n   candid clone create trial-run accession-register /srv/shares/trial --at -1d " +
					"--until +7d\n   candid clone create db-trial specimen-db --at -1d",
				Flags: []cli.Flag{&cli.StringFlag{Name: "at", Value: "latest",
					Usage: "WHEN: latest, a moment, or a snapshot's id"}, &cli.IntFlag{Name: "count", Value: 1,
					Usage: "as many, of one snapshot: NAME-1 at DIR-1, NAME-2 at DIR-2 …"}, &cli.StringFlag{Name: "until",
					Usage: "when it is discarded by itself: a moment to come, or +7d; by hand when not given"}},
				Action: with("NAME VOLUME [DIR]", func(ctx context.Context, f *session, cmd *cli.Command) error {
					a := cmd.Args().Slice()
					ask := api.CloneAsk{Name: a[0], Volume: a[1], At: instant(cmd.String("at"))}
					if len(a) > 2 {
						ask.Dir = filepath.Clean(a[2])
					}
					if text := cmd.String("until"); text != "" {
						t, err := future(text)
						if err != nil {
							return err
						}
						ask.Until = *t
					}
					if n := cmd.Int("count"); n != 1 {
						return f.makeClones(ctx, api.ClonesAsk{CloneAsk: ask, Count: n})
					}
					var c api.Clone
					if err := f.Post(ctx, "/clones", ask, &c); err != nil {
						return err
					}
					return f.show(c, func() {
						f.say("%s", c.Sentence)
						f.say("Its snapshot stays as long as it does. When you are done: candid clone discard %s", c.Name)
					})
				})},
			{Name: "list", Usage: "all clones, with age, use and end", Description: "Example: candid clone list",
				Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var all []api.Clone
					if err := f.Get(ctx, "/clones", nil, &all); err != nil {
						return err
					}
					return f.show(all, func() {
						var rows [][]string
						for _, c := range all {
							dir := cmp.Or(c.Dir, c.Address)
							if !c.There {
								dir += " (not mounted)"
							}
							end := whenPtr(c.Until)
							if c.Drill != "" {
								end = "with the drill " + c.Drill
							}
							rows = append(rows, []string{c.Name, c.Volume, when(c.Taken), dir, age(int64(time.Since(c.Made).Seconds())),
								strconv.FormatInt(c.Changed, 10), size(c.Bytes), end})
						}
						f.list([]string{"CLONE", "OF", "AS OF", "AT", "AGE", "CHANGED", "OWN BYTES", "DISCARDED"}, rows,
							"No clones. Make one: candid clone create NAME VOLUME DIR")
					})
				})},
			{Name: "show", Usage: "one clone", ArgsUsage: "NAME", Description: "Example: candid clone show trial-run",
				Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var c api.Clone
					if err := f.Get(ctx, path(cmd.Args().First()), nil, &c); err != nil {
						return err
					}
					return f.show(c, func() {
						f.say("%s", c.Sentence)
						changed := ""
						if !c.Used.IsZero() {
							changed = "; changed last " + when(c.Used)
						}
						f.say("Made %s by %s%s. It stands on snapshot %s.", when(c.Made), c.By, changed, short(c.Snapshot))
					})
				})},
			{Name: "snapshot", Usage: "take a snapshot of a clone, which becomes a volume of its name with the first",
				ArgsUsage: "NAME", Description: "Example: candid clone snapshot trial-run --note \"after the import\"",
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "note", Usage: "what it is for"}}, runFlags()...),
				Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var r api.Run
					if err := f.Post(ctx, path(cmd.Args().First())+"/snapshots", api.SnapshotTake{Note: cmd.String("note")},
						&r); err != nil {
						return err
					}
					return f.follow(ctx, cmd, &r)
				})},
			{Name: "make-volume", ArgsUsage: "NAME", Usage: "make a clone a volume of its own: laid out in full in a new " +
				"directory, protected there, the clone discarded; of a disk where it is, at once",
				Description: "Examples:\n   candid clone make-volume trial-run --to /srv/shares/register-2027\n   candid clone " +
					"make-volume db-trial",
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "to",
					Usage: "a new or empty directory on the site's host; of a disk none"}}, runFlags()...),
				Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var r api.Run
					ask := api.CloneToVolume{To: cmd.String("to")}
					if err := f.Post(ctx, path(cmd.Args().First())+"/volume", ask, &r); err != nil {
						return err
					}
					return f.follow(ctx, cmd, &r)
				})},
			{Name: "discard", Usage: "take a clone away, with everything that was changed in it", ArgsUsage: "NAME",
				Description: "Example: candid clone discard trial-run --yes",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "without asking for its name"}, &cli.BoolFlag{Name: "anyway",
					Usage: "although someone is in it"}},
				Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
					name := cmd.Args().First()
					if !cmd.Bool("yes") {
						var c api.Clone
						if err := f.Get(ctx, path(name), nil, &c); err != nil {
							return err
						}
						what := fmt.Sprintf("%s changed in it would be gone, %s", plural(int(c.Changed), "name", "names"), size(c.Bytes))
						if c.Address != "" {
							what = "what was written to it would be gone, " + size(c.Bytes)
						}
						if c.Address != "" && c.Bytes == 0 {
							what = "nothing was written to it; it would be gone"
						}
						if err := f.typed(what, name); err != nil {
							return err
						}
					}
					q := ""
					if cmd.Bool("anyway") {
						q = "?anyway=true"
					}
					return f.sentence(func(out any) error { return f.Delete(ctx, path(name)+q, out) })
				})},
		}}
}

// typed asks for the name of what would be gone for good.
func (f *session) typed(what, name string) error {
	what = strings.TrimSuffix(what, ".")
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return misuse("%s: say --yes when that is meant", what)
	}
	fmt.Fprintf(f.err, "%s. Type %s to go on: ", what, name)
	line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	if strings.TrimSpace(line) != name {
		return misuse("nothing was done: the name was not typed")
	}
	return nil
}

func (f *session) makeClones(ctx context.Context, ask api.ClonesAsk) error {
	var all []api.Clone
	if err := f.Post(ctx, "/clones/many", ask, &all); err != nil {
		return err
	}
	return f.show(all, func() {
		for _, c := range all {
			f.say("%s", c.Sentence)
		}
		f.say("Their snapshot stays as long as they do. When you are done with one: candid clone discard %s", all[0].Name)
	})
}
