package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"candidharbor/client"
	"candidharbor/internal/moment"
	"candidharbor/internal/visible"

	"github.com/urfave/cli/v3"
)

// Exit codes.
const (
	exitFailed  = 1
	exitMisuse  = 2
	exitRemarks = 3
)

// exitError carries an exit code; its text may be empty when all was said.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func misuse(format string, args ...any) error {
	return &exitError{exitMisuse, fmt.Errorf(format, args...)}
}

// Main runs the command and returns its exit code.
func Main(ctx context.Context, args []string, stdout, stderr io.Writer) int {
	app := newApp(stdout, stderr)
	err := app.Run(ctx, args)
	if err == nil {
		return 0
	}
	code := exitFailed
	var ee *exitError
	var p *client.Problem
	switch {
	case errors.As(err, &ee):
		code = ee.code
	case errors.As(err, &p):
		if p.Status == 422 || p.Status == 400 {
			code = exitMisuse
		}
	}
	if text := err.Error(); text != "" {
		fmt.Fprintf(&visible.Writer{W: stderr}, "candid: %s\n", moment.Here().Text(text))
	}
	return code
}

func newApp(stdout, stderr io.Writer) *cli.Command {
	usage := func(ctx context.Context, cmd *cli.Command, err error, sub bool) error {
		return misuse("%w; %s --help shows how", err, cmd.FullName())
	}
	app := &cli.Command{
		Name:                  "candid",
		Usage:                 "snapshots of volumes, kept by policy, carried to other sites, brought back",
		Writer:                stdout,
		ErrWriter:             stderr,
		EnableShellCompletion: true,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		OnUsageError:          usage,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "site", Usage: "the site to ask: unix:DIR/candid.sock, or http(s)://host:port with " +
				"CANDID_TOKEN", Sources: cli.EnvVars("CANDID_SITE")},
			&cli.StringFlag{Name: "pin", Usage: "SHA-256 fingerprint of the site's certificate",
				Sources: cli.EnvVars("CANDID_PIN")},
			&cli.StringFlag{Name: "desk", Usage: "ask this paired site, through the one that --site names, as far as it " +
				"has granted", Sources: cli.EnvVars("CANDID_DESK")},
			&cli.BoolFlag{Name: "json", Usage: "print the API's own JSON"},
			&cli.BoolFlag{Name: "version", Usage: "tell which build this is, and which one the site runs", Local: true},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			switch {
			case cmd.Bool("version"):
				return tellVersion(ctx, cmd)
			case cmd.Args().Present():
				return misuse("there is no command %q; candid --help lists them", cmd.Args().First())
			}
			return cli.ShowRootCommandHelp(cmd)
		},
		Commands: commands(),
	}
	each(app, func(c *cli.Command) {
		c.OnUsageError = usage
		c.Suggest = true
		if len(c.Commands) > 0 && c.Action == nil {
			c.Action = func(_ context.Context, cmd *cli.Command) error {
				if cmd.Args().Present() {
					return misuse("there is no command %q under %s; %s --help lists them", cmd.Args().First(), cmd.FullName(),
						cmd.FullName())
				}
				return cli.ShowSubcommandHelp(cmd)
			}
		}
	})
	return app
}

func each(c *cli.Command, do func(*cli.Command)) {
	do(c)
	for _, sub := range c.Commands {
		each(sub, do)
	}
}

// session is what every client command works with.
type session struct {
	*client.Client
	out, err io.Writer // for people
	raw      io.Writer // for programs, and for files as they are
	json     bool
}

func sessionOf(cmd *cli.Command) (*session, error) {
	addr := cmd.String("site")
	if addr == "" {
		return nil, misuse("no site is named: give --site or set CANDID_SITE, for example unix:/srv/harbor/candid.sock")
	}
	var opts []client.Option
	if pin := cmd.String("pin"); pin != "" {
		opts = append(opts, client.Pin(pin))
	}
	c, err := client.New(addr, os.Getenv("CANDID_TOKEN"), opts...)
	if err != nil {
		return nil, &exitError{exitMisuse, err}
	}
	if at := cmd.String("desk"); at != "" {
		c = c.At(at)
	}
	c = c.ShowTimes(moment.Zone())
	root := cmd.Root()
	return &session{Client: c, out: &visible.Writer{W: root.Writer}, raw: root.Writer,
		err: &visible.Writer{W: root.ErrWriter}, json: cmd.Bool("json")}, nil
}

// with wraps an action that needs a site, and names its arguments. A name in square
// brackets is optional, one that ends in "..." takes the rest.
func with(args string, do func(ctx context.Context, f *session, cmd *cli.Command) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		least, most := 0, 0
		for _, a := range strings.Fields(args) {
			if !strings.HasPrefix(a, "[") {
				least++
			}
			if most++; strings.HasSuffix(strings.Trim(a, "[]"), "...") {
				most = 1 << 30
			}
		}
		if n := cmd.Args().Len(); n < least || n > most {
			return misuse("%s takes %s, and %d were given", cmd.FullName(), orNothing(args), n)
		}
		f, err := sessionOf(cmd)
		if err != nil {
			return err
		}
		return do(ctx, f, cmd)
	}
}

func orNothing(args string) string {
	if args == "" {
		return "no arguments"
	}
	return args
}

// show prints JSON when asked for, else calls plain.
func (f *session) show(v any, plain func()) error {
	if f.json {
		return f.printJSON(v)
	}
	plain()
	return nil
}

func (f *session) printJSON(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := f.raw.Write(visible.JSON(b.Bytes()))
	return err
}

func (f *session) say(format string, args ...any) { fmt.Fprintf(f.out, format+"\n", args...) }

// sentence carries out a request whose answer is a sentence.
func (f *session) sentence(do func(out any) error) error {
	var s struct {
		Sentence string `json:"sentence"`
	}
	if err := do(&s); err != nil {
		return err
	}
	return f.show(s, func() { f.say("%s", s.Sentence) })
}

func labels(pairs []string) (map[string]string, error) {
	m := map[string]string{}
	for _, p := range pairs {
		k, v, ok := strings.Cut(p, "=")
		if !ok || k == "" || v == "" {
			return nil, misuse("label %q: write key=value", p)
		}
		m[k] = v
	}
	return m, nil
}
