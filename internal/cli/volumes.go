package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func volumeCommand() *cli.Command {
	return &cli.Command{Name: "volume", Usage: "what is protected", Commands: []*cli.Command{
		{Name: "add", Usage: "protect a directory of the site's host, or make a disk that the site serves",
			ArgsUsage: "NAME", Description: "Examples:\n   candid volume add herbarium-scans --path /srv/herbarium --label " +
				"collection=herbarium\n   candid volume add specimen-db --size 256MiB",
			Flags: []cli.Flag{&cli.StringFlag{Name: "path", Usage: "the directory, below one of the site's roots"},
				&cli.StringFlag{Name: "size", Usage: "of a disk, such as 20GiB"},
				&cli.StringFlag{Name: "image", Usage: "of a disk: the file that is to hold its bytes, below one of the site's " +
					"roots; with the site's own data when not given"},
				&cli.StringFlag{Name: "import", Usage: "of a disk: what it begins with, a raw file below one of the site's " +
					"roots, nbd://HOST[:PORT]/EXPORT or nbd+unix:///EXPORT?socket=PATH"},
				&cli.StringFlag{Name: "block", Usage: "of a disk: what a snapshot stores of a change at least; 64KiB when " +
					"not given"},
				&cli.StringSliceFlag{Name: "label", Usage: "key=value, by which policies and routes choose"},
				&cli.StringSliceFlag{Name: "exclude", Usage: "glob of names, or of paths from the volume's top, to leave out"},
				&cli.BoolFlag{Name: "dry-run", Usage: "of a directory: only look what is there"}},
			Action: with("NAME", volumeAdd)},
		uncoveredCommand(),
		lookCommand(),
		{Name: "change", Usage: "have a volume lie in another directory, or leave out other names; its history goes on",
			ArgsUsage: "NAME", Description: "Examples:\n   candid volume change field-notebooks --path /srv/shares/notebooks\n" +
				"   candid volume change herbarium-scans --exclude '*.tmp' --exclude cache",
			Flags: []cli.Flag{&cli.StringFlag{Name: "path", Usage: "where it lies from now on"},
				&cli.StringSliceFlag{Name: "exclude", Usage: "glob of names, or of paths from the volume's top, to leave out; " +
					"all of them, instead of those it has"},
				&cli.BoolFlag{Name: "exclude-nothing", Usage: "leave nothing out any more"},
				&cli.BoolFlag{Name: "dry-run", Usage: "only look what would be there"},
				&cli.BoolFlag{Name: "yes", Usage: "although nearly nothing is left of it"}},
			Action: with("NAME", volumeChange)},
		{Name: "list", Usage: "all volumes and how they stand", Description: "Example: candid volume list",
			Action: with("", volumeList)},
		{Name: "show", Usage: "one volume", ArgsUsage: "NAME", Description: "Example: candid volume show herbarium-scans",
			Action: with("NAME", volumeShow)},
		{Name: "confirm", Usage: "say that a volume is meant to be as it is now", ArgsUsage: "NAME",
			Description: "Nothing is taken of a volume that is on another filesystem than before, or of which nearly " +
				"everything vanished, until this is said. Example: candid volume confirm field-notebooks",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error {
					return f.Post(ctx, "/volumes/"+url.PathEscape(cmd.Args().First())+"/confirm", nil, out)
				})
			})},
		{Name: "pause", Usage: "take nothing of a volume and let nothing of it go", ArgsUsage: "NAME",
			Description: "Example: candid volume pause herbarium-scans",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error {
					return f.Post(ctx, "/volumes/"+url.PathEscape(cmd.Args().First())+"/pause", nil, out)
				})
			})},
		{Name: "resume", Usage: "end a pause", ArgsUsage: "NAME",
			Description: "Example: candid volume resume herbarium-scans",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error {
					return f.Post(ctx, "/volumes/"+url.PathEscape(cmd.Args().First())+"/resume", nil, out)
				})
			})},
		{Name: "label", Usage: "change labels of volumes; what that changes is told, and asked for when snapshots " +
			"expire by it", ArgsUsage: "NAME... [key=value...]", Description: "Examples:\n   candid volume label " +
			"herbarium-scans collection=herbarium --drop trial\n   candid volume label herbarium-scans field-notebooks " +
			"season=2027",
			Flags: []cli.Flag{&cli.StringSliceFlag{Name: "drop", Usage: "key of a label to take away"},
				&cli.BoolFlag{Name: "dry-run", Usage: "only tell what would change"}, &cli.BoolFlag{Name: "yes",
					Usage: "accept that snapshots expire by it"}},
			Action: with("NAME... [key=value...]", volumeLabel)},
		{Name: "accept-rules", Usage: "let the rules that a volume's origin proposes apply here although they keep less",
			ArgsUsage: "NAME", Description: "Example: candid volume accept-rules herbarium-scans@larkfield",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error {
					return f.Post(ctx, "/volumes/"+url.PathEscape(cmd.Args().First())+"/accept-rules", nil, out)
				})
			})},
		{Name: "admit", Usage: "let snapshots that arrived out of turn count: those named, or all of the volume",
			ArgsUsage: "NAME [ID...]", Description: "Example: candid volume admit herbarium-scans@larkfield",
			Action: with("NAME [ID...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error {
					return f.Post(ctx, "/volumes/"+url.PathEscape(cmd.Args().First())+"/admit",
						api.Admit{Snapshots: cmd.Args().Tail()}, out)
				})
			})},
		{Name: "standby", Usage: "lay a copy of another site's volume out as a directory, brought up to date with each " +
			"arrival in one step", ArgsUsage: "NAME exact|additive|none",
			Description: "Example: candid volume standby herbarium-scans@larkfield exact",
			Flags: []cli.Flag{&cli.StringFlag{Name: "dir", Usage: "where; below the standby directory of site.yaml " +
				"when not given"}},
			Action: with("NAME exact|additive|none", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error {
					return f.Put(ctx, "/volumes/"+url.PathEscape(cmd.Args().First())+"/standby",
						api.StandbySet{Mode: cmd.Args().Get(1), Dir: cmd.String("dir")}, out)
				})
			})},
		{Name: "remove", Usage: "stop protecting a volume; its snapshots stay", ArgsUsage: "NAME",
			Description: "Example: candid volume remove old-share",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error { return f.Delete(ctx, "/volumes/"+url.PathEscape(cmd.Args().First()), out) })
			})},
	}}
}

func volumeAdd(ctx context.Context, f *session, cmd *cli.Command) error {
	ls, err := labels(cmd.StringSlice("label"))
	if err != nil {
		return err
	}
	var v api.VolumeFound
	ask := api.VolumeAdd{Name: cmd.Args().First(), Path: cmd.String("path"), Labels: ls,
		Excludes: cmd.StringSlice("exclude"), Image: cmd.String("image"), Import: cmd.String("import"),
		DryRun: cmd.Bool("dry-run")}
	if ask.Path == "" && cmd.String("size") == "" && ask.Import == "" {
		return misuse("say what it is: --path DIR for a directory of files, --size SIZE for a disk")
	}
	for flag, to := range map[string]*int64{"size": &ask.SizeBytes, "block": &ask.BlockBytes} {
		if text := cmd.String(flag); text != "" {
			if *to, err = parseSize(text); err != nil {
				return err
			}
		}
	}
	if err := f.Post(ctx, "/volumes", ask, &v); err != nil {
		return err
	}
	return f.show(v, func() {
		if v.Volume.Kind == "block" {
			f.say("%s is a disk of %s; its bytes are in %s.", v.Volume.Name, size(v.Bytes), v.Volume.Path)
			for _, w := range v.Warnings {
				f.say("! %s", w)
			}
			f.say("How a client opens it: candid disk show %s", v.Volume.Name)
			return
		}
		verb := "protects"
		if ask.DryRun {
			verb = "would protect"
		}
		f.say("%s %s %s: %s", v.Volume.Name, verb, v.Volume.Path, foundWords(&v))
		f.say("The first snapshot needs at most %s; %s are free in the store.", size(v.FirstNeeds), size(v.StoreFree))
		for _, w := range v.Warnings {
			f.say("! %s", w)
		}
		if !ask.DryRun {
			f.say("Take the first snapshot now: candid snapshot take %s", v.Volume.Name)
		}
	})
}

// foundWords says what is in a volume's directory.
func foundWords(v *api.VolumeFound) string {
	return fmt.Sprintf("%s, %s and %s, %s, on %s.", plural(int(v.Files), "file", "files"),
		plural(int(v.Directories), "directory", "directories"), plural(int(v.Others), "other entry", "other entries"),
		size(v.Bytes), v.Filesystem)
}

func volumeChange(ctx context.Context, f *session, cmd *cli.Command) error {
	ask := api.VolumeChange{DryRun: cmd.Bool("dry-run"), Accept: cmd.Bool("yes")}
	if cmd.IsSet("path") {
		path := cmd.String("path")
		ask.Path = &path
	}
	if globs := cmd.StringSlice("exclude"); len(globs) > 0 || cmd.Bool("exclude-nothing") {
		if len(globs) > 0 && cmd.Bool("exclude-nothing") {
			return misuse("--exclude and --exclude-nothing exclude each other")
		}
		globs = append([]string{}, globs...)
		ask.Excludes = &globs
	}
	var v api.VolumeFound
	if err := f.Patch(ctx, "/volumes/"+url.PathEscape(cmd.Args().First()), ask, &v); err != nil {
		return err
	}
	return f.show(v, func() {
		verb := "protects"
		if ask.DryRun {
			verb = "would protect"
		}
		f.say("%s %s %s: %s", v.Volume.Name, verb, v.Volume.Path, foundWords(&v))
		if len(v.Volume.Excludes) > 0 {
			f.say("Left out: %s", strings.Join(v.Volume.Excludes, ", "))
		}
		for _, w := range v.Warnings {
			f.say("! %s", w)
		}
		if !ask.DryRun {
			f.say("Its history goes on with its next snapshot, which reads everything: candid snapshot take %s", v.Volume.Name)
		}
	})
}

func volumeList(ctx context.Context, f *session, cmd *cli.Command) error {
	var vs []api.Volume
	if err := f.Get(ctx, "/volumes", nil, &vs); err != nil {
		return err
	}
	return f.show(vs, func() {
		var rows [][]string
		for _, v := range vs {
			rows = append(rows, []string{v.Name, v.Protection, strconv.Itoa(v.Snapshots), whenPtr(v.Newest), whenPtr(v.NextDue),
				strings.Join(v.Policies, ", "), labelText(v.Labels), v.Path})
		}
		f.list([]string{"VOLUME", "PROTECTION", "SNAPSHOTS", "NEWEST STATE", "NEXT DUE", "POLICIES", "LABELS", "PATH"}, rows,
			"No volumes yet. Add one: candid volume add NAME --path DIR")
	})
}

func volumeShow(ctx context.Context, f *session, cmd *cli.Command) error {
	var v api.Volume
	if err := f.Get(ctx, "/volumes/"+url.PathEscape(cmd.Args().First()), nil, &v); err != nil {
		return err
	}
	return f.show(v, func() {
		f.say("%s is %s. %s", v.Name, v.Protection, v.Sentence)
		f.say("path         %s (at %s)", v.Path, v.Active)
		f.say("labels       %s", labelText(v.Labels))
		if len(v.Excludes) > 0 {
			f.say("left out     %s", strings.Join(v.Excludes, ", "))
		}
		f.say("policies     %s", strings.Join(v.Policies, ", "))
		f.say("snapshots    %d kept, %d in grace", v.Snapshots, v.InGrace)
		f.say("last size    %s, %s", plural(int(v.LastFiles), "file", "files"), size(v.LastBytes))
		f.say("next due     %s", whenPtr(v.NextDue))
		if v.Group != "" {
			f.say("group        %s: it is taken with that group's other volumes, as one set", v.Group)
		}
		if v.Following != "" {
			f.say("changes      found %s", v.Following)
		}
		if v.Standby != nil {
			f.say("standby      %s", v.Standby.Sentence)
		}
		if v.Doubt != "" {
			f.say("in doubt     %s; nothing is taken of it. If this is meant: candid volume confirm %s", v.Doubt, v.Name)
		}
		if v.OutOfTurn > 0 {
			f.say("out of turn  %d snapshots stay and displace nothing until they are admitted: candid volume admit %s",
				v.OutOfTurn, v.Name)
		}
		for _, p := range v.Places {
			f.say("at %-10s%s; newest state %s; backlog %d", p.Place, p.State, whenPtr(p.Newest), p.Backlog)
		}
	})
}

// volumeLabel changes labels of the volumes that are named: what has a = is a label.
func volumeLabel(ctx context.Context, f *session, cmd *cli.Command) error {
	ask := api.LabelsMany{Drop: cmd.StringSlice("drop"), DryRun: true}
	var pairs []string
	for _, a := range cmd.Args().Slice() {
		if strings.Contains(a, "=") {
			pairs = append(pairs, a)
		} else {
			ask.Volumes = append(ask.Volumes, a)
		}
	}
	var err error
	if ask.Set, err = labels(pairs); err != nil {
		return err
	}
	switch {
	case len(ask.Volumes) == 0:
		return misuse("name a volume, or several")
	case len(ask.Set)+len(ask.Drop) == 0:
		return misuse("give labels to set as key=value, or to take away with --drop KEY")
	case len(ask.Volumes) == 1 && len(ask.Drop) > 0:
		var v api.Volume
		if err := f.Get(ctx, "/volumes/"+url.PathEscape(ask.Volumes[0]), nil, &v); err != nil {
			return err
		}
		for _, k := range ask.Drop {
			if _, there := v.Labels[k]; !there {
				return misuse("%s has no label %q: it has %s", v.Name, k, labelText(v.Labels))
			}
		}
	}
	var out api.LabelsChanged
	if err := f.Post(ctx, "/volumes/labels", ask, &out); err != nil {
		return err
	}
	check := api.PolicyCheck{}
	for _, c := range out.Changes {
		check.Letting = append(check.Letting, c.Letting...)
		check.Bytes += c.Bytes
	}
	if n := len(check.Letting); n > 0 && !cmd.Bool("yes") && !cmd.Bool("dry-run") {
		f.letting(f.err, &check)
		return &exitError{exitFailed, errorf("nothing was changed: with these labels %s would expire; say --yes to "+
			"accept that", plural(n, "snapshot", "snapshots"))}
	}
	if !cmd.Bool("dry-run") {
		ask.DryRun, ask.Accept = false, cmd.Bool("yes")
		if err := f.Post(ctx, "/volumes/labels", ask, &out); err != nil {
			return err
		}
	}
	return f.show(out, func() {
		has := "has"
		if cmd.Bool("dry-run") {
			has = "would have"
		}
		for _, c := range out.Changes {
			what := "no labels"
			if len(c.Labels) > 0 {
				what = "the labels " + labelText(c.Labels)
			}
			f.say("%s %s %s.", c.Volume, has, what)
			for _, x := range c.Changes {
				f.say("  %s", x)
			}
			if len(c.Changes)+len(c.Letting) == 0 {
				f.say("  Nothing else changes by it.")
			}
		}
		if len(check.Letting) > 0 {
			f.letting(f.out, &check)
		}
	})
}

func browseCommand() *cli.Command {
	return &cli.Command{Name: "browse", Usage: "a directory as of a moment",
		ArgsUsage:   "VOLUME [PATH], or the PATH on the host",
		Description: `Example: candid browse herbarium-scans sheets/1931 --at "2026-03-04 14:05"`,
		Flags:       []cli.Flag{atFlag()},
		Action: with("VOLUME [PATH]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			volume, path, err := f.inVolume(ctx, cmd)
			if err != nil {
				return err
			}
			q := url.Values{"at": {instant(cmd.String("at"))}, "path": {path}}
			var b api.Browse
			for {
				var page api.Browse
				if err := f.Get(ctx, "/volumes/"+url.PathEscape(volume)+"/browse", q, &page); err != nil {
					return err
				}
				entries := append(b.Entries, page.Entries...)
				b = page
				b.Entries = entries
				if page.Next == "" {
					break
				}
				q.Set("after", page.Next)
			}
			return f.show(b, func() {
				f.say("%s/%s as of snapshot %s: %s.", b.Volume, b.Path, short(b.Snapshot.ID), b.Answer)
				entries := b.Entries
				if b.Entry != nil {
					entries = []api.Entry{*b.Entry}
				}
				rows := make([][]string, len(entries))
				for i, e := range entries {
					name := e.Name
					amount := size(e.Size)
					switch e.Kind {
					case "directory":
						name, amount = name+"/", plural(int(e.Entries), "entry", "entries")
					case "symlink":
						name += " -> " + e.Target
					}
					rows[i] = []string{e.Mode, strconv.Itoa(int(e.UID)) + ":" + strconv.Itoa(int(e.GID)), amount, when(e.Modified),
						name}
				}
				f.list([]string{"MODE", "OWNER", "SIZE", "MODIFIED", "NAME"}, rows, "The directory is empty.")
			})
		})}
}

func atFlag() cli.Flag {
	return &cli.StringFlag{Name: "at", Value: "latest", Usage: "WHEN: RFC 3339, \"2026-03-04 14:05\", -2h, latest, or " +
		"a snapshot's id"}
}

func runFlags() []cli.Flag {
	return []cli.Flag{&cli.BoolFlag{Name: "no-wait", Usage: "return at once and let the work go on"},
		&cli.BoolFlag{Name: "strict", Usage: "exit with 3 when it is done with remarks"}}
}

// follow shows a run until it is over.
func (f *session) follow(ctx context.Context, cmd *cli.Command, r *api.Run) error {
	if cmd.Bool("no-wait") {
		return f.show(r, func() { f.say("Run %d goes on: candid run follow %d", r.ID, r.ID) })
	}
	return f.followRun(ctx, cmd, r.ID)
}

func (f *session) followRun(ctx context.Context, cmd *cli.Command, id int64) error {
	bar := newBar(f)
	began := time.Now()
	r, err := f.WaitRun(ctx, id, func(r *api.Run) { bar.update(r, time.Since(began)) })
	bar.end()
	if err != nil {
		return err
	}
	if f.json {
		if err := f.printJSON(r); err != nil {
			return err
		}
	} else if r.Worked() {
		lead, more, has := strings.Cut(r.Outcome, ". ")
		f.say("%s", lead)
		if has {
			f.say("%s", more)
		}
	}
	switch {
	case r.Over() && !r.Worked():
		return &exitError{exitFailed, errorf("run %d %s: %s", r.ID, r.State, r.Outcome)}
	case r.State == api.RunDoneWithRemarks:
		if !f.json {
			f.say("The remarks: candid run show %d", r.ID)
		}
		if cmd.Bool("strict") {
			return &exitError{code: exitRemarks}
		}
	}
	return nil
}
