package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

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
