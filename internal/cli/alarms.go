package cli

import (
	"context"
	"net/url"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func alarmCommand() *cli.Command {
	return &cli.Command{Name: "alarm", Usage: "what needs a person", Commands: []*cli.Command{
		{Name: "list", Usage: "open alarms, newest first", Description: "Example: candid alarm list --all",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "with those that have ended"}},
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				q := url.Values{}
				if cmd.Bool("all") {
					q.Set("all", "true")
				}
				var list api.AlarmList
				if err := f.Get(ctx, "/alarms", q, &list); err != nil {
					return err
				}
				return f.show(list, func() {
					var rows [][]string
					for _, a := range list.Items {
						ended := "still open"
						if a.Ended != nil {
							ended = when(*a.Ended)
						}
						if a.MutedUntil != nil {
							ended += ", muted until " + when(*a.MutedUntil)
						}
						rows = append(rows, []string{strconv.FormatInt(a.ID, 10), when(a.Since), ended, a.About, a.Text})
					}
					f.list([]string{"ID", "SINCE", "ENDED", "ABOUT", ""}, rows, "Nothing needs you now.")
					f.say("Alarms go to: %s.", strings.Join(list.Channels, ", "))
					for by, why := range list.Failing {
						f.say("Messages by %s wait, because they cannot be sent: %s", by, why)
					}
				})
			})},
		{Name: "test", Usage: "send a message over every channel", Description: "Example: candid alarm test",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				return f.sentence(func(out any) error { return f.Post(ctx, "/alarms/test", nil, out) })
			})},
		{Name: "mute", Usage: "do not send an alarm out for a while; it stays on the list", ArgsUsage: "ID",
			Description: "Example: candid alarm mute 12 --for 8h",
			Flags: []cli.Flag{&cli.DurationFlag{Name: "for", Usage: "how long, such as 8h; 0s ends it",
				Value: 8 * time.Hour}},
			Action: with("ID", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var self api.Site
				if err := f.Get(ctx, "/site", nil, &self); err != nil {
					return err
				}
				var a api.Alarm
				if err := f.Post(ctx, "/alarms/"+url.PathEscape(cmd.Args().First())+"/mute",
					api.AlarmMute{Until: self.Now.Add(cmd.Duration("for"))}, &a); err != nil {
					return err
				}
				return f.show(a, func() {
					if a.MutedUntil == nil {
						f.say("Alarms about %s are sent out again.", a.About)
						return
					}
					f.say("Alarms about %s are not sent out before %s.", a.About, when(*a.MutedUntil))
				})
			})},
	}}
}
