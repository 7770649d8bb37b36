package overview

import (
	"slices"
	"strings"
	"testing"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func drawn(volumes []api.Volume, by string) (out [][2]string) {
	for _, f := range foldLines(volumes, by) {
		var names []string
		for _, l := range f.Lines {
			names = append(names, l.Name)
		}
		out = append(out, [2]string{f.Label, strings.Join(names, " ")})
	}
	return out
}

// What needs a hand comes first.
func TestFoldLines(t *testing.T) {
	of := func(name, protection, hall string) api.Volume {
		v := api.Volume{Name: name, Protection: protection, Protected: true}
		if hall != "" {
			v.Labels = map[string]string{"hall": hall}
		}
		return v
	}
	some := []api.Volume{of("z", "on target", "east"), of("a", "on target", "west"), of("m", "unprotected", ""),
		of("k", "late", "west"), {Name: "gone", Protection: "unprotected"}, of("b", "paused", "")}
	require.Equal(t, [][2]string{{"", "k m b a z gone"}}, drawn(some, "nothing"))
	require.Equal(t, [][2]string{{"late", "k"}, {"unprotected", "m"}, {"paused", "b"}, {"on target", "a z"},
		{"removed", "gone"}}, drawn(some, "state"))
	require.Equal(t, [][2]string{{"needs a hand", "k m"}, {"east", "z"}, {"west", "a"}, {"without hall", "b gone"}},
		drawn(some, "label hall"))
	require.Empty(t, foldLines(nil, "state"))
}

// However they are folded, each volume is there once, and those that need a hand stand before all others.
func TestFoldsHoldAll(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var volumes []api.Volume
		for i := range rapid.IntRange(0, 40).Draw(rt, "n") {
			v := api.Volume{Name: strings.Repeat("v", i+1), Protected: rapid.Bool().Draw(rt, "protected"),
				Protection: rapid.SampledFrom(standings[:5]).Draw(rt, "protection")}
			if rapid.Bool().Draw(rt, "labelled") {
				v.Labels = map[string]string{"k": rapid.SampledFrom([]string{"a", "b", "needs a hand"}).Draw(rt, "label")}
			}
			volumes = append(volumes, v)
		}
		by := rapid.SampledFrom([]string{byState, byNothing, "label k", "label other"}).Draw(rt, "by")
		var names, keys []string
		calm := false
		for _, f := range foldLines(volumes, by) {
			keys = append(keys, f.Key)
			for _, l := range f.Lines {
				names = append(names, l.Name)
				require.False(rt, calm && l.State != "")
				calm = calm || l.State == ""
			}
		}
		require.Len(rt, names, len(volumes))
		slices.Sort(names)
		require.Len(rt, slices.Compact(names), len(volumes))
		slices.Sort(keys)
		require.Equal(rt, len(keys), len(slices.Compact(slices.Clone(keys))))
	})
}
