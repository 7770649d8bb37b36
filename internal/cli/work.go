package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
)

func errorf(format string, args ...any) error { return fmt.Errorf(format, args...) }

// bar shows a run's progress on a terminal as a bar, elsewhere as a line now and then.
type bar struct {
	f     *face
	p     *mpb.Progress
	b     *mpb.Bar
	last  time.Time
	state *api.Run
}

func newBar(f *face) *bar {
	b := &bar{f: f, last: time.Now()}
	if !f.json && terminalWidth(f.err) > 0 {
		b.p = mpb.New(mpb.WithOutput(f.err), mpb.WithWidth(40))
	}
	return b
}

func (b *bar) update(r *api.Run, since time.Duration) {
	b.state = r
	if r.Over() || b.f.json {
		return
	}
	if b.p == nil {
		if time.Since(b.last) > 5*time.Second {
			b.last = time.Now()
			fmt.Fprintf(b.f.err, "%s of %s: %s\n", r.Kind, r.Subject, progressText(r))
		}
		return
	}
	if b.b == nil && since > 600*time.Millisecond {
		b.b = b.p.AddBar(max(1, r.Progress.TotalBytes), mpb.BarRemoveOnComplete(), mpb.PrependDecorators(decor.Name(r.Kind+" ")),
			mpb.AppendDecorators(decor.Any(func(decor.Statistics) string { return progressText(b.state) })))
	}
	if b.b != nil {
		b.b.SetTotal(max(1, r.Progress.TotalBytes), false)
		b.b.SetCurrent(r.Progress.DoneBytes)
	}
}

func (b *bar) end() {
	if b.b != nil {
		b.b.Abort(true)
	}
	if b.p != nil {
		b.p.Wait()
	}
}

func progressText(r *api.Run) string {
	p := r.Progress
	s := r.State
	if p.Phase != "" {
		s = p.Phase
	}
	if p.DoneBytes > 0 {
		s += ", " + size(p.DoneBytes)
	}
	if p.BytesPerSecond > 0 {
		s += fmt.Sprintf(" at %s/s", size(int64(p.BytesPerSecond)))
	}
	if p.SecondsLeft > 1 {
		s += fmt.Sprintf(", about %s left", age(int64(p.SecondsLeft)))
	}
	return s
}

func policyCommand() *cli.Command {
	return &cli.Command{Name: "policy", Usage: "which volumes, when, kept for how long", Commands: []*cli.Command{
		{Name: "put", Usage: "store a policy document; - reads standard input", ArgsUsage: "FILE", Description: "Example: candid policy put survey-standard.yaml",
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "accept that snapshots expire by it"}},
			Action: with("FILE", policyPut)},
		{Name: "list", Usage: "all policies", Description: "Example: candid policy list", Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var ps []api.Policy
			if err := f.Get(ctx, "/policies", nil, &ps); err != nil {
				return err
			}
			return f.show(ps, func() {
				var rows [][]string
				for _, p := range ps {
					rows = append(rows, []string{p.Name, strconv.Itoa(p.Version), when(p.Changed), strings.Join(p.Take, "; "), strings.Join(p.Keep, "; "), strings.Join(p.Volumes, ", ")})
				}
				f.list([]string{"POLICY", "VERSION", "CHANGED", "TAKES", "KEEPS", "VOLUMES"}, rows, "No policies yet. Write one and store it: candid policy put FILE")
			})
		})},
		{Name: "show", Usage: "one policy document", ArgsUsage: "NAME", Description: "Example: candid policy show survey-standard", Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var p api.Policy
			if err := f.Get(ctx, "/policies/"+url.PathEscape(cmd.Args().First()), nil, &p); err != nil {
				return err
			}
			return f.show(p, func() {
				fmt.Fprint(f.out, p.Body)
				f.say("# version %d, changed %s by %s; chooses: %s", p.Version, when(p.Changed), p.ChangedBy, strings.Join(p.Volumes, ", "))
			})
		})},
		{Name: "remove", Usage: "remove a policy; what was kept by it stays", ArgsUsage: "NAME", Description: "Example: candid policy remove trial", Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
			return f.sentence(func(out any) error { return f.Delete(ctx, "/policies/"+url.PathEscape(cmd.Args().First()), out) })
		})},
	}}
}

func policyPut(ctx context.Context, f *face, cmd *cli.Command) error {
	var raw []byte
	var err error
	if name := cmd.Args().First(); name == "-" {
		raw, err = io.ReadAll(io.LimitReader(os.Stdin, 1<<20))
	} else {
		raw, err = os.ReadFile(name)
	}
	if err != nil {
		return &exitError{exitMisuse, fmt.Errorf("the policy file cannot be read: %w", err)}
	}
	var check api.PolicyCheck
	if err := f.Post(ctx, "/policies/check", api.PolicyPut{Body: string(raw)}, &check); err != nil {
		return err
	}
	if len(check.Problems) == 0 && len(check.Letting) > 0 && !cmd.Bool("yes") {
		for i, g := range check.Letting {
			if i == 20 {
				fmt.Fprintf(f.err, "  … and %d more\n", len(check.Letting)-20)
				break
			}
			fmt.Fprintf(f.err, "  %s of %s, taken %s: %s\n", short(g.ID), g.Volume, when(g.Taken), g.Why)
		}
		return &exitError{exitFailed, fmt.Errorf("nothing was stored: under this policy %s would expire and %s come back after grace and a sweep; say --yes to accept that",
			plural(len(check.Letting), "snapshot", "snapshots"), size(check.Bytes))}
	}
	var p api.Policy
	if err := f.Put(ctx, "/policies", api.PolicyPut{Body: string(raw)}, &p); err != nil {
		return err
	}
	return f.show(p, func() {
		f.say("Policy %s is stored as version %d.", p.Name, p.Version)
		for _, t := range p.Take {
			f.say("takes  %s", t)
		}
		for _, k := range p.Keep {
			f.say("keeps  %s", k)
		}
		if len(p.Volumes) == 0 {
			f.say("! It chooses no volume yet: no volume has these labels or names.")
		} else {
			f.say("for    %s", strings.Join(p.Volumes, ", "))
		}
	})
}

func pruneCommand() *cli.Command {
	return &cli.Command{Name: "prune", Usage: "apply the rules now: expired snapshots enter grace, those past grace go", ArgsUsage: "[VOLUME]",
		Description: "Example: candid prune --dry-run",
		Flags:       append([]cli.Flag{&cli.BoolFlag{Name: "dry-run", Usage: "only tell what would go, why, and what comes back"}}, runFlags()...),
		Action: with("[VOLUME]", func(ctx context.Context, f *face, cmd *cli.Command) error {
			ask := api.PruneAsk{Volume: cmd.Args().First()}
			if !cmd.Bool("dry-run") {
				var r api.Run
				if err := f.Post(ctx, "/prune", ask, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			}
			var p api.PruneResult
			if err := f.Post(ctx, "/prune/plan", ask, &p); err != nil {
				return err
			}
			return f.show(p, func() {
				if p.Held != "" {
					f.say("Nothing is removed at present: %s.", p.Held)
					return
				}
				var rows [][]string
				for _, g := range p.Going {
					rows = append(rows, []string{short(g.ID), g.Volume, when(g.Taken), g.What, g.Why})
				}
				f.list([]string{"ID", "VOLUME", "TAKEN", "WHAT", "WHY"}, rows, "Nothing has expired.")
				f.say("%d would enter grace, %d would be removed, %d kept again. A sweep would then give back %s; %s more when those entering grace are removed too.",
					p.EnterGrace, p.Removed, p.Recalled, size(p.RemovedBytes), size(p.GraceBytes))
			})
		})}
}

func storeCommand() *cli.Command {
	return &cli.Command{Name: "store", Usage: "where snapshots are kept", Commands: []*cli.Command{
		{Name: "usage", Usage: "what the store holds, by volume", Description: "Example: candid store usage", Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var u api.Usage
			if err := f.Get(ctx, "/store", nil, &u); err != nil {
				return err
			}
			return f.show(u, func() {
				f.say("%s: %s stored in %s, %d objects, %s; %s wait to be given back by a sweep; %s are free.", u.Place, size(u.StoredBytes), plural(u.Packs, "pack", "packs"),
					u.Objects, plural(u.Snapshots, "snapshot", "snapshots"), size(u.DeadBytes), size(u.FreeBytes))
				var rows [][]string
				for _, v := range u.Volumes {
					rows = append(rows, []string{v.Volume, strconv.Itoa(v.Snapshots), size(v.Referenced), size(v.Unique)})
				}
				f.list([]string{"VOLUME", "SNAPSHOTS", "NEEDS", "BACK IF ALL WENT"}, rows, "No volumes yet.")
			})
		})},
		{Name: "sweep", Usage: "give back what no snapshot needs", Description: "Example: candid store sweep --settle",
			Flags: append([]cli.Flag{&cli.BoolFlag{Name: "settle", Usage: "also pack what is there tighter; takes longer"}}, runFlags()...),
			Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
				var r api.Run
				if err := f.Post(ctx, "/store/sweep", api.SweepAsk{Settle: cmd.Bool("settle")}, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			})},
		{Name: "verify", Usage: "read everything and recompute every identity", Description: "Example: candid store verify --strict", Flags: runFlags(),
			Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
				var r api.Run
				if err := f.Post(ctx, "/store/verify", nil, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			})},
		{Name: "rebuild-catalogue", Usage: "make the records of volumes and snapshots anew from the store", Description: "Example: candid store rebuild-catalogue",
			Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
				return f.sentence(func(out any) error { return f.Post(ctx, "/store/rebuild-catalogue", nil, out) })
			})},
		{Name: "release", Usage: "let removal go on after a rebuild", Description: "Example: candid store release",
			Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
				return f.sentence(func(out any) error { return f.Post(ctx, "/store/release", nil, out) })
			})},
	}}
}

func siteCommand() *cli.Command {
	return &cli.Command{Name: "site", Usage: "other sites", Commands: []*cli.Command{
		{Name: "invite", Usage: "make an invitation that another site can use once, within an hour", Description: "Example: candid site invite",
			Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
				var i api.Invitation
				if err := f.Post(ctx, "/sites/invitations", nil, &i); err != nil {
					return err
				}
				return f.show(i, func() {
					f.say("%s", i.Text)
					fmt.Fprintf(f.err, "Use it once at the other site, before %s: candid site pair INVITATION\n", when(i.Ends))
				})
			})},
		{Name: "pair", Usage: "pair with the site that made the invitation", ArgsUsage: "INVITATION", Description: "Example: candid site pair harbor-invitation:…",
			Action: with("INVITATION", func(ctx context.Context, f *face, cmd *cli.Command) error {
				var p api.Peer
				if err := f.Post(ctx, "/sites", api.PairAsk{Invitation: cmd.Args().First()}, &p); err != nil {
					return err
				}
				return f.show(p, func() {
					f.say("Paired with %s at %s.", p.Name, strings.Join(p.Addresses, ", "))
					f.say("Carry snapshots there: candid route add NAME --to %s --volumes key=value", p.Name)
				})
			})},
		{Name: "list", Usage: "this site and those it is paired with", Description: "Example: candid site list", Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var self api.Site
			var ps []api.Peer
			if err := errors.Join(f.Get(ctx, "/site", nil, &self), f.Get(ctx, "/sites", nil, &ps)); err != nil {
				return err
			}
			return f.show(map[string]any{"site": self, "paired": ps}, func() {
				rows := [][]string{{self.Name, "this site", short(self.Key), self.Peers, "-"}}
				for _, p := range ps {
					rows = append(rows, []string{p.Name, "paired", short(p.Key), strings.Join(p.Addresses, ", "), whenPtr(p.Seen)})
				}
				f.list([]string{"SITE", "", "KEY", "ADDRESSES", "LAST SEEN"}, rows, "")
			})
		})},
		{Name: "check", Usage: "test whether a paired site answers and is the one it was", ArgsUsage: "NAME", Description: "Example: candid site check stonewick",
			Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
				var c api.PeerCheck
				if err := f.Post(ctx, "/sites/"+url.PathEscape(cmd.Args().First())+"/check", nil, &c); err != nil {
					return err
				}
				return f.show(c, func() { f.say("%s", c.Sentence) })
			})},
	}}
}

func routeCommand() *cli.Command {
	return &cli.Command{Name: "route", Usage: "what is carried to other sites", Commands: []*cli.Command{
		{Name: "add", Usage: "carry each new snapshot of chosen volumes to a paired site", ArgsUsage: "NAME", Description: "Example: candid route add to-stonewick --to stonewick --volumes collection=herbarium",
			Flags: []cli.Flag{&cli.StringFlag{Name: "to", Usage: "the paired site", Required: true},
				&cli.StringSliceFlag{Name: "volumes", Usage: "key=value of labels (all must match), or name=VOLUME", Required: true}},
			Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
				ask := api.RouteAdd{Name: cmd.Args().First(), To: cmd.String("to")}
				var pairs []string
				for _, p := range cmd.StringSlice("volumes") {
					if n, ok := strings.CutPrefix(p, "name="); ok {
						ask.Names = append(ask.Names, n)
					} else {
						pairs = append(pairs, p)
					}
				}
				var err error
				if ask.Labels, err = labels(pairs); err != nil {
					return err
				}
				var r api.Route
				if err := f.Post(ctx, "/routes", ask, &r); err != nil {
					return err
				}
				return f.show(r, func() { f.say("Route %s to %s is open, for %s. %s", r.Name, r.To, routeVolumes(&r), r.Sentence) })
			})},
		{Name: "list", Usage: "all routes", Description: "Example: candid route list", Action: with("", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var rs []api.Route
			if err := f.Get(ctx, "/routes", nil, &rs); err != nil {
				return err
			}
			return f.show(rs, func() {
				var rows [][]string
				for _, r := range rs {
					rows = append(rows, []string{r.Name, r.To, r.State, size(r.SentBytes), size(r.SavedBytes), r.Sentence})
				}
				f.list([]string{"ROUTE", "TO", "STATE", "SENT", "SAVED", ""}, rows, "No routes yet. Open one: candid route add NAME --to SITE --volumes key=value")
			})
		})},
		{Name: "show", Usage: "one route, by volume", ArgsUsage: "NAME", Description: "Example: candid route show to-stonewick", Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var r api.Route
			if err := f.Get(ctx, "/routes/"+url.PathEscape(cmd.Args().First()), nil, &r); err != nil {
				return err
			}
			return f.show(r, func() {
				f.say("%s is %s. %s", r.Name, r.State, r.Sentence)
				f.say("Sent %s in all; %s did not have to be sent.", size(r.SentBytes), size(r.SavedBytes))
				var rows [][]string
				for _, v := range r.Volumes {
					lag := "-"
					if v.Newest != nil {
						lag = age(v.LagSeconds)
					}
					rows = append(rows, []string{v.Volume, whenPtr(v.Newest), lag, strconv.Itoa(v.Backlog), strconv.Itoa(v.Carried)})
				}
				f.list([]string{"VOLUME", "NEWEST THERE", "LAG", "BACKLOG", "CARRIED"}, rows, "It chooses no volume at present.")
			})
		})},
		{Name: "run", Usage: "carry now", ArgsUsage: "NAME", Description: "Example: candid route run to-stonewick", Flags: runFlags(), Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
			var r api.Run
			if err := f.Post(ctx, "/routes/"+url.PathEscape(cmd.Args().First())+"/runs", nil, &r); err != nil {
				return err
			}
			return f.follow(ctx, cmd, &r)
		})},
		{Name: "remove", Usage: "close a route; what it carried stays", ArgsUsage: "NAME", Description: "Example: candid route remove trial", Action: with("NAME", func(ctx context.Context, f *face, cmd *cli.Command) error {
			return f.sentence(func(out any) error { return f.Delete(ctx, "/routes/"+url.PathEscape(cmd.Args().First()), out) })
		})},
	}}
}

func routeVolumes(r *api.Route) string {
	var names []string
	for _, v := range r.Volumes {
		names = append(names, v.Volume)
	}
	if len(names) == 0 {
		return "no volume yet"
	}
	return strings.Join(names, ", ")
}

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
		f.say("%d would be created, %d replaced, %d removed, %d skipped, %d adjusted; %d are the same already. %s to write, %s are free. Nothing was changed.",
			p.Created, p.Replaced, p.Removed, p.Skipped, p.Adjusted, p.Kept, size(p.Bytes), size(p.FreeBytes))
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
		{Name: "list", Usage: "runs, newest first", Description: "Example: candid run list --limit 50", Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Value: 20}, &cli.StringFlag{Name: "of", Usage: "only those of this volume or route"}},
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
