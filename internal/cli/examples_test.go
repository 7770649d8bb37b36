package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

// known finds the command that a line calls and checks that it takes the flags given.
func known(app *cli.Command, line string) string {
	words := regexp.MustCompile(`"[^"]*"|'[^']*'|\S+`).FindAllString(line, -1)[1:]
	cmd, flags := app, slices.Clone(app.Flags)
	for i := 0; i < len(words); i++ {
		w := strings.Trim(words[i], "`.,;")
		switch {
		case strings.HasPrefix(w, "#") || strings.ContainsAny(w, "|<>…"):
			return ""
		case w == "--help":
		case strings.HasPrefix(w, "-") && len(w) > 2:
			name, _, joined := strings.Cut(strings.TrimLeft(w, "-"), "=")
			at := slices.IndexFunc(flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), name) })
			if at < 0 {
				return cmd.FullName() + " has no flag --" + name
			}
			if _, isBool := flags[at].(*cli.BoolFlag); !isBool && !joined {
				i++
			}
		case len(cmd.Commands) > 0:
			sub := cmd.Command(w)
			if sub == nil && cmd.ArgsUsage != "" {
				continue
			}
			if sub == nil {
				return cmd.FullName() + " has no command " + w
			}
			cmd, flags = sub, append(flags, sub.Flags...)
		}
	}
	if len(cmd.Commands) > 0 && cmd != app && cmd.ArgsUsage == "" {
		return cmd.FullName() + " is no whole command"
	}
	return ""
}

// Every command says what it is for and gives an example, which the command takes.
func TestEveryCommandIsExplained(t *testing.T) {
	app := newApp(os.Stdout, os.Stderr)
	count := 0
	var check func(c *cli.Command, path string)
	check = func(c *cli.Command, path string) {
		for _, sub := range c.Commands {
			check(sub, path+" "+sub.Name)
		}
		require.NotEmpty(t, c.Usage, path)
		if len(c.Commands) > 0 {
			return
		}
		count++
		_, examples, ok := strings.Cut(strings.Replace(c.Description, "Examples:", "Example:", 1), "Example:")
		require.True(t, ok, "%s has no example", path)
		for _, example := range strings.Split(strings.TrimSpace(examples), "\n") {
			example = strings.TrimSpace(example)
			require.True(t, strings.HasPrefix(example, path), "%s shows an example of something else: %s", path, example)
			require.Empty(t, known(app, example))
		}
		require.NotRegexp(t, `\.$`, c.Usage, path)
		for _, f := range c.Flags {
			if d, ok := f.(cli.DocGenerationFlag); ok && f.Names()[0] != "help" {
				require.NotEmpty(t, d.GetUsage(), "%s --%s", path, f.Names()[0])
			}
		}
	}
	check(app, "candid")
	require.Greater(t, count, 35)
}

// What the documents tell an administrator to type exists.
func TestDocumentedCommandsExist(t *testing.T) {
	app := newApp(os.Stdout, os.Stderr)
	files, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	checked := 0
	for _, name := range append(files, "../../README.md") {
		if filepath.Base(name) == "formats.md" {
			continue // there such words are how files begin
		}
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		code := false
		for n, line := range strings.Split(string(raw), "\n") {
			if strings.HasPrefix(line, "```") {
				code = !code
				continue
			}
			var calls []string
			if code {
				line = strings.TrimPrefix(strings.TrimSpace(line), "$ ")
				if line = strings.TrimPrefix(line, "bin/"); strings.HasPrefix(line, "candid ") {
					calls = append(calls, line)
				}
			} else {
				for _, m := range regexp.MustCompile("`((?:bin/)?candid [^`]+)`").FindAllStringSubmatch(line, -1) {
					calls = append(calls, m[1])
				}
			}
			for _, c := range calls {
				checked++
				require.Empty(t, known(app, c), "%s:%d: %s", filepath.Base(name), n+1, c)
			}
		}
	}
	require.Greater(t, checked, 20)
}

// A mistake is answered with what was wrong and how to find out more, and exit code 2.
func TestMisuse(t *testing.T) {
	d := newDesk(t)
	for line, say := range map[string]string{
		"snapshot take":                         "no volume is chosen: name some, or give --policy, --volumes or --due",
		"status now":                            "candid status takes no arguments, and 1 were given",
		"volume add a b --path DIR":             "takes NAME, and 2 were given",
		"volume add x --path DIR --label a":     `label "a": write key=value`,
		"volume ad x":                           `there is no command "ad" under candid volume`,
		"snapshot list x --unknown":             "flag provided but not defined",
		"snapshot take x --keep-until sometime": `"sometime" is not a time`,
		"run show -- -3":                        "is not a run",
		"restore x --at latest --to a --tar b": "one of --to DIR, --in-place, --into VOLUME, --tar FILE, --zip FILE or " +
			"--file FILE",
		"policy put DIR/none.yaml": "cannot be read",
	} {
		d.refuses(line, 2, say)
	}
	d.refuses("snapshot take nothing", 1, `volume "nothing": not found`)
	require.Equal(t, 2, Main(t.Context(), []string{"candid", "status"}, os.Stdout, &strings.Builder{}), "no site named")
	said := &strings.Builder{}
	require.Equal(t, 1, Main(t.Context(), []string{"candid", "--site", "unix:" + d.dir + "/none.sock", "status"},
		os.Stdout, said))
	require.Contains(t, said.String(), "start it with candid serve")
	said.Reset()
	require.Equal(t, 2, Main(t.Context(), []string{"candid", "--site", "ftp://x", "status"}, os.Stdout, said))
	require.Contains(t, said.String(), "give unix:DIR/candid.sock or http(s)://host:port")
}
