package cli

import (
	"context"
	"fmt"

	"candidharbor/api"
	"candidharbor/internal/release"

	"github.com/urfave/cli/v3"
)

// commands are all commands, by the phase of the job in which they are used.
func commands() (all []*cli.Command) {
	for i, phase := range []struct {
		name     string
		commands []*cli.Command
	}{
		{"See how it stands", []*cli.Command{statusCommand(), alarmCommand(), runCommand(), explainCommand(),
			reportCommand(), ledgerCommand(), purposeCommand()}},
		{"Protect", []*cli.Command{volumeCommand(), groupCommand(), policyCommand(), snapshotCommand(), diskCommand()}},
		{"Bring back", []*cli.Command{findCommand(), browseCommand(), versionsCommand(), asOfCommand(), compareCommand(),
			restoreCommand(), undoCommand(), recipeCommand(), trialCommand(), mountCommand(), cloneCommand(),
			foundCommand()}},
		{"Carry to other sites", []*cli.Command{siteCommand(), routeCommand(), paceCommand(), crateCommand(),
			placeCommand(), outletCommand()}},
		{"Keep within bounds", []*cli.Command{pruneCommand(), spaceCommand(), capCommand(), storeCommand()}},
		{"Move to the other site and home", []*cli.Command{runbookCommand(), drillCommand(), failoverCommand(),
			failbackCommand(), authorityCommand(), leftBehindCommand()}},
		{"Set up", []*cli.Command{beginCommand(), serveCommand(), demoCommand(), personCommand(), tokenCommand()}},
	} {
		for _, c := range phase.commands {
			c.Category = fmt.Sprintf("%d. %s", i+1, phase.name) // they are shown in the order of their text
			all = append(all, c)
		}
	}
	return all
}

// buildVersions are the builds of this program and of the site that it asks.
type buildVersions struct {
	Client string `json:"client"`
	Site   string `json:"site,omitempty"` // its name
	Runs   string `json:"runs,omitempty"`
}

// tellVersion tells the builds; that of the site when one is named.
func tellVersion(ctx context.Context, cmd *cli.Command) error {
	v := buildVersions{Client: release.Version()}
	if cmd.String("site") == "" {
		f := &session{out: cmd.Root().Writer, raw: cmd.Root().Writer, err: cmd.Root().ErrWriter, json: cmd.Bool("json")}
		return f.show(v, func() { f.say("This program is of %s.", v.Client) })
	}
	f, err := sessionOf(cmd)
	if err != nil {
		return err
	}
	var s api.Site
	err = f.Get(ctx, "/site", nil, &s)
	if err == nil {
		v.Site, v.Runs = s.Name, s.Release
	}
	if serr := f.show(v, func() {
		f.say("This program is of %s.", v.Client)
		if v.Site != "" {
			f.say("The site %s runs that of %s.", v.Site, v.Runs)
		}
	}); serr != nil {
		return serr
	}
	return err
}
