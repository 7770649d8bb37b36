package cli

import (
	"cmp"
	"context"
	"net/url"
	"strconv"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func uncoveredCommand() *cli.Command {
	return &cli.Command{Name: "uncovered", Usage: "directories of the site's host that nothing protects; with " +
		"--protect: protect those named, or all", ArgsUsage: "[DIR...]",
		Description: "Examples:\n   candid volume uncovered\n   candid volume uncovered --protect --label " +
			"collection=herbarium\n   candid volume uncovered --protect /srv/shares/maps",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "protect", Usage: "make a volume of each, named after its directory"},
			&cli.StringSliceFlag{Name: "label", Usage: "key=value for all of them, by which policies and routes choose"}},
		Action: with("[DIR...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			ls, err := labels(cmd.StringSlice("label"))
			if err != nil {
				return err
			}
			if cmd.Bool("protect") {
				return f.protectUncovered(ctx, api.ProtectUncovered{Paths: cmd.Args().Slice(), Labels: ls})
			}
			if cmd.Args().Len() > 0 || len(ls) > 0 {
				return misuse("directories and labels go with --protect")
			}
			var u api.Uncovered
			if err := f.Get(ctx, "/uncovered", nil, &u); err != nil {
				return err
			}
			return f.show(u, func() { f.uncovered(&u) })
		})}
}

func (f *session) uncovered(u *api.Uncovered) {
	var rows [][]string
	for _, d := range u.Directories {
		rows = append(rows, []string{d.Path, sizeWords(&d), filesWords(&d), entryWords(&d)})
	}
	f.list([]string{"DIRECTORY", "SIZE", "FILES", ""}, rows,
		"Every directory below the roots of this site is protected.")
	for _, l := range u.Loose {
		f.say("Directly in %s, in none of its directories: %s, %s.", l.Path, plural(int(l.Files), "file", "files"),
			size(l.Bytes))
	}
	if u.More {
		f.say("There are more than are told here.")
	}
	if len(u.Filesystems) > 0 {
		var names []string
		for _, m := range u.Filesystems {
			names = append(names, m.Path+" ("+m.Kind+", "+size(m.UsedBytes)+" used)")
		}
		f.say("Outside the roots, which site.yaml names: %s.", strings.Join(names, ", "))
	}
	if len(rows) > 0 {
		f.say("Protect all of them, or those named: candid volume uncovered --protect [DIR...] --label key=value")
	}
}

func (f *session) protectUncovered(ctx context.Context, ask api.ProtectUncovered) error {
	var r api.UncoveredProtected
	if err := f.Post(ctx, "/uncovered/protect", ask, &r); err != nil {
		return err
	}
	err := f.show(r, func() {
		var rows [][]string
		bare := 0
		for _, v := range r.Added {
			if len(v.Volume.Policies) == 0 {
				bare++
			}
			rows = append(rows, []string{v.Volume.Name, v.Volume.Path, size(v.Bytes),
				cmp.Or(strings.Join(v.Volume.Policies, ", "), "none")})
		}
		f.list([]string{"VOLUME", "DIRECTORY", "SIZE", "POLICY"}, rows, "Nothing was added.")
		for _, no := range r.Refused {
			f.say("! %s: %s", no.Path, no.Why)
		}
		if bare > 0 {
			which := strconv.Itoa(bare) + " of these"
			if bare == len(rows) {
				which = "these"
			}
			f.say("No policy chooses %s yet: nothing is taken by itself. Write one: candid policy put FILE", which)
		}
		if len(rows) > 0 {
			f.say("Take the first snapshots now: candid snapshot take --due")
		}
	})
	if err == nil && len(r.Refused) > 0 {
		return &exitError{code: exitFailed}
	}
	return err
}

func lookCommand() *cli.Command {
	return &cli.Command{Name: "look", Usage: "what lies in a directory of the site's host, with sizes, to choose what " +
		"to protect and what to leave out; the roots when none is given", ArgsUsage: "[DIR]",
		Description: "Example: candid volume look /srv/shares",
		Action: with("[DIR]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			var d api.HostDirectory
			if err := f.Get(ctx, "/directories", url.Values{"path": {cmd.Args().First()}}, &d); err != nil {
				return err
			}
			return f.show(d, func() {
				var rows [][]string
				for _, e := range d.Entries {
					name := e.Name
					if e.Dir && d.Path != "" {
						name += "/"
					}
					row := []string{name, sizeWords(&e), filesWords(&e), entryWords(&e)}
					if d.Path == "" {
						row[1], row[2] = "-", "-"
					}
					rows = append(rows, row)
				}
				f.list([]string{cmp.Or(d.Path, "ROOT"), "SIZE", "FILES", ""}, rows, "There is nothing in "+d.Path+".")
				if d.Volume != "" {
					f.say("The volume %s protects it.", d.Volume)
				}
				if d.More {
					f.say("There are more than are told here.")
				}
			})
		})}
}

func sizeWords(e *api.HostEntry) string { return atLeast(e, size(e.Bytes)) }

func filesWords(e *api.HostEntry) string { return atLeast(e, plural(int(e.Files), "file", "files")) }

func atLeast(e *api.HostEntry, words string) string {
	switch {
	case e.Closed || e.Mount:
		return "-"
	case e.AtLeast:
		return "at least " + words
	}
	return words
}

// entryWords says what is to be known of a name beside its size.
func entryWords(e *api.HostEntry) string {
	switch {
	case e.Volume != "":
		return "protected by " + e.Volume
	case e.Holds > 0:
		return plural(e.Holds, "volume is", "volumes are") + " below it"
	case e.Closed:
		return "cannot be read by the service"
	case e.Mount:
		return "another filesystem is mounted there"
	}
	return ""
}
