package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"net/url"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/retention"

	"github.com/urfave/cli/v3"
)

func drillCommand() *cli.Command {
	return &cli.Command{Name: "drill", Usage: "rehearse a runbook apart from all else, at the site that takes over",
		Commands: []*cli.Command{
			{Name: "start", Usage: "bring up what a runbook names as clones, do its steps, and take all away again",
				ArgsUsage: "RUNBOOK", Description: "Example: candid drill start field-station --keep \"30 minutes\"",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "at", Usage: "WHEN: as of this moment; the newest states when not given"},
					&cli.StringFlag{Name: "keep", Usage: "how long it stays up, such as \"1 hour\", or none; as the runbook " +
						"says when not given"},
					&cli.BoolFlag{Name: "no-wait", Usage: "return at once and let the work go on"}},
				Action: with("RUNBOOK", drillStart)},
			{Name: "list", Usage: "all drills, the newest first", Description: "Example: candid drill list",
				Action: with("", drillList)},
			{Name: "show", Usage: "the report of a drill, by its id, or of the last one by a runbook", ArgsUsage: "ID",
				Description: "Example: candid drill show field-station --csv drill.csv",
				Flags: []cli.Flag{&cli.StringFlag{Name: "csv", Usage: "write it to this file as comma-separated values; - is " +
					"standard output"}},
				Action: with("ID", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var out api.Failover
					if err := f.Get(ctx, "/drills/"+url.PathEscape(cmd.Args().First()), nil, &out); err != nil {
						return err
					}
					if name := cmd.String("csv"); name != "" {
						return f.drillCSV(&out, name)
					}
					return f.show(out, func() { f.drill(&out) })
				})},
			{Name: "end", Usage: "take a drill away, by its id or its runbook", ArgsUsage: "ID",
				Description: "Example: candid drill end field-station",
				Action: with("ID", func(ctx context.Context, f *session, cmd *cli.Command) error {
					return f.sentence(func(out any) error {
						return f.Post(ctx, "/drills/"+url.PathEscape(cmd.Args().First())+"/end", nil, out)
					})
				})},
		}}
}

func drillStart(ctx context.Context, f *session, cmd *cli.Command) error {
	var ask api.DrillAsk
	if at := cmd.String("at"); at != "" {
		t, ok := parseWhen(at, time.Now())
		if !ok {
			return misuse("%q is not a time: write 2026-01-01 14:00, or -2h", at)
		}
		ask.At = &t
	}
	if keep := cmd.String("keep"); keep != "" {
		var secs int64
		if keep != "none" {
			d, err := retention.ParseDuration(keep)
			if err != nil {
				return misuse("--keep: %s", err)
			}
			secs = int64(d.Seconds())
		}
		ask.KeepSeconds = &secs
	}
	name := cmd.Args().First()
	var out api.Failover
	if err := f.Post(ctx, "/runbooks/"+url.PathEscape(name)+"/drill", ask, &out); err != nil {
		return err
	}
	if cmd.Bool("no-wait") {
		return f.show(out, func() { f.say("It goes on: candid drill show %s", name) })
	}
	return f.followAct(ctx, &out, "/drills/", api.FailoverUp)
}

func drillList(ctx context.Context, f *session, _ *cli.Command) error {
	var all []api.Failover
	if err := f.Get(ctx, "/drills", nil, &all); err != nil {
		return err
	}
	return f.show(all, func() {
		var rows [][]string
		for _, x := range all {
			took := "-"
			if x.Drill.Up != nil {
				took = seconds(x.Drill.TimeSeconds)
			}
			rows = append(rows, []string{x.ID, x.Runbook, x.State, drillVerdict(&x), when(x.Began), took,
				seconds(x.Drill.LossSeconds), x.AskedBy})
		}
		f.list([]string{"ID", "RUNBOOK", "STATE", "WENT", "BEGAN", "ALL UP WITHIN", "OLDEST STATE", "BY"}, rows,
			"No drill has been held yet: candid drill start RUNBOOK")
	})
}

// drillVerdict says in few words how a drill went.
func drillVerdict(x *api.Failover) string {
	switch d := x.Drill; {
	case x.State == api.FailoverFailed:
		return "badly"
	case d.Up == nil:
		return "-"
	case !d.Good:
		return "with trouble"
	case !d.WithinTime:
		return "too slowly"
	case !d.WithinLoss:
		return "with too old states"
	}
	return "well"
}

func (f *session) drill(x *api.Failover) {
	d := x.Drill
	f.say("drill by %s (%s): %s, since %s, asked for by %s", x.Runbook, x.ID, x.State, when(x.Began), x.AskedBy)
	f.say("%s", x.Sentence)
	objective := func(secs int64) string {
		if secs == 0 {
			return "-"
		}
		return age(secs)
	}
	up := "-"
	if d.Up != nil {
		up = seconds(d.TimeSeconds)
	}
	f.say("")
	f.list([]string{"", "MEASURED", "OBJECTIVE"}, [][]string{{"time", up, objective(d.TimeObjective)},
		{"loss", seconds(d.LossSeconds), objective(d.LossObjective)}}, "")
	var rows [][]string
	for _, v := range x.Volumes {
		taken := "-"
		if v.Known != nil {
			taken = when(*v.Known)
		}
		place := v.Place
		if d.Gone != nil {
			place = "taken away"
		}
		rows = append(rows, []string{v.Volume, taken, seconds(v.LossSeconds), place})
	}
	f.say("")
	f.list([]string{"VOLUME", "AS OF", "AGE", "WHERE"}, rows, "")
	f.say("")
	f.steps(x)
	if x.Next != "" {
		f.say("%s: %s", x.Next, x.Command)
	}
}

// drillCSV writes a report: a line for the whole, one for each volume and one for each step.
func (f *session) drillCSV(x *api.Failover, name string) error {
	var b strings.Builder
	w := csv.NewWriter(&b)
	d := x.Drill
	n := func(v float64) string { return strconv.FormatFloat(v, 'f', 3, 64) }
	at := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.Format(time.RFC3339)
	}
	err := w.WriteAll([][]string{{"what", "name", "state", "at", "seconds", "objective_seconds", "place", "said"},
		{"drill", x.Runbook, x.State, at(&x.Began), "", "", d.Dir, x.Sentence},
		{"time", x.Runbook, "", at(d.Up), n(d.TimeSeconds), strconv.FormatInt(d.TimeObjective, 10), "", ""},
		{"loss", x.Runbook, "", at(d.At), n(d.LossSeconds), strconv.FormatInt(d.LossObjective, 10), "", ""}})
	for _, v := range x.Volumes {
		err = errors.Join(err, w.Write([]string{"volume", v.Volume, "", at(v.Taken), n(v.LossSeconds), "", v.Place, v.From}))
	}
	for _, st := range x.Steps {
		err = errors.Join(err, w.Write([]string{"step", st.Text, st.State, at(st.Began), n(st.Seconds), "", "", st.Said}))
	}
	w.Flush()
	if err = errors.Join(err, w.Error()); err != nil {
		return err
	}
	return f.keepReport(name, b.String(), strings.TrimSuffix(x.Sentence, "."))
}
