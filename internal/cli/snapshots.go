package cli

import (
	"cmp"
	"context"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func snapshotCommand() *cli.Command {
	return &cli.Command{Name: "snapshot", Usage: "states of volumes", Commands: []*cli.Command{
		{Name: "take", Usage: "take a snapshot now, of one volume or of many", ArgsUsage: "[VOLUME...]",
			Description: `Example: candid snapshot take herbarium-scans --note "before the move" --keep-until +90d`,
			Flags: append([]cli.Flag{
				&cli.StringFlag{Name: "policy", Usage: "of all volumes that this policy chooses"},
				&cli.StringSliceFlag{Name: "volumes", Usage: "of all volumes that have these labels: key=value (all must match)"},
				&cli.BoolFlag{Name: "due", Usage: "of all that have no snapshot, a gap, or a newest state here that is too old"},
				&cli.StringFlag{Name: "note", Usage: "why it was taken, shown wherever it is listed"},
				&cli.StringSliceFlag{Name: "label", Usage: "key=value"},
				&cli.StringFlag{Name: "keep-until", Usage: "WHEN it may go: a date, or +30d"}, mayGoFirst()}, runFlags()...),
			Action: with("[VOLUME...]", snapshotTake)},
		{Name: "list", Usage: "the snapshots here of a volume, or of all, newest first", ArgsUsage: "[VOLUME]",
			Description: "Examples:\n   candid snapshot list herbarium-scans\n   candid snapshot list --which marked " +
				"--text audit",
			Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Value: 0, Usage: "how many; all when not given"},
				&cli.StringFlag{Name: "text", Usage: "only those with it in the volume's name, the note, or the reason to keep"},
				&cli.StringFlag{Name: "cause", Usage: "only those with this cause, such as \"by hand\""},
				&cli.StringFlag{Name: "label", Usage: "only those with this label: key=value"},
				&cli.StringFlag{Name: "which", Usage: "only those that are kept, in grace, marked to keep, have an end of " +
					"their own, are out of turn, or no route carried anywhere: kept, grace, marked, end, turn, here"},
				&cli.StringFlag{Name: "carried-to", Usage: "only those that were carried to this site"},
				&cli.StringFlag{Name: "sort", Value: "newest", Usage: "newest, oldest, volume, new (bytes), size, or own: the " +
					"bytes that come back if only it goes"}},
			Action: with("[VOLUME]", snapshotList)},
		{Name: "show", Usage: "one snapshot: why it is kept, what it takes, its remarks", ArgsUsage: "ID",
			Description: "Example: candid snapshot show 3f9a0c11b2d4", Action: with("ID", snapshotShow)},
		carryChosenCommand(),
		removeCommand(),
		restoreManyCommand(),
		{Name: "change", Usage: "change the note, labels or own end of snapshots, here and wherever they are carried",
			ArgsUsage:   "ID...",
			Description: "Example: candid snapshot change 3f9a0c11b2d4 --note \"before the migration\" --keep-until +1w",
			Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "instead of the one it has; empty takes it away"},
				&cli.StringSliceFlag{Name: "label", Usage: "key=value to set"},
				&cli.StringSliceFlag{Name: "drop", Usage: "key of a label to take away"}, mayGoFirst(),
				&cli.StringFlag{Name: "keep-until", Usage: "WHEN it may go, of one taken by hand: a date, or +30d"}},
			Action: with("ID [ID...]", snapshotChange)},
		{Name: "keep", Usage: "keep snapshots whatever the rules say, here and wherever they are carried", ArgsUsage: "ID...",
			Description: `Example: candid snapshot keep 3f9a0c11b2d4 --reason "audit of 2026" --until 2033-01-01`,
			Flags: []cli.Flag{&cli.StringFlag{Name: "reason", Usage: "why, for whoever finds it years later", Required: true},
				&cli.StringFlag{Name: "until", Usage: "WHEN the mark ends: a date, or +30d; it stays until let go when not given"}},
			Action: with("ID [ID...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
				end, err := future(cmd.String("until"))
				if err != nil {
					return err
				}
				ask := api.KeepAsk{Reason: cmd.String("reason"), Until: end}
				return f.each(ctx, cmd, func(path string, s *api.Snapshot) error {
					return f.Post(ctx, path+"/keep", ask, s)
				}, func(s api.Snapshot) {
					until := "until it is let go: candid snapshot let-go " + short(s.ID)
					if s.KeepUntil != nil {
						until = "until " + when(*s.KeepUntil)
					}
					f.say("%s of %s is kept, %s.", short(s.ID), s.Volume, until)
				})
			})},
		{Name: "let-go", Usage: "take keep marks back; the rules decide again", ArgsUsage: "ID...",
			Description: "Example: candid snapshot let-go 3f9a0c11b2d4",
			Action: with("ID [ID...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.each(ctx, cmd, func(path string, s *api.Snapshot) error {
					return f.Post(ctx, path+"/let-go", nil, s)
				}, func(s api.Snapshot) {
					if len(s.Reasons) > 0 {
						f.say("%s of %s has no keep mark any more. It stays as %s.", short(s.ID), s.Volume, strings.Join(s.Reasons, "; "))
					} else {
						f.say("%s of %s has no keep mark any more, and no rule keeps it: the next pruning sends it into grace.",
							short(s.ID), s.Volume)
					}
				})
			})},
		{Name: "recall", Usage: "take snapshots back out of grace", ArgsUsage: "ID...",
			Description: "Example: candid snapshot recall 3f9a0c11b2d4",
			Action: with("ID [ID...]", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.each(ctx, cmd, func(path string, s *api.Snapshot) error {
					return f.Post(ctx, path+"/recall", nil, s)
				}, func(s api.Snapshot) {
					until := ""
					if s.Ends != nil {
						until = ", until about " + when(*s.Ends)
					}
					f.say("%s of %s is kept: %s%s.", short(s.ID), s.Volume, strings.Join(s.Reasons, "; "), until)
					if s.Group != "" {
						f.say("The rest of its set, of the group %s, came back with it.", s.Group)
					}
				})
			})},
	}}
}

func mayGoFirst() cli.Flag {
	return &cli.BoolFlag{Name: "may-go-first", Usage: "when room is short; the label may-go-first=yes"}
}

func goesFirst(cmd *cli.Command, labels map[string]string) {
	if cmd.Bool("may-go-first") {
		labels["may-go-first"] = "yes"
	}
}

func snapshotTake(ctx context.Context, f *session, cmd *cli.Command) error {
	ls, err := labels(cmd.StringSlice("label"))
	if err != nil {
		return err
	}
	goesFirst(cmd, ls)
	end, err := future(cmd.String("keep-until"))
	if err != nil {
		return err
	}
	take := api.SnapshotTake{Note: cmd.String("note"), Labels: ls, KeepUntil: end}
	of, err := labels(cmd.StringSlice("volumes"))
	if err != nil {
		return err
	}
	ask := api.SnapshotsTake{Volumes: cmd.Args().Slice(), Policy: cmd.String("policy"), Labels: of, Due: cmd.Bool("due"),
		Take: take}
	if cmd.Args().Len() != 1 || ask.Policy != "" || len(of) > 0 || ask.Due {
		return f.takeMany(ctx, cmd, ask)
	}
	var r api.Run
	if err := f.Post(ctx, "/volumes/"+url.PathEscape(cmd.Args().First())+"/snapshots", take, &r); err != nil {
		return err
	}
	return f.follow(ctx, cmd, &r)
}

func snapshotList(ctx context.Context, f *session, cmd *cli.Command) error {
	limit, volume := cmd.Int("limit"), cmd.Args().First()
	q := url.Values{"limit": {"1000"}, "volume": {volume}}
	narrowed := false
	for flag, name := range map[string]string{"text": "text", "cause": "cause", "label": "label", "which": "which",
		"carried-to": "site"} {
		q.Set(name, cmd.String(flag))
		narrowed = narrowed || cmd.String(flag) != ""
	}
	q.Set("sort", cmd.String("sort"))
	all := []api.Snapshot{}
	for {
		if left := limit - len(all); limit > 0 && left < 1000 {
			q.Set("limit", strconv.Itoa(left))
		}
		var page api.Page[api.Snapshot]
		if err := f.Get(ctx, "/snapshots", q, &page); err != nil {
			return err
		}
		all = append(all, page.Items...)
		if page.Next == "" || (limit > 0 && len(all) >= limit) {
			break
		}
		q.Set("after", page.Next)
	}
	return f.show(all, func() {
		none := "No snapshots yet. Take one: candid snapshot take " + cmp.Or(volume, "VOLUME")
		if narrowed {
			none = "No snapshot is like that."
		}
		head := []string{"ID", "TAKEN", "SEEN UNTIL", "CAUSE", "SIZE", "NEW", "STATE", "WHY"}
		if volume == "" {
			head = slices.Insert(head, 1, "VOLUME")
		}
		own := slices.Index(head, "STATE")
		if cmd.String("sort") == "own" {
			head = slices.Insert(head, own, "OWN")
		}
		if volume == "" {
			head = slices.Insert(head, len(head)-1, "CARRIED TO")
		}
		rows := make([][]string, len(all))
		for i := range all {
			if rows[i] = snapshotRow(&all[i]); volume == "" {
				rows[i] = slices.Insert(rows[i], 1, all[i].Volume)
			}
			if cmd.String("sort") == "own" {
				rows[i] = slices.Insert(rows[i], own, size(all[i].Unique))
			}
			if volume == "" {
				rows[i] = slices.Insert(rows[i], len(rows[i])-1, strings.Join(all[i].FarPlaces, ", "))
			}
		}
		f.list(head, rows, none)
	})
}

func consistencyWords(c string) string {
	switch c {
	case "still":
		return "nothing changed while it was read"
	case "quiesced":
		return "its writers were held for the whole reading"
	}
	return "files may have changed while others were read"
}

func snapshotShow(ctx context.Context, f *session, cmd *cli.Command) error {
	var s api.Snapshot
	if err := f.Get(ctx, "/snapshots/"+url.PathEscape(cmd.Args().First()), nil, &s); err != nil {
		return err
	}
	return f.show(s, func() {
		f.say("snapshot     %s", s.ID)
		f.say("volume       %s, from %s, term %d sequence %d", s.Volume, s.Origin, s.Term, s.Sequence)
		f.say("taken        %s to %s (%s: %s)", when(s.Taken), when(s.Ended), s.Consistency, consistencyWords(s.Consistency))
		if s.WatchedUntil != nil {
			f.say("seen until   %s; watched without a change until %s", whenPtr(s.SeenUntil), when(*s.WatchedUntil))
		} else {
			f.say("seen until   %s", whenPtr(s.SeenUntil))
		}
		f.say("cause        %s", s.Cause)
		if s.Part != "" {
			f.say("part         %s", s.Part)
		}
		if s.Group != "" {
			f.say("set          of the group %s; the whole set is kept, removed and recalled together", s.Group)
		}
		if s.Note != "" {
			f.say("note         %s", s.Note)
		}
		if s.OwnEnd != nil {
			f.say("own end      %s", when(*s.OwnEnd))
		}
		f.say("holds        %s, %s, %s, %s", plural(int(s.Files), "file", "files"),
			plural(int(s.Directories), "directory", "directories"), plural(int(s.Others), "other", "others"), size(s.Bytes))
		f.say("space        needs %s in the store; %s would come back if only it went", size(s.Referenced), size(s.Unique))
		if s.GraceUntil != nil {
			f.say("state        in grace until %s: %s", when(*s.GraceUntil), s.LetGo)
		}
		if s.Keep != "" {
			f.say("keep mark    %s (until %s)", s.Keep, orLetGo(s.KeepUntil))
		}
		for _, r := range s.Reasons {
			f.say("kept as      %s", r)
		}
		if s.Ends != nil {
			f.say("until about  %s", when(*s.Ends))
		}
		if len(s.FarPlaces) > 0 {
			f.say("carried to   %s", strings.Join(s.FarPlaces, ", "))
		}
		if s.RemarkCount > 0 {
			f.say("remarks      %d", s.RemarkCount)
			for _, r := range s.Remarks {
				f.say("  %s: %s", r.Path, r.What)
			}
		}
	})
}

func orLetGo(t *time.Time) string {
	if t == nil {
		return "let go by hand"
	}
	return when(*t)
}

func snapshotChange(ctx context.Context, f *session, cmd *cli.Command) error {
	ask := api.SnapshotChange{Drop: cmd.StringSlice("drop")}
	var err error
	if ask.Set, err = labels(cmd.StringSlice("label")); err != nil {
		return err
	}
	goesFirst(cmd, ask.Set)
	if ask.KeepUntil, err = future(cmd.String("keep-until")); err != nil {
		return err
	}
	if cmd.IsSet("note") {
		note := cmd.String("note")
		ask.Note = &note
	}
	return f.each(ctx, cmd, func(path string, s *api.Snapshot) error {
		return f.Patch(ctx, path, ask, s)
	}, func(s api.Snapshot) {
		words := []string{"no note"}
		if s.Note != "" {
			words[0] = "the note " + strconv.Quote(s.Note)
		}
		if len(s.Labels) > 0 {
			words = append(words, "the labels "+labelText(s.Labels))
		}
		f.say("%s of %s has %s.", short(s.ID), s.Volume, strings.Join(words, ", "))
		if s.OwnEnd != nil {
			f.say("  It was asked to stay until %s.", when(*s.OwnEnd))
		}
	})
}

// each does something with each snapshot that is named, and says what came of it. It ends at the first that fails.
func (f *session) each(ctx context.Context, cmd *cli.Command, do func(path string, s *api.Snapshot) error,
	say func(s api.Snapshot)) error {
	var all []api.Snapshot
	var failed error
	done := map[string]bool{} // what is removed or recalled of a set is so of all of it
	for _, id := range cmd.Args().Slice() {
		var s api.Snapshot
		if len(done) > 0 {
			if failed = f.Get(ctx, "/snapshots/"+url.PathEscape(id), nil, &s); failed != nil {
				break
			}
			if done[s.SetID] {
				continue
			}
			s = api.Snapshot{}
		}
		if failed = do("/snapshots/"+url.PathEscape(id), &s); failed != nil {
			break
		}
		if all = append(all, s); s.SetID != "" && (cmd.Name == "remove" || cmd.Name == "recall") {
			done[s.SetID] = true
		}
	}
	if len(all) == 0 {
		return failed
	}
	var out any = all
	if cmd.Args().Len() == 1 {
		out = all[0]
	}
	err := f.show(out, func() {
		for _, s := range all {
			say(s)
		}
	})
	return cmp.Or(failed, err)
}
