package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"syscall"

	"candidharbor/internal/demo"
	"candidharbor/internal/moment"
	"candidharbor/internal/service"
	"candidharbor/internal/site"

	"github.com/urfave/cli/v3"
)

func serveCommand() *cli.Command {
	return &cli.Command{Name: "serve", Usage: "serve the site in a data directory, making it when it is new",
		Description: "Example: candid serve --data /srv/harbor --name larkfield --root /srv/shares",
		Flags: []cli.Flag{&cli.StringFlag{Name: "data", Usage: "the site's data directory", Required: true},
			&cli.StringFlag{Name: "listen", Usage: "address of console and API; 127.0.0.1:7310 for a new site"},
			&cli.StringFlag{Name: "peer-listen", Usage: "address for other sites; the port after the console's for a new site"},
			&cli.StringFlag{Name: "disk-listen", Usage: "address at which other hosts open disks; as site.yaml says when not " +
				"given, and none for a new site"},
			&cli.StringFlag{Name: "name", Usage: "a new site's name; the host's when not given"},
			&cli.StringSliceFlag{Name: "root", Usage: "a directory that a new site may read and write; /srv and /home " +
				"when not given"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Present() {
				return misuse("candid serve takes no arguments")
			}
			out, errs := cmd.Root().Writer, cmd.Root().ErrWriter
			log := slog.New(slog.NewTextHandler(errs, &slog.HandlerOptions{ReplaceAttr: plainMoments}))
			ctx, stop := signal.NotifyContext(ctx, syscall.SIGTERM, os.Interrupt)
			defer stop()
			svc, err := service.Start(site.Options{Data: cmd.String("data"), Name: cmd.String("name"),
				Listen:     cmd.String("listen"),
				PeerListen: cmd.String("peer-listen"), DiskListen: cmd.String("disk-listen"),
				Roots: cmd.StringSlice("root"), Logger: log})
			if err != nil {
				return err
			}
			greet(out, svc)
			svc.Work()
			select {
			case <-ctx.Done():
			case err = <-svc.Failed:
			}
			fmt.Fprintln(out, "Stopping: running work ends at its next safe point.")
			svc.Stop()
			return err
		}}
}

func greet(out io.Writer, svc *service.Service) {
	fmt.Fprintf(out, "Site %s serves %s\n", svc.Site.Name(), svc.Site.Path)
	fmt.Fprintf(out, "  console and API   %s\n", svc.URL)
	if svc.Fingerprint != "" {
		fmt.Fprintf(out, "  its certificate   SHA-256 %s (give it to candid with --pin)\n", svc.Fingerprint)
	}
	fmt.Fprintf(out, "  on this host      --site %s\n", svc.Socket)
	if svc.DiskAddress != "" {
		fmt.Fprintf(out, "  disks for hosts   %s\n", svc.DiskAddress)
	}
	fmt.Fprintf(out, "  for other sites   %s\n", svc.PeerAddress)
	if t := svc.FirstToken; t.Text != "" {
		fmt.Fprintf(out, "  sign in with      %s\n", t.Text)
		fmt.Fprintf(out, "                    (shown once, lets in until %s; on this host more with candid token add NAME)\n",
			when(*t.Until))
		if l, err := svc.SignInLink(); err == nil {
			fmt.Fprintf(out, "  or open, once     %s\n", l.Address)
			fmt.Fprintf(out, "                    (before %s; on this host more with candid token link)\n", when(l.Until))
		}
		fmt.Fprintf(out, "  first steps       candid begin\n")
	}
}

func demoCommand() *cli.Command {
	return &cli.Command{Name: "demo", Usage: "live through 90 days at two sites of a made-up survey, then serve both",
		Description: "Example: candid demo --once",
		Flags: []cli.Flag{&cli.StringFlag{Name: "data", Usage: "where to put it; a new temporary directory when not given"},
			&cli.IntFlag{Name: "days", Value: 90, Usage: "how many days to live through"},
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:7310", Usage: "address of Larkfield's console; Stonewick gets " +
				"the port two after it"},
			&cli.BoolFlag{Name: "once", Usage: "end after the story"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if d := cmd.Int("days"); d < 24 || d > 400 {
				return misuse("--days %d: the story needs 24 to 400 days", d)
			}
			ctx, stop := signal.NotifyContext(ctx, syscall.SIGTERM, os.Interrupt)
			defer stop()
			return demo.Run(ctx, demo.Options{Data: cmd.String("data"), Days: cmd.Int("days"), Once: cmd.Bool("once"),
				Listen: cmd.String("listen"), Out: cmd.Root().Writer})
		}}
}

// plainMoments writes the moments in what is logged in the zone of this host.
func plainMoments(_ []string, a slog.Attr) slog.Attr {
	switch v := a.Value.Any().(type) {
	case string:
		a.Value = slog.StringValue(moment.Here().Text(v))
	case error:
		a.Value = slog.StringValue(moment.Here().Text(v.Error()))
	}
	return a
}
