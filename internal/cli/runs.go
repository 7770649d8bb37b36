package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"

	"candidharbor/api"
	"candidharbor/internal/phrase"

	"github.com/urfave/cli/v3"
)

func runCommand() *cli.Command {
	id := func(cmd *cli.Command) (int64, error) {
		n, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
		if err != nil || n < 1 {
			return 0, misuse("%q is not a run: give its number, from candid run list", cmd.Args().First())
		}
		return n, nil
	}
	return &cli.Command{Name: "run", Usage: "what is and was done", Commands: []*cli.Command{
		{Name: "list", Usage: "runs, newest first", Description: "Example: candid run list --limit 50",
			Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many"}, &cli.StringFlag{Name: "of",
				Usage: "only those of this volume or route"}, &cli.StringFlag{Name: "kind",
				Usage: "only these, such as snapshot, carry or restore"}},
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var page api.Page[api.Run]
				if err := f.Get(ctx, "/runs", url.Values{"limit": {strconv.Itoa(cmd.Int("limit"))}, "subject": {cmd.String("of")},
					"kind": {cmd.String("kind")}}, &page); err != nil {
					return err
				}
				return f.show(page, func() {
					var rows [][]string
					for _, r := range page.Items {
						rows = append(rows, []string{strconv.FormatInt(r.ID, 10), when(r.Queued), r.Kind, r.Subject, r.State, r.AskedBy,
							phrase.FirstSentence(r.Outcome)})
					}
					f.list([]string{"RUN", "QUEUED", "KIND", "OF", "STATE", "ASKED BY", "OUTCOME"}, rows, "Nothing was run yet.")
				})
			})},
		{Name: "show", Usage: "one run with its log", ArgsUsage: "ID", Description: "Example: candid run show 17",
			Action: with("ID", func(ctx context.Context, f *session, cmd *cli.Command) error {
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
		{Name: "follow", Usage: "show a run until it is over", ArgsUsage: "ID", Description: "Example: candid run follow 17",
			Flags: runFlags(), Action: with("ID", func(ctx context.Context, f *session, cmd *cli.Command) error {
				n, err := id(cmd)
				if err != nil {
					return err
				}
				return f.followRun(ctx, cmd, n)
			})},
		{Name: "cancel", Usage: "end a run at its next safe point", ArgsUsage: "ID",
			Description: "Example: candid run cancel 17", Action: with("ID", func(ctx context.Context, f *session,
				cmd *cli.Command) error {
				n, err := id(cmd)
				if err != nil {
					return err
				}
				return f.sentence(func(out any) error { return f.Post(ctx, fmt.Sprintf("/runs/%d/cancel", n), nil, out) })
			})},
		{Name: "lifetimes", Usage: "how long the records of runs stay, by kind", ArgsUsage: "[KIND]",
			Description: "Examples:\n   candid run lifetimes\n   candid run lifetimes snapshot --for \"30 days\" --dry-run\n" +
				"   candid run lifetimes restore --for \"10 years\"\n   candid run lifetimes snapshot --as-others",
			Flags: []cli.Flag{&cli.StringFlag{Name: "for", Usage: "such as 30 days: 7 days to 100 years"},
				&cli.BoolFlag{Name: "as-others", Usage: "as long as those of which nothing is said"},
				&cli.BoolFlag{Name: "dry-run", Usage: "only say how many records would go"}},
			Action: with("[KIND]", runLifetimes)},
	}}
}

func runLifetimes(ctx context.Context, f *session, cmd *cli.Command) error {
	set := api.RunLifetimeSet{Kind: cmd.Args().First(), Keep: cmd.String("for"), DryRun: cmd.Bool("dry-run")}
	if set.Kind != "" {
		if (set.Keep == "") != cmd.Bool("as-others") {
			return misuse("say how long records of the kind %s stay, with --for, or --as-others", set.Kind)
		}
		var told api.RunLifetimeTold
		if err := f.Put(ctx, "/run-lifetimes", set, &told); err != nil {
			return err
		}
		return f.show(told, func() { f.say("%s", told.Sentence) })
	}
	if set.Keep != "" || cmd.Bool("as-others") || set.DryRun {
		return misuse("say of which kind, such as snapshot, or others for all of which nothing is said")
	}
	var all []api.RunLifetime
	if err := f.Get(ctx, "/run-lifetimes", nil, &all); err != nil {
		return err
	}
	return f.show(all, func() {
		var rows [][]string
		for _, l := range all {
			stay, records := l.Keep, strconv.FormatInt(l.Records, 10)
			if !l.Own {
				stay += ", as others"
			}
			if l.Kind == "others" {
				records = ""
			}
			rows = append(rows, []string{l.Kind, stay, records, whenPtr(l.Oldest)})
		}
		f.list([]string{"KIND", "STAY", "RECORDS", "SINCE"}, rows, "")
	})
}
