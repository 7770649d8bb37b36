package cli

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The status of many volumes shows those that need a hand, and says how many it leaves out.
func TestStatusOfMany(t *testing.T) {
	d := newDesk(t)
	d.put("p.yaml", "policy: p\nvolumes: {k: v}\ntake: [daily at 23:30]\n")
	d.run("policy put DIR/p.yaml")
	for i := range 60 {
		name := fmt.Sprintf("v%02d", i)
		d.put(name+"/a", name)
		label := ""
		if i%10 > 0 {
			label = " --label k=v"
		}
		d.run("volume add " + name + " --path DIR/" + name + label)
	}
	lines := func(args string) (rows, rest int, last string) {
		out, _, code := d.run("status" + args)
		require.Zero(t, code)
		for _, l := range strings.Split(out, "\n") {
			if strings.HasPrefix(l, "v") {
				rows++
			}
			if strings.Contains(l, "candid status --all") {
				last = l
			}
		}
		return rows, strings.Count(out, "\n") - rows, last
	}
	rows, _, last := lines("")
	require.Equal(t, 40, rows)
	require.Equal(t, "and 20 more that are not on target, and 0 that are: candid status --all", last)
	_, _, code := d.run("snapshot take --policy p")
	require.Zero(t, code)
	rows, rest, last := lines("")
	require.Equal(t, 6, rows)
	require.Equal(t, "54 more are on target: candid status --all", last)
	require.Less(t, rest, 14)
	rows, _, last = lines(" --all")
	require.Equal(t, 60, rows)
	require.Empty(t, last)
}
