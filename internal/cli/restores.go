package cli

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strconv"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func restoreCommand() *cli.Command {
	return &cli.Command{Name: "restore", Usage: "bring files or a whole volume back as of a moment", ArgsUsage: "VOLUME [PATH...]",
		Description: "Examples:\n   candid restore herbarium-scans sheets/1931 --at -2h --in-place --dry-run\n   candid restore herbarium-scans --at 2026-03-04 --to /srv/restored\n   candid restore field-notebooks notes --at latest --tar notes.tar",
		Flags: append([]cli.Flag{&cli.StringFlag{Name: "at", Required: true, Usage: "WHEN: RFC 3339, \"2026-03-04 14:05\", -2h, latest, or a snapshot's id"},
			&cli.StringFlag{Name: "to", Usage: "directory on the site's host"}, &cli.BoolFlag{Name: "in-place", Usage: "back where it was; a safety snapshot is taken first"},
			&cli.StringFlag{Name: "tar", Usage: "write an archive here, on this machine; - is standard output"},
			&cli.StringFlag{Name: "on-conflict", Usage: "skip, replace, older or keep-both (skip with --to, replace with --in-place)"},
			&cli.BoolFlag{Name: "dry-run", Usage: "only tell what would be done"}}, runFlags()...),
		Action: with("VOLUME [PATH...]", restore)}
}

func restore(ctx context.Context, f *face, cmd *cli.Command) error {
	volume, paths := cmd.Args().First(), cmd.Args().Tail()
	where := 0
	for _, set := range []bool{cmd.String("to") != "", cmd.Bool("in-place"), cmd.String("tar") != ""} {
		if set {
			where++
		}
	}
	if where != 1 {
		return misuse("say where to: one of --to DIR, --in-place or --tar FILE")
	}
	switch choice := cmd.String("on-conflict"); choice {
	case "", "skip", "replace", "older", "keep-both":
	default:
		return misuse("conflict choice %q: it must be skip, replace, older or keep-both", choice)
	}
	at := moment(cmd.String("at"))
	if name := cmd.String("tar"); name != "" {
		return f.download(ctx, volume, at, paths, name)
	}
	ask := api.RestoreAsk{Volume: volume, Paths: paths, At: at, To: cmd.String("to"), InPlace: cmd.Bool("in-place"), OnConflict: cmd.String("on-conflict"), DryRun: cmd.Bool("dry-run")}
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
		f.say("From snapshot %s of %s (%s) to %s:", short(p.Snapshot.ID), volume, p.Answer, p.Target)
		for i, a := range p.Acts {
			if i == 30 {
				f.say("  … and more")
				break
			}
			f.say("  %-8s %s", a.What, a.Path)
		}
		f.say("%s; %s to write, %s are free. Nothing was changed: this is what would be done.", p.Summary, size(p.Bytes), size(p.FreeBytes))
	})
}

func (f *face) download(ctx context.Context, volume, at string, paths []string, name string) error {
	if name == "-" {
		_, err := f.Archive(ctx, volume, at, paths, f.out)
		return err
	}
	out, err := os.OpenFile(name+".part", os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return &exitError{exitFailed, fmt.Errorf("the archive cannot be written: %w", err)}
	}
	n, err := f.Archive(ctx, volume, at, paths, out)
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

func runCommand() *cli.Command {
	id := func(cmd *cli.Command) (int64, error) {
		n, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
		if err != nil || n < 1 {
			return 0, misuse("%q is not a run: give its number, from candid run list", cmd.Args().First())
		}
		return n, nil
	}
	return &cli.Command{Name: "run", Usage: "what is and was done", Commands: []*cli.Command{
		{Name: "list", Usage: "runs, newest first", Description: "Example: candid run list --limit 50", Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many"}, &cli.StringFlag{Name: "of", Usage: "only those of this volume or route"}},
			Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
				var page api.Page[api.Run]
				if err := f.Get(ctx, "/runs", url.Values{"limit": {strconv.Itoa(cmd.Int("limit"))}, "subject": {cmd.String("of")}}, &page); err != nil {
					return err
				}
				return f.show(page, func() {
					var rows [][]string
					for _, r := range page.Items {
						rows = append(rows, []string{strconv.FormatInt(r.ID, 10), when(r.Queued), r.Kind, r.Subject, r.State, r.AskedBy, r.Outcome})
					}
					f.list([]string{"RUN", "QUEUED", "KIND", "OF", "STATE", "ASKED BY", "OUTCOME"}, rows, "Nothing was run yet.")
				})
			})},
		{Name: "show", Usage: "one run with its log", ArgsUsage: "ID", Description: "Example: candid run show 17", Action: with("ID", func(ctx context.Context, f *face, cmd *cli.Command) error {
			n, err := id(cmd)
			if err != nil {
				return err
			}
			var r api.Run
			if err := f.Get(ctx, fmt.Sprintf("/runs/%d", n), nil, &r); err != nil {
				return err
			}
			return f.show(r, func() {
				f.say("run %d: %s of %s, asked by %s", r.ID, r.Kind, r.Subject, r.AskedBy)
				f.say("state    %s", r.State)
				f.say("queued   %s, began %s, ended %s", when(r.Queued), whenPtr(r.Began), whenPtr(r.Ended))
				if !r.Over() {
					f.say("now      %s", progressText(&r))
				}
				f.say("outcome  %s", r.Outcome)
				for _, l := range r.Log {
					f.say("  %s  %s", when(l.At), l.Text)
				}
			})
		})},
		{Name: "follow", Usage: "show a run until it is over", ArgsUsage: "ID", Description: "Example: candid run follow 17", Flags: runFlags(), Action: with("ID", func(ctx context.Context, f *face, cmd *cli.Command) error {
			n, err := id(cmd)
			if err != nil {
				return err
			}
			return f.followRun(ctx, cmd, n)
		})},
		{Name: "cancel", Usage: "end a run at its next safe point", ArgsUsage: "ID", Description: "Example: candid run cancel 17", Action: with("ID", func(ctx context.Context, f *face, cmd *cli.Command) error {
			n, err := id(cmd)
			if err != nil {
				return err
			}
			return f.sentence(func(out any) error { return f.Post(ctx, fmt.Sprintf("/runs/%d/cancel", n), nil, out) })
		})},
	}}
}

func tokenCommand() *cli.Command {
	return &cli.Command{Name: "token", Usage: "who may come by HTTP", Commands: []*cli.Command{
		{Name: "add", Usage: "make a token; it is shown this once", ArgsUsage: "NAME", Description: "Example: candid token add night-desk", Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var t api.Token
			if err := f.Post(ctx, "/tokens", api.TokenAdd{Name: cmd.Args().First()}, &t); err != nil {
				return err
			}
			return f.show(t, func() { f.say("%s", t.Text) })
		})},
		{Name: "list", Usage: "all tokens, without their texts", Description: "Example: candid token list", Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var ts []api.Token
			if err := f.Get(ctx, "/tokens", nil, &ts); err != nil {
				return err
			}
			return f.show(ts, func() {
				var rows [][]string
				for _, t := range ts {
					rows = append(rows, []string{t.Name, when(t.Made)})
				}
				f.list([]string{"TOKEN", "MADE"}, rows, "No tokens yet. Make one: candid token add NAME")
			})
		})},
		{Name: "remove", Usage: "make a token useless", ArgsUsage: "NAME", Description: "Example: candid token remove night-desk", Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
			return f.sentence(func(out any) error { return f.Delete(ctx, "/tokens/"+url.PathEscape(cmd.Args().First()), out) })
		})},
	}}
}
