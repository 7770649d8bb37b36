package cli

import (
	"context"
	"fmt"
	"strconv"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func incomingCommand() *cli.Command {
	return &cli.Command{Name: "incoming", Usage: "what other sites bring here, or is taken from them, by volume",
		Description: "Example: candid route incoming", Action: with("", func(ctx context.Context, f *session,
			_ *cli.Command) error {
			var all []api.Incoming
			if err := f.Get(ctx, "/incoming", nil, &all); err != nil {
				return err
			}
			return f.show(all, func() {
				var rows [][]string
				for _, v := range all {
					rows = append(rows, []string{v.From, v.Volume, v.State, strconv.Itoa(v.Copies), whenPtr(v.Newest),
						whenPtr(v.LastArrived), incomingWords(&v)})
				}
				f.list([]string{"FROM", "VOLUME", "STATE", "COPIES", "NEWEST TAKEN", "LAST ARRIVED", ""}, rows,
					"Nothing comes from other sites, and nothing did.")
			})
		})}
}

func incomingWords(v *api.Incoming) string {
	switch v.State {
	case "coming":
		rate := ""
		if v.Rate > 0 {
			rate = fmt.Sprintf(", %s a second", size(v.Rate))
		}
		return fmt.Sprintf("%s since %s: %s so far%s", short(v.Snapshot), when(*v.Since), size(v.DoneBytes), rate)
	case "refused":
		return fmt.Sprintf("since %s: %s", when(*v.Since), v.Refused)
	case "no line":
		return "nothing can come until it answers: candid site check " + v.From
	}
	return ""
}
