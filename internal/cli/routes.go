package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func termFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "when", Usage: "\"on demand\", or a cadence such as \"daily at 22:00\"; after every " +
			"snapshot when not given (--from: every 15 minutes)"},
		&cli.StringFlag{Name: "zone", Usage: "time zone of the cadence and the pace; UTC when not given"},
		&cli.StringFlag{Name: "carry", Usage: "all, or key=value of a snapshot's label; what the rules there keep " +
			"when not given"},
		&cli.IntFlag{Name: "priority", Usage: "1 to 9: its share of the pace; 5 when not given"},
		&cli.StringFlag{Name: "cap", Usage: "a rate of its own, such as \"5 Mbit/s\""},
		&cli.StringSliceFlag{Name: "pace", Usage: "the same by time of week, in --zone, a line each time: " +
			"\"nothing between 08:00 and 18:00 on mon-fri\"; empty: none"},
		&cli.DurationFlag{Name: "finish-within", Usage: "how long a run may take, such as 2h, before there is an alarm"},
		&cli.StringFlag{Name: "by", Usage: "the one address of the other site that it goes by, or any; any when not given"},
		&cli.BoolFlag{Name: "onward", Usage: "carry volumes of other sites on as well"},
		&cli.StringSliceFlag{Name: "in", Usage: "carry this path of each volume only; may be given several times"},
		&cli.StringSliceFlag{Name: "out", Usage: "leave this path out"},
		&cli.StringFlag{Name: "standby", Usage: "exact or additive: the far side lays copies out ready for use"},
		&cli.StringFlag{Name: "tell", Usage: "what the source of a route --from learns: lag, counts or nothing; lag " +
			"when not given"},
	}
}

// paceLines puts together what was parted at the commas of "on sat,sun": a line begins with a rate.
func paceLines(parts []string) (lines []string) {
	for _, p := range parts {
		word, _, _ := strings.Cut(strings.TrimSpace(p), " ")
		_, err := strconv.ParseFloat(word, 64)
		if err == nil || word == "unlimited" || word == "nothing" || word == "" || len(lines) == 0 {
			lines = append(lines, p)
		} else {
			lines[len(lines)-1] += "," + p
		}
	}
	return lines
}

// terms reads the flags over what a route says already.
func terms(cmd *cli.Command, t api.RouteTerms) api.RouteTerms {
	for name, to := range map[string]*string{"when": &t.When, "zone": &t.Zone, "carry": &t.Carry, "cap": &t.Cap,
		"tell": &t.Tell, "by": &t.By, "standby": &t.Standby} {
		if cmd.IsSet(name) {
			*to = cmd.String(name)
		}
	}
	if cmd.IsSet("pace") {
		t.Pace = paceLines(cmd.StringSlice("pace"))
		if len(strings.Join(t.Pace, "")) > 0 && !cmd.IsSet("cap") { // one stands in place of the other
			t.Cap = ""
		}
	} else if cmd.IsSet("cap") {
		t.Pace = nil
	}
	if cmd.IsSet("in") {
		t.In = cmd.StringSlice("in")
	}
	if cmd.IsSet("out") {
		t.Out = cmd.StringSlice("out")
	}
	if cmd.IsSet("priority") {
		t.Priority = cmd.Int("priority")
	}
	if cmd.IsSet("finish-within") {
		t.WithinSeconds = int64(cmd.Duration("finish-within") / time.Second)
	}
	if cmd.IsSet("onward") {
		t.Onward = cmd.Bool("onward")
	}
	return t
}

func routeCommand() *cli.Command {
	volumes := func(need bool) cli.Flag {
		return &cli.StringSliceFlag{Name: "volumes", Usage: "key=value of labels (all must match), or name=VOLUME",
			Required: need}
	}
	path := func(cmd *cli.Command) string { return "/routes/" + url.PathEscape(cmd.Args().First()) }
	act := func(name, usage string) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME", Description: "Example: candid route " + name +
			" to-stonewick", Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
			return f.sentence(func(out any) error { return f.Post(ctx, path(cmd)+"/"+name, nil, out) })
		})}
	}
	return &cli.Command{Name: "route", Usage: "what is carried to other sites, and taken from them",
		Commands: []*cli.Command{
			{Name: "add", Usage: "carry snapshots of chosen volumes to a paired site, or take them from one", ArgsUsage: "NAME",
				Description: "Example: candid route add to-stonewick --to stonewick --volumes collection=herbarium",
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "to", Usage: "the paired site to carry to, or"},
					&cli.StringFlag{Name: "from", Usage: "the paired site to take from"}, volumes(true),
					&cli.BoolFlag{Name: "dry-run", Usage: "only tell what it would carry, and about how long that takes"}},
					termFlags()...),
				Action: with("NAME", routeAdd)},
			incomingCommand(),
			{Name: "list", Usage: "all routes", Description: "Example: candid route list",
				Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var rs []api.Route
					if err := f.Get(ctx, "/routes", nil, &rs); err != nil {
						return err
					}
					return f.show(rs, func() {
						var rows [][]string
						for _, r := range rs {
							rows = append(rows, []string{r.Name, r.From, r.To, r.State, size(r.SentBytes), size(r.SavedBytes), r.Sentence})
						}
						f.list([]string{"ROUTE", "FROM", "TO", "STATE", "SENT", "SAVED", ""}, rows,
							"No routes yet. Open one: candid route add NAME --to SITE --volumes key=value")
					})
				})},
			{Name: "show", Usage: "one route: its terms, its volumes, and how its last runs went", ArgsUsage: "NAME",
				Description: "Example: candid route show to-stonewick", Action: with("NAME", routeShow)},
			{Name: "edit", Usage: "change what a route chooses, or its terms; what is not given stays", ArgsUsage: "NAME",
				Description: "Example: candid route edit to-stonewick --cap \"5 Mbit/s\" --priority 3",
				Flags:       append([]cli.Flag{volumes(false)}, termFlags()...),
				Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var r api.Route
					if err := f.Get(ctx, path(cmd), nil, &r); err != nil {
						return err
					}
					t := terms(cmd, r.Terms)
					ask := api.RouteEdit{Terms: &t}
					var err error
					if ask.Labels, ask.Names, err = choice(cmd.StringSlice("volumes")); err != nil {
						return err
					}
					if err := f.Patch(ctx, path(cmd), ask, &r); err != nil {
						return err
					}
					return f.show(r, func() { routeTell(f, &r) })
				})},
			act("pause", "stop a route; what it wants stays owed"),
			act("resume", "let a paused route go on"),
			{Name: "run", Usage: "carry now", ArgsUsage: "NAME", Description: "Example: candid route run to-stonewick",
				Flags: runFlags(), Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var r api.Run
					if err := f.Post(ctx, path(cmd)+"/runs", nil, &r); err != nil {
						return err
					}
					return f.follow(ctx, cmd, &r)
				})},
			{Name: "remove", Usage: "close a route; what it carried stays", ArgsUsage: "NAME",
				Description: "Example: candid route remove trial", Action: with("NAME", func(ctx context.Context, f *session,
					cmd *cli.Command) error {
					return f.sentence(func(out any) error { return f.Delete(ctx, path(cmd), out) })
				})},
		}}
}

func routeAdd(ctx context.Context, f *session, cmd *cli.Command) error {
	ask := api.RouteAdd{Name: cmd.Args().First(), To: cmd.String("to"), From: cmd.String("from"),
		Terms: terms(cmd, api.RouteTerms{})}
	if (ask.To == "") == (ask.From == "") {
		return misuse("give --to or --from, and not both")
	}
	var err error
	if ask.Labels, ask.Names, err = choice(cmd.StringSlice("volumes")); err != nil {
		return err
	}
	if cmd.Bool("dry-run") {
		var c api.RouteCheck
		if err := f.Post(ctx, "/routes/check", ask, &c); err != nil {
			return err
		}
		return f.show(c, func() {
			f.say("%s", c.Sentence)
			if len(c.Volumes) > 0 {
				f.say("Volumes: %s.", strings.Join(c.Volumes, ", "))
			}
		})
	}
	var r api.Route
	if err := f.Post(ctx, "/routes", ask, &r); err != nil {
		return err
	}
	return f.show(r, func() {
		f.say("Route %s from %s to %s is open, for %s. %s", r.Name, r.From, r.To, routeVolumes(&r), r.Sentence)
	})
}

func routeTell(f *session, r *api.Route) {
	f.say("%s, from %s to %s, is %s. %s", r.Name, r.From, r.To, r.State, r.Sentence)
	if r.Description != "" {
		f.say("For: %s", r.Description)
	}
	chosen := "named " + strings.Join(r.Names, ", ")
	if len(r.Labels) > 0 {
		var pairs []string
		for k, v := range r.Labels {
			pairs = append(pairs, k+"="+v)
		}
		slices.Sort(pairs)
		chosen = "with " + strings.Join(pairs, " and ")
	}
	f.say("It carries volumes %s%s.", chosen, termWords(r))
}

// termWords says a route's terms as the end of a sentence.
func termWords(r *api.Route) string {
	t, out := r.Terms, ""
	switch {
	case t.When != "":
		out += ", " + t.When
	case r.Pull:
		out += ", every 15 minutes"
	default:
		out += ", after every snapshot"
	}
	switch t.Carry {
	case "":
		out += ", of what the rules there keep"
	case "all":
		out += ", all snapshots"
	default:
		out += ", snapshots labelled " + t.Carry
	}
	if len(t.In) > 0 {
		out += ", only " + strings.Join(t.In, ", ")
	}
	if len(t.Out) > 0 {
		out += ", without " + strings.Join(t.Out, ", ")
	}
	if t.Priority != 0 {
		out += ", priority " + strconv.Itoa(t.Priority)
	}
	if t.Cap != "" {
		out += ", at most " + t.Cap
	}
	if len(t.Pace) > 0 {
		out += ", at its own pace (" + strings.Join(t.Pace, "; ") + ")"
	}
	if t.WithinSeconds > 0 {
		out += ", to finish within " + age(t.WithinSeconds)
	}
	if t.Standby != "" {
		out += ", laid out there (" + t.Standby + ")"
	}
	if t.By != "" {
		out += ", by " + t.By + " alone"
	}
	if t.Onward {
		out += ", volumes of other sites too"
	}
	return out
}

func routeShow(ctx context.Context, f *session, cmd *cli.Command) error {
	var r api.Route
	var ts []api.Traffic
	name := url.PathEscape(cmd.Args().First())
	if err := f.Get(ctx, "/routes/"+name, nil, &r); err != nil {
		return err
	}
	if err := f.Get(ctx, "/routes/"+name+"/traffic", nil, &ts); err != nil {
		return err
	}
	return f.show(r, func() {
		routeTell(f, &r)
		f.say("%s came over it in all; %s did not have to.", size(r.SentBytes), size(r.SavedBytes))
		var rows [][]string
		for _, v := range r.Volumes {
			lag := "-"
			if v.Newest != nil {
				lag = age(v.LagSeconds)
			}
			rows = append(rows, []string{v.Volume, whenPtr(v.Newest), lag, strconv.Itoa(v.Backlog), strconv.Itoa(v.Carried)})
		}
		f.list([]string{"VOLUME", "NEWEST THERE", "LAG", "BACKLOG", "CARRIED"}, rows, "It chooses no volume at present.")
		ts = slices.DeleteFunc(ts, func(t api.Traffic) bool { return t.Sent == 0 })
		rows = nil
		for _, t := range ts[max(0, len(ts)-5):] {
			rows = append(rows, []string{when(t.At), size(t.Sent), size(int64(float64(t.Sent)/max(t.Seconds, 0.001))) + "/s",
				fmt.Sprintf("%.1f s", t.Seconds), strconv.FormatInt(t.Backlog, 10)})
		}
		if len(rows) > 0 {
			f.list([]string{"LAST RUNS", "SENT", "RATE", "TOOK", "LEFT"}, rows, "")
		}
	})
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
