package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func restoreCommand() *cli.Command {
	return &cli.Command{Name: "restore", Usage: "bring files or a whole volume back as of a moment",
		ArgsUsage: "VOLUME [PATH...], or PATHs on the host",
		Description: "Examples:\n   candid restore herbarium-scans sheets/1931 --at -2h --in-place --dry-run\n   candid " +
			"restore herbarium-scans --at 2026-03-04 --to /srv/restored\n   candid restore field-notebooks notes --at latest " +
			"--tar notes.tar",
		Flags: append([]cli.Flag{&cli.StringFlag{Name: "at", Usage: "WHEN: RFC 3339, \"2026-03-04 14:05\", -2h, latest, " +
			"or a snapshot's id"},
			&cli.StringFlag{Name: "found", Usage: "instead of --at: the name of a point-in-time directory that others left, " +
				"from candid found list"},
			&cli.StringFlag{Name: "to", Usage: "directory on the site's host; of a disk, a file to be made there"},
			&cli.BoolFlag{Name: "in-place", Usage: "back where it was; a safety snapshot is taken first"},
			&cli.BoolFlag{Name: "disconnect", Usage: "of a disk in place: disconnect the clients that have it open; they lose " +
				"what they did not flush, and must open it anew"},
			&cli.BoolFlag{Name: "anew", Usage: "of a disk in place that cannot be opened: begin its image anew; what is left " +
				"of it is put aside, without a safety snapshot"},
			&cli.StringFlag{Name: "into", Usage: "another volume of the site, at the same paths; a safety snapshot of it is " +
				"taken first"},
			&cli.StringFlag{Name: "tar", Usage: "write an archive of everything that is recorded here, on this machine; - is " +
				"standard output"},
			&cli.StringFlag{Name: "zip", Usage: "write a ZIP archive here, without owners and attributes; - is standard output"},
			&cli.StringFlag{Name: "file", Usage: "write the content of the one PATH here; - is standard output"},
			&cli.StringFlag{Name: "from-site", Usage: "the site whose snapshot to use; only what is not here is fetched. " +
				"When not given: this site, then the others in order"},
			&cli.StringFlag{Name: "to-site", Usage: "restore on the host of this paired site, to a directory there or in place"},
			&cli.StringFlag{Name: "on-conflict", Usage: "skip, replace, older or keep-both (replace with " +
				"--in-place, else skip)"},
			&cli.BoolFlag{Name: "dry-run", Usage: "only tell what would be done"}}, runFlags()...),
		Action: with("VOLUME [PATH...]", restore)}
}

func restore(ctx context.Context, f *session, cmd *cli.Command) error {
	volume, paths, err := f.allInVolume(ctx, cmd)
	if err != nil {
		return err
	}
	where := 0
	for _, set := range []bool{cmd.String("to") != "", cmd.Bool("in-place"), cmd.String("into") != "",
		cmd.String("tar") != "", cmd.String("zip") != "", cmd.String("file") != ""} {
		if set {
			where++
		}
	}
	if where != 1 {
		return misuse("say where to: one of --to DIR, --in-place, --into VOLUME, --tar FILE, --zip FILE or --file FILE")
	}
	switch choice := cmd.String("on-conflict"); choice {
	case "", "skip", "replace", "older", "keep-both":
	default:
		return misuse("conflict choice %q: it must be skip, replace, older or keep-both", choice)
	}
	if (cmd.String("at") == "") == (cmd.String("found") == "") {
		return misuse("say as of when: --at WHEN, or --found NAME of what others left")
	}
	at := instant(cmd.String("at"))
	from := cmd.String("from-site")
	if download := cmd.String("to") == "" && cmd.String("into") == "" && !cmd.Bool("in-place"); download &&
		(from != "" || cmd.String("to-site") != "" || cmd.String("found") != "") {
		return misuse("--found, --from-site and --to-site go with --to, --into or --in-place: a download comes from the " +
			"site that is asked; with --desk SITE that is another")
	}
	for _, form := range []string{"tar", "zip"} {
		if name := cmd.String(form); name != "" {
			return f.download(name, func(w io.Writer) (int64, error) { return f.Archive(ctx, volume, at, form, paths, w) })
		}
	}
	if name := cmd.String("file"); name != "" {
		if len(paths) != 1 {
			return misuse("--file takes exactly one PATH; --tar or --zip take several and directories")
		}
		return f.download(name, func(w io.Writer) (int64, error) { return f.File(ctx, volume, at, paths[0], w) })
	}
	ask := api.RestoreAsk{Volume: volume, Paths: paths, At: at, To: cmd.String("to"), InPlace: cmd.Bool("in-place"),
		Into: cmd.String("into"), OnConflict: cmd.String("on-conflict"), DryRun: cmd.Bool("dry-run"), From: from,
		Found: cmd.String("found"), Disconnect: cmd.Bool("disconnect"), Anew: cmd.Bool("anew")}
	if site := cmd.String("to-site"); site != "" {
		var err error
		if f, err = f.atSite(ctx, site, &ask); err != nil {
			return err
		}
	}
	if !ask.DryRun {
		var r api.Run
		if err := f.Post(ctx, "/restores", ask, &r); err != nil {
			return err
		}
		return f.follow(ctx, cmd, &r)
	}
	var p api.RestoreResult
	if err := f.Post(ctx, "/restores/plan", ask, &p); err != nil {
		return err
	}
	return f.show(p, func() {
		if ask.Found != "" {
			f.say("From %s to %s:", p.Answer, p.Target)
		} else {
			f.say("From snapshot %s of %s (%s) to %s:", short(p.Snapshot.ID), volume, p.Answer, p.Target)
		}
		for i, a := range p.Acts {
			if i == 30 {
				f.say("  … and more")
				break
			}
			f.say("  %-8s %s", a.What, a.Path)
		}
		if p.From != "" {
			fetch := "this site has all of the content, nothing but names would be fetched"
			if p.FetchBytes > 0 {
				fetch = fmt.Sprintf("at most %s would be fetched from there, before compression", size(p.FetchBytes))
			}
			f.say("The snapshot is at %s: %s.", p.From, fetch)
		}
		room := ""
		if p.Bytes > 0 {
			room = fmt.Sprintf("; %s to write, %s are free", size(p.Bytes), size(p.FreeBytes))
		}
		f.say("%s%s. Nothing was changed: this is what would be done.", p.Summary, room)
		if p.Bytes > p.FreeBytes {
			f.say("There is not room for it at %s: make room first, choose fewer paths, or another directory with --to.",
				p.Target)
		}
	})
}

// atSite speaks with a paired site's API, where a volume goes by another name.
func (f *session) atSite(ctx context.Context, site string, ask *api.RestoreAsk) (*session, error) {
	var here api.Site
	if err := f.Get(ctx, "/site", nil, &here); err != nil {
		return nil, err
	}
	if site == here.Name {
		return f, nil
	}
	name, origin, far := strings.Cut(ask.Volume, "@")
	switch {
	case !far:
		ask.Volume = name + "@" + here.Name
	case origin == site:
		ask.Volume = name
	}
	if ask.From == site {
		ask.From = ""
	}
	there := *f
	there.Client = f.Client.At(site)
	return &there, nil
}

// download writes to a file, which appears when it is whole, or to standard output.
func (f *session) download(name string, get func(io.Writer) (int64, error)) error {
	if name == "-" {
		_, err := get(f.raw)
		return err
	}
	out, err := os.OpenFile(name+".part", os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return &exitError{exitFailed, fmt.Errorf("the download cannot be written: %w", err)}
	}
	n, err := get(out)
	if err == nil {
		err = out.Sync()
	}
	if cerr := out.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(name+".part", name)
	}
	if err != nil {
		os.Remove(name + ".part")
		return err
	}
	return f.show(map[string]any{"file": name, "bytes": n}, func() { f.say("%s: %s.", name, size(n)) })
}

func undoCommand() *cli.Command {
	return &cli.Command{Name: "undo", Usage: "take back what a restore in place did, to the state before it",
		ArgsUsage:   "RUN",
		Description: "Example: candid undo 17", Flags: runFlags(),
		Action: with("RUN", func(ctx context.Context, f *session, cmd *cli.Command) error {
			n, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
			if err != nil || n < 1 {
				return misuse("%q is not a run: give its number, from candid run list", cmd.Args().First())
			}
			var r api.Run
			if err := f.Post(ctx, fmt.Sprintf("/runs/%d/undo", n), nil, &r); err != nil {
				return err
			}
			return f.follow(ctx, cmd, &r)
		})}
}
