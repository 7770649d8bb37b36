package cli

import (
	"context"
	"strconv"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func statusCommand() *cli.Command {
	return &cli.Command{Name: "status", Usage: "how everything stands, in sentences",
		Description: "Example: candid status",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "every volume at every place, however many there are"}},
		Action: with("", func(ctx context.Context, f *session,
			cmd *cli.Command) error {
			var st api.Status
			if err := f.Get(ctx, "/status", nil, &st); err != nil {
				return err
			}
			return f.show(st, func() { f.status(&st, cmd.Bool("all")) })
		})}
}

// fewPlaces is how many lines of volumes and places are shown whatever they say. Of more, those on target are left
// out, so that the sentences stay in sight.
const fewPlaces = 40

func (f *session) status(st *api.Status, all bool) {
	f.say("%s, %s %s", st.Site, when(st.Now), st.Now.Local().Format("MST"))
	for _, s := range st.Sentences {
		mark := " "
		if s.Weight == "act" {
			mark = "!"
		}
		f.say("%s %s", mark, s.Text)
		if s.Next != "" {
			f.say("    %s: %s", s.Next, s.Command)
		}
	}
	var rows, needy [][]string
	for _, v := range st.Volumes {
		for _, p := range v.Places {
			objective := "-"
			if p.ObjectiveSeconds > 0 {
				objective = age(p.ObjectiveSeconds)
			}
			lag := "-"
			if p.Newest != nil {
				lag = age(p.LagSeconds)
			}
			row := []string{v.Name, p.Place, p.State, whenPtr(p.Newest), lag, objective, strconv.Itoa(p.Backlog)}
			if rows = append(rows, row); p.State != "on target" {
				needy = append(needy, row)
			}
		}
	}
	whole := len(rows)
	if whole > fewPlaces && !all {
		rows = needy[:min(len(needy), fewPlaces)]
	}
	if len(rows) > 0 {
		f.say("")
		f.list([]string{"VOLUME", "PLACE", "STATE", "NEWEST STATE", "AGE", "OBJECTIVE", "BACKLOG"}, rows, "")
	}
	if n := len(needy) - len(rows); whole > fewPlaces && !all && n > 0 {
		f.say("and %d more that are not on target, and %d that are: candid status --all", n, whole-len(needy))
	} else if whole > fewPlaces && !all {
		f.say("%d more are on target: candid status --all", whole-len(needy))
	}
	for _, r := range st.Running {
		f.say("Running: %d %s of %s, %s", r.ID, r.Kind, r.Subject, r.Progress.Phase)
	}
	if len(st.Coming) > 0 {
		f.say("\nNext: %s of %s at %s", st.Coming[0].What, st.Coming[0].Volume, when(st.Coming[0].At))
	}
	f.say("Store: %s in %s, %s free", size(st.Usage.StoredBytes), plural(st.Usage.Snapshots, "snapshot", "snapshots"),
		size(st.Usage.FreeBytes))
}
