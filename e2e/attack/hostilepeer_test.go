package attack

import (
	"context"
	"fmt"
	mrand "math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A paired site says everything that sites say to each other, as it is not to be said: frames
// altered, forged, cut, left out, twice, early, late, replayed, of another kind and oversized, in
// both directions of all that two sites do. Neither ends, takes much memory, loses a snapshot or
// a keep mark, or has one that nobody took; and when the line is honest again, all of it flows.
func TestHostilePeer(t *testing.T) {
	base := openDir(t)
	dirs, sites := map[string]string{}, map[string]*site{}
	volume := map[string]string{"larkfield": "notes", "stonewick": "maps"}
	other := map[string]string{"larkfield": "stonewick", "stonewick": "larkfield"}
	both := []string{"larkfield", "stonewick"}
	for _, name := range both {
		dirs[name] = filepath.Join(base, name+"-share", volume[name])
		require.NoError(t, os.MkdirAll(dirs[name], 0o755))
		sites[name] = serve(t, filepath.Join(base, name), name, filepath.Join(base, name+"-share"))
	}
	seed := mrand.Uint64()
	t.Logf("seed %d", seed)
	m := between(t, seed, sites["larkfield"], sites["stonewick"])
	rng := mrand.New(mrand.NewPCG(seed, 6))
	var inv struct{ Text string }
	grants := []string{"--grant", "offer", "--grant", "read", "--grant", "see", "--grant", "configure"}
	sites["larkfield"].json(&inv, append([]string{"site", "invite"}, grants...)...)
	sites["stonewick"].run(append([]string{"site", "pair", inv.Text}, grants...)...)
	change := func(name string) {
		for i := range 3 {
			text := make([]byte, 20_000+rng.IntN(60_000))
			for k := range text {
				text[k] = byte(rng.Uint32())
			}
			require.NoError(t, os.WriteFile(filepath.Join(dirs[name], fmt.Sprint("page", rng.IntN(6), i)), text, 0o644))
		}
	}
	taken := map[string]bool{}
	type row struct{ ID, Keep, Note string }
	list := func(at, volume string) (rows []row) {
		sites[at].json(&rows, "snapshot", "list", volume)
		return rows
	}
	for _, name := range both {
		s := sites[name]
		change(name)
		s.run("volume", "add", volume[name], "--path", dirs[name], "--label", "k=v")
		s.run("snapshot", "take", volume[name], "--note", "kept")
		s.run("snapshot", "keep", list(name, volume[name])[0].ID, "--reason", "for good")
		s.run("route", "add", "to", "--to", other[name], "--volumes", "k=v")
		s.run("route", "add", "of", "--from", other[name], "--volumes", "k=v")
		s.run("route", "run", "to")
	}
	idle := map[string]int64{}
	for _, name := range both {
		idle[name] = resident(t, sites[name].cmd.Process.Pid)
	}
	try := func(s *site, args ...string) {
		ctx, end := context.WithTimeout(t.Context(), 15*time.Second)
		defer end()
		_ = exec.CommandContext(ctx, s.bin, append([]string{"--site", "unix:" + filepath.Join(s.dir, "candid.sock")},
			args...)...).Run()
	}
	for round := range rounds(6) {
		m.tune([]float64{0.02, 0.1, 0.4}[round%3])
		for _, name := range both {
			s, far := sites[name], other[name]
			change(name)
			s.run("snapshot", "take", volume[name])
			copied := volume[far] + "@" + far
			acts := [][]string{{"route", "run", "to"}, {"route", "run", "of"}, {"site", "check", far}, {"find", copied, "page*",
				"--sites"}, {"versions", copied, "page00", "--sites"},
				{"restore", copied, "--at", "latest", "--from-site", far, "--to", filepath.Join(base, name+"-share",
					fmt.Sprint("back", round))}, {"--desk", far, "status"}, {"--desk", far, "snapshot", "list", volume[far]},
				{"trial", "run", copied}, {"store", "verify"}}
			for _, i := range rng.Perm(len(acts)) {
				try(s, acts[i]...)
			}
		}
	}
	for _, name := range both {
		grown := resident(t, sites[name].cmd.Process.Pid) - idle[name]
		t.Logf("%s: %d MiB more", name, grown>>20)
		require.Less(t, grown, int64(mostMore), name)
	}
	did := m.tune(0)
	t.Log(did)
	require.NotEmpty(t, did)
	for _, name := range both {
		rows := list(name, volume[name])
		require.Len(t, rows, 1+rounds(6))
		for _, r := range rows {
			taken[r.ID] = true
			require.Equal(t, r.Note == "kept", r.Keep == "for good", "%+v", r)
		}
	}
	for _, name := range both {
		s, far := sites[name], other[name]
		var said string
		for end := time.Now().Add(2 * time.Minute); ; {
			var err error
			if said, err = s.try("route", "run", "to"); err == nil {
				break
			}
			require.True(t, time.Now().Before(end), "the line is honest again, and nothing is carried: %s", said)
			if strings.Contains(said, "candid site confirm") { // two showed that key, which is true
				try(s, "site", "confirm", far)
				try(sites[far], "site", "confirm", name)
			}
		}
		change(name)
		s.run("snapshot", "take", volume[name])
		s.run("route", "run", "to")
		newest := list(name, volume[name])[0].ID
		taken[newest] = true
		copies := list(far, volume[name]+"@"+name)
		require.Equal(t, newest, copies[0].ID)
		for _, c := range copies {
			require.True(t, taken[c.ID], "%s has a snapshot that nobody took", far)
		}
		back := filepath.Join(base, far+"-share", "proof")
		sites[far].run("restore", volume[name]+"@"+name, "--at", newest, "--to", back)
		out, err := exec.Command("diff", "-r", dirs[name], back).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	for _, name := range both {
		sites[name].run("store", "verify")
		require.NotContains(t, sites[name].log.String(), "panic", name)
		require.False(t, strings.Contains(sites[name].log.String(), "fatal error"), name)
	}
}
