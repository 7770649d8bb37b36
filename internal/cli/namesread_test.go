package cli

import (
	"fmt"
	"testing"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

// The first search of what nobody searched yet tells how far it is; with --json it says nothing beside.
func TestFirstSearchTellsHowFarItIs(t *testing.T) {
	d := newDesk(t)
	_, errs, code := d.run("volume add letters --path " + d.dir + "/share/letters")
	require.Zero(t, code, errs)
	after, each := toldAfter, toldEach
	toldAfter, toldEach = 0, 0
	t.Cleanup(func() { toldAfter, toldEach = after, each })
	told := ""
	for try := 0; try < 50 && told == ""; try++ { // one that is over before it is asked tells nothing
		for i := range 2000 {
			d.put(fmt.Sprintf("share/letters/%d/%d", try, i), "x")
		}
		_, errs, code := d.run("snapshot take letters")
		require.Zero(t, code, errs)
		if try%2 == 1 {
			out, errs, code := d.run("--json find letters 1999")
			require.Zero(t, code, errs)
			require.Empty(t, errs)
			require.Contains(t, out, fmt.Sprintf("%d/1999", try))
			continue
		}
		out, errs, code := d.run("find letters 1999")
		require.Zero(t, code, errs)
		require.Contains(t, out, fmt.Sprintf("%d/1999", try))
		told = errs
	}
	require.Regexp(t, `^Reading the names of letters, which later searches need not: \d+ names?, snapshot 1 of [12] …`,
		told)
	const reading = "Reading the names of v, which later searches need not"
	for r, want := range map[api.NamesRead]string{
		{Volume: "v"}: reading + " …",
		{Volume: "v", Names: 1, Snapshot: 2, Of: 3}: reading + ": 1 name, snapshot 2 of 3 …",
	} {
		require.Equal(t, want, namesRead(&r))
	}
}
