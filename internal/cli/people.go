package cli

import (
	"bufio"
	"context"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"
)

func personCommand() *cli.Command {
	ids := []cli.Flag{&cli.UintFlag{Name: "uid", Usage: "who a file owner is on the files; when not given, the user of " +
		"that name on the site's host"},
		&cli.UintSliceFlag{Name: "gid", Usage: "a group of that user, the main one first"}}
	role := func(more string) cli.Flag {
		return &cli.StringFlag{Name: "role", Usage: "administrator, operator (daily work, restores), auditor (looks at " +
			"records, not at files) or \"file owner\" (own files alone)" + more}
	}
	person := func(name string) string { return "/people/" + url.PathEscape(name) }
	return &cli.Command{Name: "person", Usage: "who may sign in, in which role, and which folders file owners see",
		Commands: []*cli.Command{
			{Name: "add", Usage: "let someone sign in; asks for the password, or reads its first line from standard input",
				ArgsUsage:   "NAME",
				Description: "Example: candid person add ines --role \"file owner\" --uid 1004 --gid 100",
				Flags:       append([]cli.Flag{role("")}, ids...),
				Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
					ask := api.PersonAdd{Name: cmd.Args().First(), Role: cmd.String("role")}
					ask.UID, ask.GIDs = idsOf(cmd)
					if ask.Role == "" {
						return misuse("say --role administrator, operator, auditor or \"file owner\"")
					}
					var err error
					if ask.Password, err = password(f, "Password for "+ask.Name); err != nil {
						return err
					}
					var p api.Person
					if err := f.Post(ctx, "/people", ask, &p); err != nil {
						return err
					}
					return f.show(p, func() {
						f.say("%s may sign in as %s.", p.Name, p.Role)
						if p.Role == "file owner" {
							f.say("As user %d in the groups %s. Nothing is granted yet: candid person grant %s VOLUME [PATH...]", *p.UID,
								numbers(p.GIDs), p.Name)
						}
					})
				})},
			{Name: "list", Usage: "all people", Description: "Example: candid person list",
				Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var ps []api.Person
					if err := f.Get(ctx, "/people", nil, &ps); err != nil {
						return err
					}
					return f.show(ps, func() {
						var rows [][]string
						for _, p := range ps {
							user, sees := "-", "as the role says"
							if p.Role == "file owner" {
								sees = "nothing yet"
							}
							if p.UID != nil {
								user = fmt.Sprintf("%d (%s)", *p.UID, numbers(p.GIDs))
							}
							var parts []string
							for _, g := range p.Grants {
								for _, at := range g.Paths {
									parts = append(parts, strings.TrimSuffix(g.Volume+"/"+at, "/"))
								}
							}
							if len(parts) > 0 {
								sees = strings.Join(parts, ", ")
							}
							rows = append(rows, []string{p.Name, p.Role, user, sees})
						}
						f.list([]string{"PERSON", "ROLE", "USER (GROUPS)", "SEES"}, rows, "Nobody signs in by name yet. Let someone: "+
							"candid person add NAME --role ROLE")
					})
				})},
			{Name: "grant", Usage: "let a file owner see folders of a volume, or all of it", ArgsUsage: "NAME VOLUME [PATH...]",
				Description: "Example: candid person grant ines field-notebooks 2026/transect-1",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "end", Usage: "take the grant back"}},
				Action: with("NAME VOLUME [PATH...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
					a := cmd.Args().Slice()
					var p api.Person
					if err := f.Post(ctx, person(a[0])+"/folders", api.FolderGrantAsk{Volume: a[1], Paths: a[2:],
						End: cmd.Bool("end")},
						&p); err != nil {
						return err
					}
					return f.show(p, func() {
						if len(p.Grants) == 0 {
							f.say("%s sees nothing now.", p.Name)
						}
						for _, g := range p.Grants {
							for _, at := range g.Paths {
								if at == "" {
									at = "everything"
								}
								f.say("%s sees %s of %s, as far as the recorded rights let user %d.", p.Name, at, g.Volume, *p.UID)
							}
						}
					})
				})},
			{Name: "change", Usage: "change a person's role, ids or password", ArgsUsage: "NAME",
				Description: "Example: candid person change ines --password",
				Flags: append([]cli.Flag{role("; signs the person out"), &cli.BoolFlag{Name: "password",
					Usage: "ask for a new password, or read it from standard input; signs the person out"}}, ids...),
				Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
					ask := api.PersonChange{Role: cmd.String("role")}
					ask.UID, ask.GIDs = idsOf(cmd)
					if cmd.Bool("password") {
						var err error
						if ask.Password, err = password(f, "New password for "+cmd.Args().First()); err != nil {
							return err
						}
					}
					if ask.Role == "" && ask.UID == nil && ask.Password == "" {
						return misuse("say what to change: --role, --uid with --gid, or --password")
					}
					var p api.Person
					if err := f.Patch(ctx, person(cmd.Args().First()), ask, &p); err != nil {
						return err
					}
					return f.show(p, func() { f.say("%s is changed: %s.", p.Name, p.Role) })
				})},
			timesCommand(),
			{Name: "remove", Usage: "let someone sign in no more", ArgsUsage: "NAME",
				Description: "Example: candid person remove ines", Action: with("NAME", func(ctx context.Context, f *session,
					cmd *cli.Command) error {
					return f.sentence(func(out any) error { return f.Delete(ctx, person(cmd.Args().First()), out) })
				})},
		}}
}

func idsOf(cmd *cli.Command) (uid *uint32, gids []uint32) {
	if cmd.IsSet("uid") {
		n := uint32(cmd.Uint("uid"))
		uid = &n
	}
	for _, g := range cmd.UintSlice("gid") {
		gids = append(gids, uint32(g))
	}
	return uid, gids
}

func numbers(ids []uint32) string {
	var parts []string
	for _, n := range ids {
		parts = append(parts, strconv.FormatUint(uint64(n), 10))
	}
	return strings.Join(parts, " ")
}

// password asks on the terminal, twice, or takes the first line of standard input.
func password(f *session, what string) (string, error) {
	in := int(os.Stdin.Fd())
	if !term.IsTerminal(in) {
		line, err := bufio.NewReader(os.Stdin).ReadString('\n')
		if line = strings.TrimRight(line, "\r\n"); line == "" {
			return "", misuse("a password is needed: type it when asked, or give it as the first line of standard input (%v)",
				err)
		}
		return line, nil
	}
	var got [2]string
	for i, ask := range []string{what, "The same again"} {
		fmt.Fprintf(f.err, "%s: ", ask)
		b, err := term.ReadPassword(in)
		fmt.Fprintln(f.err)
		if err != nil {
			return "", err
		}
		got[i] = string(b)
	}
	if got[0] != got[1] {
		return "", misuse("the two differ: nothing was changed, try again")
	}
	return got[0], nil
}

func ledgerCommand() *cli.Command {
	return &cli.Command{Name: "ledger", Usage: "who did what", Commands: []*cli.Command{
		{Name: "list", Usage: "what was done, newest first",
			Description: "Example: candid ledger list --who ines --text restore",
			Flags: []cli.Flag{&cli.StringFlag{Name: "who", Usage: "only what this one did"}, &cli.StringFlag{Name: "text",
				Usage: "only what has this in its act or subject"}, &cli.IntFlag{Name: "limit", Value: 40, Usage: "how many"}},
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				q := url.Values{"who": {cmd.String("who")}, "text": {cmd.String("text")}, "limit": {strconv.Itoa(cmd.Int("limit"))}}
				var page api.Page[api.LedgerEntry]
				if err := f.Get(ctx, "/ledger", q, &page); err != nil {
					return err
				}
				return f.show(page, func() {
					var rows [][]string
					for _, e := range page.Items {
						what := e.Act
						if e.Outcome != "" {
							what += " (" + e.Outcome + ")"
						}
						rows = append(rows, []string{strconv.FormatInt(e.N, 10), when(e.At), e.Who, e.Role, e.Via, what, e.About})
					}
					f.list([]string{"ENTRY", "AT", "WHO", "ROLE", "VIA", "ACT", "ABOUT"}, rows, "Nothing yet.")
				})
			})},
		{Name: "verify", Usage: "whether the ledger is as it was written, also as paired sites saw it",
			Description: "Example: candid ledger verify",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var p api.LedgerProof
				if err := f.Post(ctx, "/ledger/verify", nil, &p); err != nil {
					return err
				}
				err := f.show(p, func() {
					f.say("%s", p.Sentence)
					for _, w := range p.Witnesses {
						if w.Silent != "" {
							f.say("%s does not tell what it saw: %s", w.Site, w.Silent)
						}
					}
					if p.Whole {
						f.say("Its last sum is %s.", p.Head)
					}
				})
				if err == nil && !p.Whole {
					err = &exitError{exitFailed, fmt.Errorf("the ledger does not hold from entry %d on: keep a copy of catalog.db "+
						"as it is, and compare it with backups of it and with what paired sites saw", p.BrokenAt)}
				}
				return err
			})},
	}}
}
