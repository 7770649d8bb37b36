package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// What people say of things is shown with them, and goes with them.
func TestPurpose(t *testing.T) {
	d := newDesk(t)
	d.put("other/a", "b")
	d.run("volume add letters --path DIR/share --label k=v")
	d.run("volume add verses --path DIR/other --label k=v")
	d.run("group put pair letters verses")
	d.put("share/policy", "policy: p\nvolumes: {k: v}\ntake: [daily at 22:00]\n")
	d.run("policy put DIR/share/policy")
	require.NoError(t, os.Mkdir(filepath.Join(d.dir, "disk"), 0o700))
	d.run("place attach shelf --path DIR/disk")
	d.run("route add to-shelf --to shelf --volumes k=v")
	d.refuses("purpose route west nightly", 1, "west")
	d.refuses("purpose volume letters mine", 2, "")
	d.refuses("purpose route", 2, "takes KIND NAME [TEXT...]")
	d.reads("purpose route to-shelf 'taken home' on fridays", `
route to-shelf: taken home on fridays
`)
	for _, of := range []string{"policy p", "group pair", "site shelf"} {
		_, _, code := d.run("purpose " + of + " because of " + of)
		require.Zero(t, code)
	}
	for line, want := range map[string]string{"route show to-shelf": "For: taken home on fridays\n",
		"group show pair": "for          because of group pair\n", "policy show p": "# for: because of policy p\n",
		"site list --json": "because of site shelf"} {
		out, _, code := d.run(line)
		require.Zero(t, code, line)
		require.Contains(t, out, want)
	}
	d.run("route edit to-shelf --priority 7") // what is said stays when the rest changes
	out, _, _ := d.run("route show to-shelf")
	require.Contains(t, out, "taken home on fridays")
	d.reads("purpose group pair", `
The group pair has no description any more.
`)
	d.run("route remove to-shelf")
	d.run("route add to-shelf --to shelf --volumes k=v")
	out, _, _ = d.run("route show to-shelf")
	require.NotContains(t, out, "taken home", "it went with the route")
}
