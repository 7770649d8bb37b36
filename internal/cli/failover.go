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

func failoverCommand() *cli.Command {
	return &cli.Command{Name: "failover", Usage: "take over what a runbook names, at the site that takes over",
		ArgsUsage: "RUNBOOK", Description: "Example: candid failover field-station --unplanned --dry-run",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "planned", Usage: "the other site hands over; nothing is lost"},
			&cli.BoolFlag{Name: "unplanned", Usage: "without the other site; what did not arrive is left behind"},
			&cli.BoolFlag{Name: "dry-run", Usage: "tell what it would mean, and change nothing"},
			&cli.BoolFlag{Name: "anyway", Usage: "although the runbook is not ready"},
			&cli.BoolFlag{Name: "no-wait", Usage: "return at once and let the work go on"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask for the runbook's name"}},
		Action: with("RUNBOOK", func(ctx context.Context, f *session, cmd *cli.Command) error {
			if cmd.Bool("planned") == cmd.Bool("unplanned") {
				return misuse("say which it is: --planned, with the other site, or --unplanned, without it")
			}
			return f.moveTo(ctx, cmd, "failover", api.FailoverAsk{Unplanned: cmd.Bool("unplanned")})
		}),
		Commands: []*cli.Command{
			{Name: "list", Usage: "all failovers, the newest first", Description: "Example: candid failover list",
				Action: with("", failoverList)},
			{Name: "show", Usage: "one failover, by its id, or the last one by a runbook", ArgsUsage: "ID_OR_RUNBOOK",
				Description: "Example: candid failover show field-station",
				Action: with("ID_OR_RUNBOOK", func(ctx context.Context, f *session, cmd *cli.Command) error {
					var out api.Failover
					if err := f.Get(ctx, "/failovers/"+url.PathEscape(cmd.Args().First()), nil, &out); err != nil {
						return err
					}
					return f.show(out, func() { f.failover(&out) })
				})},
			{Name: "answer", Usage: "say that what a failover waits for is done", ArgsUsage: "RUNBOOK",
				Description: "Example: candid failover answer field-station",
				Action: with("RUNBOOK", func(ctx context.Context, f *session, cmd *cli.Command) error {
					return f.sentence(func(out any) error {
						return f.Post(ctx, "/failovers/"+url.PathEscape(cmd.Args().First())+"/answer", nil, out)
					})
				})},
			{Name: "cancel", Usage: "give up a failover that has moved nothing yet", ArgsUsage: "RUNBOOK",
				Description: "Example: candid failover cancel field-station",
				Action: with("RUNBOOK", func(ctx context.Context, f *session, cmd *cli.Command) error {
					return f.sentence(func(out any) error {
						return f.Delete(ctx, "/failovers/"+url.PathEscape(cmd.Args().First()), out)
					})
				})},
		}}
}

func failbackCommand() *cli.Command {
	return &cli.Command{Name: "failback", Usage: "bring home what another site took over by a runbook; nothing is lost",
		ArgsUsage: "RUNBOOK", Description: "Example: candid failback field-station --dry-run",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "dry-run", Usage: "tell what it would mean, and change nothing"},
			&cli.BoolFlag{Name: "anyway", Usage: "although it is not ready"},
			&cli.BoolFlag{Name: "no-wait", Usage: "return at once and let the work go on"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask for the runbook's name"}},
		Action: with("RUNBOOK", func(ctx context.Context, f *session, cmd *cli.Command) error {
			return f.moveTo(ctx, cmd, "failback", api.FailoverAsk{})
		}),
		Commands: []*cli.Command{{Name: "list", Usage: "what others took over and could come home",
			Description: "Example: candid failback list",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var all []api.Away
				if err := f.Get(ctx, "/away", nil, &all); err != nil {
					return err
				}
				return f.show(all, func() {
					var rows [][]string
					for _, a := range all {
						rows = append(rows, []string{a.Runbook, a.Site, when(a.Since), strings.Join(a.Volumes, ", ")})
					}
					f.list([]string{"RUNBOOK", "ACTIVE AT", "SINCE", "VOLUMES"}, rows, "Nothing of this site is active elsewhere.")
				})
			})}}}
}

// moveTo begins a failover or a failback and follows it.
func (f *session) moveTo(ctx context.Context, cmd *cli.Command, act string, ask api.FailoverAsk) error {
	name := cmd.Args().First()
	path := "/runbooks/" + url.PathEscape(name) + "/" + act
	ask.Anyway = cmd.Bool("anyway")
	dry := ask
	dry.DryRun = true
	var would api.Failover
	err := f.Post(ctx, path, dry, &would)
	if cmd.Bool("dry-run") {
		if err != nil {
			return err
		}
		return f.show(would, func() { f.would(&would) })
	}
	if err == nil && !cmd.Bool("yes") { // one that goes on after a stop has no dry run
		if !f.json {
			f.would(&would)
		}
		if err := f.typed(would.Sentence, name); err != nil {
			return err
		}
	}
	var out api.Failover
	if err := f.Post(ctx, path, ask, &out); err != nil {
		return err
	}
	if cmd.Bool("no-wait") {
		return f.show(out, func() { f.say("It goes on: candid failover show %s", name) })
	}
	return f.followAct(ctx, &out, "/failovers/")
}

// would shows what a failover would mean.
func (f *session) would(x *api.Failover) {
	f.say("%s", x.Sentence)
	var rows [][]string
	for _, v := range x.Volumes {
		taken, lost := "-", "nothing"
		if v.Known != nil {
			taken = when(*v.Known)
		}
		if x.Kind == "unplanned" {
			switch lost = seconds(v.LossSeconds); {
			case v.DoubtSeconds >= 1 && v.LossSeconds < 1:
				lost = "perhaps " + seconds(v.DoubtSeconds)
			case v.DoubtSeconds >= 1:
				lost += ", and perhaps " + seconds(v.DoubtSeconds) + " more"
			}
		}
		rows = append(rows, []string{v.Volume, taken, lost})
	}
	f.say("")
	f.list([]string{"VOLUME", "GOES ON AS OF", "WOULD BE LEFT BEHIND"}, rows, "")
	f.say("")
	for i, st := range x.Steps {
		f.say("%2d. %s", i+1, st.Text)
	}
}

// seconds says a length of time as people do.
func seconds(s float64) string {
	d := time.Duration(s * float64(time.Second))
	switch {
	case d < time.Second:
		return "less than a second"
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

func (f *session) failover(x *api.Failover) {
	head := fmt.Sprintf("%s failover by %s", x.Kind, x.Runbook)
	if x.Kind == "hand-over" {
		head = "handing over by " + x.Runbook
	}
	f.say("%s (%s): %s, since %s", head, x.ID, x.State, when(x.Began))
	f.steps(x)
	if x.DownSeconds > 0 {
		f.say("Nobody served for %s.", seconds(x.DownSeconds))
	}
	f.say("%s", x.Sentence)
	if x.Next != "" {
		f.say("%s: %s", x.Next, x.Command)
	}
}

func (f *session) steps(x *api.Failover) {
	if len(x.Steps) == 0 {
		return
	}
	var rows [][]string
	for i, st := range x.Steps {
		took := ""
		if st.Began != nil {
			took = seconds(st.Seconds)
		}
		rows = append(rows, []string{strconv.Itoa(i + 1), st.State, took, st.Text, st.Said})
	}
	f.list([]string{"", "STATE", "TOOK", "STEP", ""}, rows, "")
}

// followAct tells each step when it is done, until the end, or until a state that is as good.
func (f *session) followAct(ctx context.Context, x *api.Failover, path string, good ...string) error {
	told := map[int]string{}
	for {
		for i, st := range x.Steps {
			if told[i] == st.State || f.json || st.State == api.StepToDo {
				continue
			}
			told[i] = st.State
			switch st.State {
			case api.StepRunning:
				fmt.Fprintf(f.err, "%2d. %s …\n", i+1, st.Text)
			case api.StepWaiting:
				fmt.Fprintf(f.err, "%2d. %s: waits for a person: %s\n", i+1, st.Text, x.Command)
			default:
				fmt.Fprintf(f.err, "%2d. %s: %s, %s. %s\n", i+1, st.Text, st.State, seconds(st.Seconds), st.Said)
			}
		}
		if x.State != api.FailoverRunning && x.State != api.FailoverWaiting {
			break
		}
		select {
		case <-time.After(300 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
		var now api.Failover
		if err := f.Get(ctx, path+url.PathEscape(x.ID), nil, &now); err != nil {
			return err
		}
		x = &now
	}
	if err := f.show(x, func() {
		f.say("%s", x.Sentence)
		if x.Next != "" {
			f.say("%s: %s", x.Next, x.Command)
		}
	}); err != nil {
		return err
	}
	if x.State != api.FailoverDone && !slices.Contains(good, x.State) {
		return &exitError{code: exitFailed}
	}
	return nil
}

func failoverList(ctx context.Context, f *session, _ *cli.Command) error {
	var all []api.Failover
	if err := f.Get(ctx, "/failovers", nil, &all); err != nil {
		return err
	}
	return f.show(all, func() {
		var rows [][]string
		for _, x := range all {
			down := ""
			if x.DownSeconds > 0 {
				down = seconds(x.DownSeconds)
			}
			rows = append(rows, []string{x.ID, x.Runbook, x.Kind, x.State, when(x.Began), x.Peer, down})
		}
		f.list([]string{"ID", "RUNBOOK", "KIND", "STATE", "BEGAN", "OTHER SITE", "NOBODY SERVED"}, rows,
			"Nothing has been taken over yet.")
	})
}

func authorityCommand() *cli.Command {
	show := func(f *session, a *api.Authority) error {
		return f.show(a, func() {
			f.say("%s", a.Sentence)
			if b := a.Back; b != nil {
				switch {
				case b.Kept == "none":
					f.say("What was here, others have too: nothing had to be kept.")
				case b.Kept != "":
					f.say("What was here and nobody had is in the snapshot %s: candid left-behind list %s", b.Kept[:12], a.Volume)
				}
				if b.Hook != "" && b.Hook != "done" {
					f.say("The hook stand-back: %s", b.Hook)
				}
			}
			var rows [][]string
			for _, r := range a.Records {
				rows = append(rows, []string{strconv.FormatInt(r.Term, 10), r.Site, when(r.At), short(r.From), r.Why,
					strings.Join(r.May, ", ")})
			}
			f.list([]string{"TERM", "ACTIVE", "SIGNED", "FROM", "WHY", "MAY BE NEXT"}, rows,
				"No record: no other site was ever let take it over. To let one: candid site grant SITE take-over")
		})
	}
	return &cli.Command{Name: "authority", Usage: "which site is active of a volume, and why", Commands: []*cli.Command{
		{Name: "show", Usage: "who is active, since when, and by which records", ArgsUsage: "VOLUME",
			Description: "Example: candid authority show herbarium-scans",
			Action: with("VOLUME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var a api.Authority
				if err := f.Get(ctx, "/volumes/"+url.PathEscape(cmd.Args().First())+"/authority", nil, &a); err != nil {
					return err
				}
				return show(f, &a)
			})},
		{Name: "go-on", Usage: "say that this site is the active one, where that is in doubt; others learn it",
			ArgsUsage: "VOLUME", Description: "Example: candid authority go-on herbarium-scans --yes",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask for the volume's name"}},
			Action: with("VOLUME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				name := cmd.Args().First()
				if !cmd.Bool("yes") {
					if err := f.typed("If another site, or a copy of this one, is active too, both will be written",
						name); err != nil {
						return err
					}
				}
				var a api.Authority
				if err := f.Post(ctx, "/volumes/"+url.PathEscape(name)+"/authority", nil, &a); err != nil {
					return err
				}
				return show(f, &a)
			})},
	}}
}

func leftBehindCommand() *cli.Command {
	list := func(ctx context.Context, f *session, volume string) (all []api.LeftBehind, err error) {
		q := url.Values{}
		if volume != "" {
			q.Set("volume", volume)
		}
		err = f.Get(ctx, "/left-behind", q, &all)
		return all, err
	}
	return &cli.Command{Name: "left-behind", Usage: "snapshots without which another site took over",
		Commands: []*cli.Command{
			{Name: "list", Usage: "what was left behind here, of one volume or of all", ArgsUsage: "[VOLUME]",
				Description: "Example: candid left-behind list",
				Action: with("[VOLUME]", func(ctx context.Context, f *session, cmd *cli.Command) error {
					all, err := list(ctx, f, cmd.Args().First())
					if err != nil {
						return err
					}
					return f.show(all, func() {
						var rows [][]string
						for _, l := range all {
							rows = append(rows, []string{short(l.Snapshot), l.Volume, when(l.Taken), size(l.Bytes), when(l.Until), l.Why})
						}
						f.list([]string{"SNAPSHOT", "VOLUME", "TAKEN", "HOLDS", "KEPT UNTIL", "WHY"}, rows,
							"Nothing was left behind here.")
					})
				})},
			{Name: "show", Usage: "one snapshot that was left behind", ArgsUsage: "SNAPSHOT",
				Description: "Example: candid left-behind show 3f2a9c01b7de",
				Action: with("SNAPSHOT", func(ctx context.Context, f *session, cmd *cli.Command) error {
					l, err := leftOf(ctx, f, cmd.Args().First(), list)
					if err != nil {
						return err
					}
					return f.show(l, func() {
						f.say("%s of %s, taken %s by %s in term %d", short(l.Snapshot), l.Volume, when(l.Taken), l.Site, l.Term)
						f.say("%s. It is kept until %s.", strings.ToUpper(l.Why[:1])+l.Why[1:], when(l.Until))
						f.say("Its files: candid browse %s --at %s; a file of it: candid restore %s PATH --at %s --to DIR", l.Volume,
							short(l.Snapshot), l.Volume, short(l.Snapshot))
						f.say("What is in it and not in what is active: candid left-behind compare %s", short(l.Snapshot))
					})
				})},
			{Name: "compare", Usage: "what a snapshot that was left behind has otherwise than the newest state",
				ArgsUsage: "SNAPSHOT", Description: "Example: candid left-behind compare 3f2a9c01b7de",
				Action: with("SNAPSHOT", func(ctx context.Context, f *session, cmd *cli.Command) error {
					l, err := leftOf(ctx, f, cmd.Args().First(), list)
					if err != nil {
						return err
					}
					q := url.Values{"from": {l.Snapshot}, "to": {"latest"}}
					var d api.Disk
					if f.Get(ctx, "/disks/"+url.PathEscape(l.Volume), nil, &d) == nil {
						return f.compareDisk(ctx, l.Volume, q, true)
					}
					var c api.Comparison
					if err := f.Get(ctx, "/volumes/"+url.PathEscape(l.Volume)+"/comparison", q, &c); err != nil {
						return err
					}
					return f.show(c, func() { f.compared(&c) })
				})},
			{Name: "remove", Usage: "keep it no longer: the next pruning sends it into grace", ArgsUsage: "SNAPSHOT",
				Description: "Example: candid left-behind remove 3f2a9c01b7de --yes",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask for the volume's name"}},
				Action: with("SNAPSHOT", func(ctx context.Context, f *session, cmd *cli.Command) error {
					l, err := leftOf(ctx, f, cmd.Args().First(), list)
					if err != nil {
						return err
					}
					if !cmd.Bool("yes") {
						if err := f.typed(fmt.Sprintf("Nobody else has what %s had at %s", l.Volume, when(l.Taken)),
							l.Volume); err != nil {
							return err
						}
					}
					return f.sentence(func(out any) error {
						return f.Delete(ctx, "/left-behind/"+url.PathEscape(l.Snapshot), out)
					})
				})},
		}}
}

// leftOf finds one by the beginning of its identity.
func leftOf(ctx context.Context, f *session, id string,
	list func(context.Context, *session, string) ([]api.LeftBehind, error)) (*api.LeftBehind, error) {
	all, err := list(ctx, f, "")
	if err != nil {
		return nil, err
	}
	var found *api.LeftBehind
	for i := range all {
		if !strings.HasPrefix(all[i].Snapshot, id) {
			continue
		}
		if found != nil {
			return nil, misuse("several snapshots begin with %s: give more of it", id)
		}
		found = &all[i]
	}
	if found == nil {
		return nil, fmt.Errorf("snapshot %s was not left behind here: candid left-behind list shows what was", id)
	}
	return found, nil
}
