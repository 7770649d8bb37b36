package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"candidharbor/api"
	"candidharbor/internal/visible"

	"github.com/urfave/cli/v3"
)

func findCommand() *cli.Command {
	return &cli.Command{Name: "find", Usage: "look for names in all snapshots of a volume, or of all, deleted ones too",
		ArgsUsage: "[VOLUME] PATTERN",
		Description: "PATTERN is a part of a name; with * ? or [a-z] it is a whole name, with slashes the\nlast parts of " +
			"a path. Upper and lower case are alike.\n\nExamples:\n   candid find transect-7\n   candid " +
			"find herbarium-scans 1931 --deleted\n" +
			"   candid find field-notebooks \"notes/*.txt\" --since 2026-03-01 --until 2026-04-01",
		Flags: []cli.Flag{&cli.StringFlag{Name: "since", Usage: "WHEN: there in a snapshot taken then or later"},
			&cli.StringFlag{Name: "until", Usage: "WHEN: there in a snapshot taken then or earlier"},
			&cli.BoolFlag{Name: "deleted", Usage: "only what the newest snapshot does not have"},
			&cli.BoolFlag{Name: "sites", Usage: "ask other sites too, for what no snapshot here has"},
			&cli.StringFlag{Name: "kind", Usage: "only these: file, directory or symlink"},
			&cli.StringFlag{Name: "min-size", Usage: "only of this size or more, such as 10MiB"},
			&cli.StringFlag{Name: "max-size", Usage: "only of this size or less"},
			&cli.IntFlag{Name: "limit", Value: 50, Usage: "how many to show, the newest modified first"}},
		Action: with("PATTERN [PATTERN]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			volume, pattern := cmd.Args().First(), cmd.Args().Get(1)
			if cmd.Args().Len() == 1 {
				volume, pattern = "", volume
			}
			q := url.Values{"pattern": {pattern}, "limit": {strconv.Itoa(cmd.Int("limit"))}}
			for _, name := range []string{"since", "until"} {
				if text := cmd.String(name); text != "" {
					t, ok := parseWhen(text, time.Now())
					if !ok {
						return misuse("--%s %q is not a time: write 2026-03-04, \"2026-03-04 14:05\" or -2h", name, text)
					}
					q.Set(name, t.Format(time.RFC3339))
				}
			}
			for flag, name := range map[string]string{"min-size": "minSize", "max-size": "maxSize"} {
				if text := cmd.String(flag); text != "" {
					n, err := parseSize(text)
					if err != nil {
						return misuse("--%s: %s", flag, err)
					}
					q.Set(name, strconv.FormatInt(n, 10))
				}
			}
			for _, name := range []string{"deleted", "sites"} {
				if cmd.Bool(name) {
					q.Set(name, "true")
				}
			}
			if kind := cmd.String("kind"); kind != "" {
				q.Set("kind", kind)
			}
			if volume == "" {
				if cmd.Bool("sites") {
					return misuse("other sites are asked about one volume at a time: candid find VOLUME PATTERN --sites")
				}
				return f.findAll(ctx, pattern, cmd.Int("limit"), q)
			}
			var found api.Find
			if err := f.whileNamesAreRead(ctx, volume, func() error {
				return f.Get(ctx, "/volumes/"+url.PathEscape(volume)+"/find", q, &found)
			}); err != nil {
				return err
			}
			return f.show(found, func() { f.found(volume, pattern, &found) })
		})}
}

func foundRow(e *api.Found) []string {
	state := "there"
	if !e.There {
		state = "last seen " + when(e.LastSeen)
	}
	amount := size(e.Size)
	if e.Kind != "file" {
		amount = e.Kind
	}
	return []string{e.Path, amount, when(e.Modified), strconv.Itoa(e.Versions), state, short(e.Snapshot)}
}

func (f *session) found(volume, pattern string, found *api.Find) {
	if len(found.Items) == 0 {
		f.say("Nothing like %q is in the %s of %s that were searched.", pattern, plural(found.Snapshots, "snapshot",
			"snapshots"), volume)
	} else {
		rows := make([][]string, len(found.Items))
		for i, e := range found.Items {
			rows[i] = foundRow(&e)
		}
		f.list([]string{"PATH", "SIZE", "MODIFIED", "VERSIONS", "STATE", "SNAPSHOT"}, rows, "")
		more := ""
		if found.Total > len(found.Items) {
			more = fmt.Sprintf(" These are the %d modified last: a longer pattern, --since or --kind narrow it, --limit "+
				"shows more.", len(found.Items))
		}
		f.say("%s in %s.%s", plural(found.Total, "path", "paths"), plural(found.Snapshots, "snapshot", "snapshots"), more)
		for _, e := range found.Items {
			if !e.There {
				f.say("To bring one back: candid restore %s %s --at %s --in-place", volume, visible.Word(e.Path), short(e.Snapshot))
				break
			}
		}
	}
	for _, far := range found.Elsewhere {
		switch {
		case far.Silent != "":
			f.say("%s does not tell: %s", far.Site, far.Silent)
		case far.Snapshots == 0:
			f.say("%s has no snapshot of %s.", far.Site, volume)
		case len(far.Items) == 0:
			f.say("%s has nothing more in %s.", far.Site, plural(far.Snapshots, "snapshot", "snapshots"))
		default:
			f.say("%s has what no snapshot here has:", far.Site)
			rows := make([][]string, len(far.Items))
			for i, e := range far.Items {
				rows[i] = []string{e.Path, size(e.Size), when(e.Modified), strconv.Itoa(e.Versions), when(e.LastSeen),
					short(e.Snapshot)}
			}
			f.list([]string{"PATH", "SIZE", "MODIFIED", "VERSIONS", "LAST SEEN", "SNAPSHOT"}, rows, "")
			e := far.Items[0]
			f.say("To bring one back: candid restore %s %s --at %s --from-site %s --in-place", volume, visible.Word(e.Path),
				short(e.Snapshot), far.Site)
		}
	}
	for _, id := range found.LeftOut {
		f.say("Snapshot %s could not be read and was left out: candid store verify says more.", short(id))
	}
}

func asOfCommand() *cli.Command {
	return &cli.Command{Name: "as-of", Usage: "what stands for a moment of a volume, here and at other sites",
		ArgsUsage:   "VOLUME",
		Description: "Example: candid as-of field-notebooks --at \"2026-03-04 14:05\"",
		Flags: []cli.Flag{&cli.StringFlag{Name: "at", Value: "latest",
			Usage: "WHEN: RFC 3339, \"2026-03-04 14:05\", -2h or latest"}},
		Action: with("VOLUME", func(ctx context.Context, f *session, cmd *cli.Command) error {
			volume := cmd.Args().First()
			at := cmd.String("at")
			if at != "latest" {
				t, ok := parseWhen(at, time.Now())
				if !ok {
					return misuse("%q is not a time: write 2026-03-04, \"2026-03-04 14:05\", -2h or latest", at)
				}
				at = t.Format(time.RFC3339)
			}
			var out api.AsOf
			if err := f.Get(ctx, "/volumes/"+url.PathEscape(volume)+"/as-of", url.Values{"at": {at}}, &out); err != nil {
				return err
			}
			return f.show(out, func() { f.asOf(&out) })
		})}
}

func (f *session) asOf(out *api.AsOf) {
	rows := make([][]string, len(out.Places))
	for i, p := range out.Places {
		snapshot, bytes, took := "-", "-", "-"
		if p.Snapshot != "" {
			snapshot, bytes = short(p.Snapshot), size(p.Bytes)
			if i > 0 && p.Here {
				snapshot += " (here too)"
			}
		}
		if p.Seconds > 0 {
			took = "about " + age(p.Seconds)
		}
		answer := p.Answer
		if p.Silent != "" {
			answer = "does not tell: " + p.Silent
		}
		rows[i] = []string{p.Site, answer, snapshot, bytes, took}
	}
	f.list([]string{"SITE", "STANDS FOR IT", "SNAPSHOT", "SIZE", "ALL OF IT BACK IN"}, rows, "")
	f.say("%s", out.Sentence)
	for i, p := range out.Places {
		if p.Site == out.Best {
			from := ""
			if i > 0 {
				from = " --from-site " + p.Site
			}
			f.say("To look at it: candid restore %s --at %s%s --in-place --dry-run", out.Volume, short(p.Snapshot), from)
		}
	}
}

func versionsCommand() *cli.Command {
	return &cli.Command{Name: "versions", Usage: "what a file or directory was over time, real changes alone",
		ArgsUsage:   "VOLUME PATH, or the PATH on the host",
		Description: "Example: candid versions field-notebooks notes/day-001.txt",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "sites", Usage: "ask other sites too, for versions that no " +
			"snapshot here has"}},
		Action: with("VOLUME [PATH]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			volume, path, err := f.inVolume(ctx, cmd)
			if err != nil {
				return err
			}
			if path == "" {
				return misuse("candid versions takes VOLUME PATH, or a PATH on the host that begins with a slash")
			}
			var vs api.Versions
			q := url.Values{"path": {path}, "sites": {strconv.FormatBool(cmd.Bool("sites"))}}
			if err := f.Get(ctx, "/volumes/"+url.PathEscape(volume)+"/versions", q, &vs); err != nil {
				return err
			}
			return f.show(vs, func() {
				rows := make([][]string, len(vs.Items))
				for i, v := range vs.Items {
					amount, modified := "-", "-"
					if v.Entry != nil {
						amount, modified = size(v.Entry.Size), when(v.Entry.Modified)
						if v.Entry.Kind != "file" {
							amount = v.Entry.Kind
						}
					}
					if v.Site != "" {
						v.What = "at " + v.Site
					}
					rows[i] = []string{v.What, when(v.Since), when(v.Until), amount, modified, plural(v.Snapshots, "snapshot",
						"snapshots"), short(v.Snapshot)}
				}
				f.list([]string{"WHAT", "FROM", "UNTIL", "SIZE", "MODIFIED", "IN", "NEWEST"}, rows, "")
				for _, why := range vs.Silent {
					f.say("%s", why)
				}
				if vs.More {
					f.say("There are older ones; these are the newest %d.", len(vs.Items))
				}
				for _, v := range vs.Items[min(1, len(vs.Items)):] {
					if v.Entry != nil {
						f.say("To bring one back: candid restore %s %s --at %s --in-place", volume, visible.Word(vs.Path),
							short(v.Snapshot))
						break
					}
				}
			})
		})}
}

func compareCommand() *cli.Command {
	return &cli.Command{Name: "compare", Usage: "what differs between two moments, or a moment and now",
		ArgsUsage: "VOLUME [PATH], or the PATH on the host",
		Description: "Examples:\n   candid compare herbarium-scans --from -1d\n   candid compare field-notebooks notes " +
			"--from 2026-03-04 --to 2026-03-05\n   candid compare field-notebooks --from latest --from-site stonewick\n" +
			"   candid compare field-notebooks --from -1w --with notebooks-copy",
		Flags: []cli.Flag{&cli.StringFlag{Name: "from", Required: true,
			Usage: "WHEN: RFC 3339, \"2026-03-04 14:05\", -2h, latest, or a snapshot's id"},
			&cli.StringFlag{Name: "from-site", Usage: "--from is of the copy that this site has"},
			&cli.StringFlag{Name: "to", Value: "now", Usage: "WHEN, or now: the volume as it is"},
			&cli.StringFlag{Name: "with", Usage: "--to is of this other volume"},
			&cli.BoolFlag{Name: "text", Usage: "line by line, of the one text file PATH"},
			&cli.BoolFlag{Name: "ranges", Usage: "of a disk: list the stretches that differ"}},
		Action: with("VOLUME [PATH]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			volume, path, err := f.inVolume(ctx, cmd)
			if err != nil {
				return err
			}
			from, to := instant(cmd.String("from")), cmd.String("to")
			if to != "now" {
				to = instant(to)
			}
			q := url.Values{"path": {path}, "from": {from}, "to": {to}}
			site, with := cmd.String("from-site"), cmd.String("with")
			if site != "" || with != "" {
				if cmd.Bool("text") || cmd.Bool("ranges") {
					return misuse("--from-site and --with compare trees of files, not with --text or --ranges")
				}
				q.Set("fromSite", site)
				q.Set("with", with)
			}
			if cmd.Bool("text") {
				return f.compareText(ctx, volume, q)
			}
			var v api.Volume
			if err := f.Get(ctx, "/volumes/"+url.PathEscape(volume), nil, &v); err != nil {
				return err
			}
			if v.Kind == "block" {
				if site != "" || with != "" {
					return misuse("%s is a disk: --from-site and --with compare trees of files", volume)
				}
				if cmd.Args().Len() > 1 {
					return misuse("%s is a disk and has no PATH", volume)
				}
				return f.compareDisk(ctx, volume, q, cmd.Bool("ranges"))
			}
			var c api.Comparison
			if err := f.Get(ctx, "/volumes/"+url.PathEscape(volume)+"/comparison", q, &c); err != nil {
				return err
			}
			return f.show(c, func() { f.compared(&c) })
		})}
}

func (f *session) compared(c *api.Comparison) {
	f.say("%s from %s", cmpPath(c), sideText(&c.From))
	if c.With != "" {
		f.say("to %s, %s:", c.With, sideText(&c.To))
	} else {
		f.say("to %s:", sideText(&c.To))
	}
	if len(c.Changes) == 0 {
		f.say("Nothing differs.")
		return
	}
	rows := make([][]string, len(c.Changes))
	for i, d := range c.Changes {
		path, amount := d.Path, ""
		e := d.New
		if e == nil {
			e = d.Old
		}
		if e.Kind == "directory" {
			path += "/"
		} else if d.What == "changed" {
			amount = size(d.Old.Size) + " -> " + size(d.New.Size)
		} else {
			amount = size(e.Size)
		}
		if d.From != "" {
			path = d.From + " -> " + path
		}
		rows[i] = []string{d.What, amount, path}
	}
	f.list([]string{"WHAT", "SIZE", "PATH"}, rows, "")
	more := ""
	if c.Cut {
		more = fmt.Sprintf(" The first %d are shown; a PATH narrows it.", len(c.Changes))
	}
	f.say("%s; %s came, %s went.%s", c.Summary, size(c.AddedBytes), size(c.RemovedBytes), more)
	if c.Counts.Removed+c.Counts.Changed > 0 && (c.To.Snapshot == "" || c.With != "") {
		where := "--in-place"
		if c.With != "" {
			where = "--into " + visible.Word(c.With)
		}
		f.say("To bring back what went or changed: candid restore %s PATH --at %s %s", visible.Word(c.Volume),
			short(c.From.Snapshot), where)
	}
}

func cmpPath(c *api.Comparison) string {
	if c.Path == "" {
		return c.Volume
	}
	return c.Volume + "/" + c.Path
}

func sideText(s *api.ComparedSide) string {
	if s.Snapshot == "" {
		return "now, " + when(s.At)
	}
	return fmt.Sprintf("%s (snapshot %s; %s)", when(s.At), short(s.Snapshot), s.Answer)
}

func (f *session) compareText(ctx context.Context, volume string, q url.Values) error {
	if q.Get("to") == "now" {
		q.Set("to", "latest")
	}
	if q.Get("path") == "" {
		return misuse("--text compares one file: give its PATH")
	}
	var d api.TextDifference
	if err := f.Get(ctx, "/volumes/"+url.PathEscape(volume)+"/text-difference", q, &d); err != nil {
		return err
	}
	return f.show(d, func() {
		switch {
		case d.Refused != "":
			f.say("%s cannot be compared line by line: %s.", d.Path, d.Refused)
		case d.Same:
			f.say("%s is the same in both.", d.Path)
		}
		for _, l := range d.Lines {
			switch l.What {
			case "skipped":
				f.say("     ... %s", l.Text)
			case "added":
				f.say("%5d + %s", l.New, l.Text)
			case "removed":
				f.say("%5d - %s", l.Old, l.Text)
			default:
				f.say("%5d   %s", l.New, l.Text)
			}
		}
	})
}
