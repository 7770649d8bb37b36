package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func explainCommand() *cli.Command {
	return &cli.Command{Name: "explain", Usage: "what answers for a moment of a volume, and why; without one, what " +
		"protects it", ArgsUsage: "VOLUME",
		Description: `Example: candid explain herbarium-scans --at "2026-03-04 14:05"`,
		Flags: []cli.Flag{&cli.StringFlag{Name: "at", Usage: "WHEN: RFC 3339, \"2026-03-04 14:05\", -2h, latest, or " +
			"a snapshot's id"}},
		Action: with("VOLUME", func(ctx context.Context, f *session, cmd *cli.Command) error {
			q := url.Values{}
			if at := cmd.String("at"); at != "" {
				q.Set("at", instant(at))
			}
			var e api.Explanation
			if err := f.Get(ctx, "/volumes/"+url.PathEscape(cmd.Args().First())+"/explanation", q, &e); err != nil {
				return err
			}
			return f.show(e, func() {
				for _, s := range e.Sentences {
					f.say("%s", s)
				}
				for i, g := range e.Gaps {
					if i == 20 {
						f.say("  … and %d more", len(e.Gaps)-20)
						break
					}
					f.say("  due %s: %s", when(g.Due), g.Cause)
				}
			})
		})}
}

func spaceCommand() *cli.Command {
	return &cli.Command{Name: "space", Usage: "what snapshots take, how that grows, when it comes back",
		ArgsUsage: "[VOLUME]", Description: "Example: candid space herbarium-scans",
		Commands: []*cli.Command{
			{Name: "if-removed", Usage: "what removing these snapshots would give back, exactly", ArgsUsage: "ID...",
				Description: "Example: candid space if-removed 3f9a0c11b2d4 77ab01c9e5f0",
				Action: with("ID [ID...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var r api.Freeing
					if err := f.Post(ctx, "/snapshots/freeing", api.FreeAsk{IDs: cmd.Args().Slice()}, &r); err != nil {
						return err
					}
					return f.show(r, func() {
						var rows [][]string
						for _, s := range r.Snapshots {
							rows = append(rows, []string{short(s.ID), s.Volume, when(s.Taken), size(s.AloneBytes)})
						}
						f.list([]string{"ID", "VOLUME", "TAKEN", "BACK IF ONLY IT WENT"}, rows, "")
						f.say("%s", r.Sentence)
					})
				})},
		},
		Action: with("[VOLUME]", func(ctx context.Context, f *session, cmd *cli.Command) error {
			names := cmd.Args().Slice()
			if len(names) == 0 {
				var vs []api.Volume
				if err := f.Get(ctx, "/volumes", nil, &vs); err != nil {
					return err
				}
				for _, v := range vs {
					names = append(names, v.Name)
				}
			}
			var all []api.Space
			for _, n := range names {
				var s api.Space
				if err := f.Get(ctx, "/volumes/"+url.PathEscape(n)+"/space", nil, &s); err != nil {
					return err
				}
				all = append(all, s)
			}
			if cmd.Args().Present() {
				return f.show(all[0], func() {
					for _, s := range all[0].Sentences {
						f.say("%s", s)
					}
					var rows [][]string
					for _, r := range all[0].Returns {
						rows = append(rows, []string{plural(r.Days, "day", "days"), when(r.By), strconv.Itoa(r.Snapshots), size(r.Bytes)})
					}
					f.list([]string{"WITHIN", "BY", "SNAPSHOTS GO", "COMES BACK"}, rows, "")
				})
			}
			var u api.Usage
			if err := f.Get(ctx, "/store", nil, &u); err != nil {
				return err
			}
			return f.show(all, func() {
				var rows [][]string
				for _, s := range all {
					back := "-"
					for _, r := range s.Returns {
						if r.Days == 30 {
							back = size(r.Bytes)
						}
					}
					rows = append(rows, []string{s.Volume, strconv.Itoa(s.Snapshots), size(s.LiveBytes), size(s.Referenced),
						size(s.Unique), size(s.AddedPerDay), back})
				}
				f.list([]string{"VOLUME", "SNAPSHOTS", "FILES", "NEEDS", "ITS OWN", "ADDED A DAY", "BACK IN 30 DAYS"}, rows,
					"No volumes yet.")
				f.say("%s", u.Forecast.Sentence)
				if u.BallastWanted > 0 {
					f.say("Ballast: %s of %s are set aside, which only snapshots may use.", size(u.BallastHeld), size(u.BallastWanted))
				}
				for _, c := range u.Caps {
					f.say("Cap of %s %s: %s", c.Scope, c.Name, c.Sentence)
				}
			})
		})}
}

func reportCommand() *cli.Command {
	return &cli.Command{Name: "report", Usage: "what an auditor can keep", Commands: []*cli.Command{
		{Name: "objectives", Usage: "how well objectives were met, by volume and place",
			Description: "Example: candid report objectives --since 2026-01-01 --csv objectives.csv",
			Flags: []cli.Flag{&cli.StringFlag{Name: "since", Usage: "WHEN it begins: a date, or -90d; 30 days ago " +
				"when not given"}, &cli.StringFlag{Name: "csv", Usage: "write it to this file as comma-separated values; - is " +
				"standard output"}},
			Action: with("", reportObjectives)},
	}}
}

func reportObjectives(ctx context.Context, f *session, cmd *cli.Command) error {
	q := url.Values{}
	if since := cmd.String("since"); since != "" {
		t, ok := parseWhen(since, time.Now())
		if !ok {
			return misuse("%q is not a time: write 2026-01-01, 2026-01-01 14:00, or -90d", since)
		}
		q.Set("since", t.Format(time.RFC3339))
	}
	var r api.Objectives
	if err := f.Get(ctx, "/reports/objectives", q, &r); err != nil {
		return err
	}
	if name := cmd.String("csv"); name != "" {
		return f.objectivesCSV(&r, name)
	}
	return f.show(r, func() {
		f.say("%s, from %s to %s, by the objectives as they are now", r.Site, when(r.Since), when(r.Until))
		var rows [][]string
		for _, x := range r.Rows {
			goal, worst := "-", "-"
			if x.ObjectiveSeconds > 0 {
				goal = age(x.ObjectiveSeconds)
			}
			if x.WorstAt != nil {
				worst = fmt.Sprintf("%s, %s", age(x.WorstAgeSeconds), when(*x.WorstAt))
			}
			rows = append(rows, []string{x.Volume, x.Place, goal, fmt.Sprintf("%.2f %%", x.OnTargetPercent),
				spell(x.LateSeconds), strconv.Itoa(x.LateCount), spell(x.UnprotectedSeconds), spell(x.PausedSeconds),
				strconv.Itoa(x.Gaps), worst})
		}
		f.list([]string{"VOLUME", "PLACE", "OBJECTIVE", "ON TARGET", "LATE", "TIMES", "UNPROTECTED", "PAUSED", "GAPS",
			"OLDEST IT GOT"}, rows, "Nothing was protected in that time.")
		for i, l := range r.Late {
			if i == 0 {
				f.say("")
			}
			if i == 30 {
				f.say("… and %d more times; --json lists all", len(r.Late)-30)
				break
			}
			end := "to " + when(l.To)
			if l.Open {
				end = "and still"
			}
			f.say("%s was late at %s from %s %s", l.Volume, l.Place, when(l.From), end)
		}
		for _, x := range r.Recovery {
			goal := ""
			if x.ObjectiveSeconds > 0 {
				goal = fmt.Sprintf(", objective %s", age(x.ObjectiveSeconds))
			}
			f.say("%s at %s: %d of %s of restores good; all of it back in about %s%s (tried %s)", x.Volume, x.Place, x.Good,
				plural(x.Trials, "trial", "trials"), age(x.WorstSeconds), goal, when(x.LastAt))
		}
		for _, x := range r.Drills {
			f.say("%s at %s: %d of %s by %s good; all up within %s%s, the oldest state %s%s (last %s)", x.Volume,
				x.Place, x.Good, plural(x.Drills, "drill", "drills"), x.Runbook, seconds(x.WorstTime), ofObjective(x.TimeObjective),
				seconds(x.WorstLoss), ofObjective(x.LossObjective), when(x.LastAt))
		}
		if n := len(r.Gaps); n > 0 {
			f.say("%s missed; the last one of %s due %s: %s", plural(n, "due time was", "due times were"), r.Gaps[n-1].Volume,
				when(r.Gaps[n-1].Due), r.Gaps[n-1].Cause)
		}
	})
}

func ofObjective(secs int64) string {
	if secs == 0 {
		return ""
	}
	return " (objective " + age(secs) + ")"
}

// spell writes seconds, and - for none.
func spell(seconds int64) string {
	if seconds == 0 {
		return "-"
	}
	return age(seconds)
}

func (f *session) objectivesCSV(r *api.Objectives, name string) error {
	var b strings.Builder
	w := csv.NewWriter(&b)
	err := w.Write([]string{"site", "volume", "place", "since", "until", "objective_seconds", "on_target_seconds",
		"late_seconds", "unprotected_seconds", "paused_seconds", "on_target_percent", "late_count", "gaps",
		"worst_age_seconds", "worst_at", "restore_trials", "restore_trials_good", "recovery_seconds",
		"recovery_objective_seconds", "drills", "drills_good", "drill_loss_seconds", "drill_time_seconds"})
	for _, x := range r.Rows {
		worst := ""
		if x.WorstAt != nil {
			worst = x.WorstAt.Format(time.RFC3339)
		}
		n := func(v int64) string { return strconv.FormatInt(v, 10) }
		var back api.RecoveryRow
		for _, t := range r.Recovery {
			if t.Volume == x.Volume && t.Place == x.Place {
				back = t
			}
		}
		var drills api.DrillRow // over all runbooks
		for _, d := range r.Drills {
			if d.Volume == x.Volume && d.Place == x.Place {
				drills.Drills, drills.Good = drills.Drills+d.Drills, drills.Good+d.Good
				drills.WorstLoss, drills.WorstTime = max(drills.WorstLoss, d.WorstLoss), max(drills.WorstTime, d.WorstTime)
			}
		}
		err = errors.Join(err, w.Write([]string{r.Site, x.Volume, x.Place, r.Since.Format(time.RFC3339),
			r.Until.Format(time.RFC3339), n(x.ObjectiveSeconds), n(x.OnTargetSeconds), n(x.LateSeconds),
			n(x.UnprotectedSeconds), n(x.PausedSeconds), strconv.FormatFloat(x.OnTargetPercent, 'f', 4, 64),
			strconv.Itoa(x.LateCount), strconv.Itoa(x.Gaps), n(x.WorstAgeSeconds), worst, strconv.Itoa(back.Trials),
			strconv.Itoa(back.Good), n(back.WorstSeconds), n(back.ObjectiveSeconds), strconv.Itoa(drills.Drills),
			strconv.Itoa(drills.Good), strconv.FormatFloat(drills.WorstLoss, 'f', 3, 64),
			strconv.FormatFloat(drills.WorstTime, 'f', 3, 64)}))
	}
	w.Flush()
	if err = errors.Join(err, w.Error()); err != nil {
		return err
	}
	return f.keepReport(name, b.String(), plural(len(r.Rows), "row", "rows"))
}

// keepReport writes a report to a file, or to standard output.
func (f *session) keepReport(name, text, said string) error {
	if name == "-" {
		fmt.Fprint(f.out, text)
		return nil
	}
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		return &exitError{exitFailed, fmt.Errorf("the report cannot be written: %w", err)}
	}
	f.say("%s: %s.", name, said)
	return nil
}
