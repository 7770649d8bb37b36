package cli

import (
	"context"
	"time"

	"candidharbor/api"
	"candidharbor/internal/moment"

	"github.com/urfave/cli/v3"
)

// timesCommand shows and chooses how times are shown to who asks.
func timesCommand() *cli.Command {
	return &cli.Command{Name: "times", Usage: "in which zone and form the console shows times to you",
		Description: "Example: candid person times --zone Europe/Lisbon --dates \"day first\"",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "zone", Usage: "a time zone, or \"browser\": that of the machine that shows them"},
			&cli.StringFlag{Name: "dates", Usage: "year first, day first or month first"}},
		Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
			var me api.Me
			if err := f.Get(ctx, "/me", nil, &me); err != nil {
				return err
			}
			if cmd.IsSet("zone") || cmd.IsSet("dates") {
				if cmd.IsSet("zone") {
					if me.Times.Zone = cmd.String("zone"); me.Times.Zone == "browser" {
						me.Times.Zone = ""
					}
				}
				if cmd.IsSet("dates") {
					me.Times.Dates = cmd.String("dates")
				}
				if err := f.Put(ctx, "/me/times", me.Times, &me.Times); err != nil {
					return err
				}
			}
			return f.show(me.Times, func() {
				where := "in the zone of the browser"
				if me.Times.Zone != "" {
					where = "in " + me.Times.Zone
				}
				style, ok := moment.Read(me.Times.Zone + ", " + me.Times.Dates)
				if !ok { // this terminal is no browser, but mostly near one
					style = moment.Style{Zone: time.Local, Dates: moment.Dates(me.Times.Dates)}
				}
				f.say("The console shows times to %s %s, such as %s.", me.Name, where, style.Write(me.Now))
				f.say("Commands show and take them in the zone of the terminal, %s now: set TZ for another.",
					me.Now.Local().Format("MST"))
			})
		})}
}
