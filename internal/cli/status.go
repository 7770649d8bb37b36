package cli

import (
	"context"
	"strconv"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func statusCommand() *cli.Command {
	return &cli.Command{Name: "status", Usage: "how everything stands, in sentences",
		Description: "Example: candid status", Action: with("", func(ctx context.Context, f *session,
			cmd *cli.Command) error {
			var st api.Status
			if err := f.Get(ctx, "/status", nil, &st); err != nil {
				return err
			}
			return f.show(st, func() { f.status(&st) })
		})}
}

func (f *session) status(st *api.Status) {
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
	var rows [][]string
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
			rows = append(rows, []string{v.Name, p.Place, p.State, whenPtr(p.Newest), lag, objective, strconv.Itoa(p.Backlog)})
		}
	}
	if len(rows) > 0 {
		f.say("")
		f.list([]string{"VOLUME", "PLACE", "STATE", "NEWEST STATE", "AGE", "OBJECTIVE", "BACKLOG"}, rows, "")
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
