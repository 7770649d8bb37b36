//go:build !linux

package cli

import (
	"context"
	"errors"

	"github.com/urfave/cli/v3"
)

// errHost is what the commands say that are a site themselves.
var errHost = errors.New("a site is served on Linux alone; here candid asks one, by --site and CANDID_TOKEN")

func serveCommand() *cli.Command {
	return &cli.Command{Name: "serve", Usage: "serve a site (on Linux alone)", SkipFlagParsing: true,
		Description: "Example: candid serve --data /srv/harbor --name larkfield --root /srv/shares",
		Action:      func(context.Context, *cli.Command) error { return errHost }}
}

func demoCommand() *cli.Command {
	return &cli.Command{Name: "demo", Usage: "three sites with a story (on Linux alone)", SkipFlagParsing: true,
		Description: "Example: candid demo",
		Action:      func(context.Context, *cli.Command) error { return errHost }}
}
