package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// A real source tree: snapshot, change, snapshot, carry; then the first site and the
// source are destroyed, and both moments come back at the second.
func TestDisaster(t *testing.T) {
	base := t.TempDir()
	src := filepath.Join(base, "share")
	shell(t, base, "cp -a "+filepath.Join(goroot(t), "src")+" share")
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	out := a.run("volume", "add", "source", "--path", src, "--label", "kind=code")
	require.Contains(t, out, "same filesystem")
	pair(t, a, b, "kind=code")
	a.run("snapshot", "take", "source", "--note", "first", "--label", "step=1")
	shell(t, base, "cp -a share want1")
	shell(t, src, `rm -r crypto; mv net network; echo changed >> fmt/print.go; printf 'new\n' > new.txt
		ln -s new.txt link; ln fmt/doc.go doc-link; chmod 600 sort/sort.go`)
	a.run("snapshot", "take", "source", "--note", "second")
	shell(t, base, "cp -a share want2")
	a.run("route", "run", "to-dr")
	a.kill()
	require.NoError(t, os.RemoveAll(a.dir))
	require.NoError(t, os.RemoveAll(src))
	for _, s := range b.snapshots("source@larkfield") {
		n := map[string]string{"first": "1", "second": "2"}[s.Note]
		b.run("restore", "source@larkfield", "--at", s.ID, "--to", filepath.Join(base, "back"+n))
		same(t, filepath.Join(base, "want"+n), filepath.Join(base, "back"+n))
	}
	require.Contains(t, b.run("store", "verify", "--strict"), "all as written")
	back := map[string]string{}
	for _, s := range b.snapshots("source@larkfield") {
		back[s.ID] = filepath.Join(base, "back"+map[string]string{"first": "1", "second": "2"}[s.Note])
	}
	proveStore(t, b, "source@larkfield", back)

	// The catalogue is deleted: it comes back from the store with notes and labels, and
	// nothing is removed until released.
	b.stop()
	for _, f := range []string{"catalog.db", "catalog.db-wal", "catalog.db-shm"} {
		os.Remove(filepath.Join(b.dir, f))
	}
	b.token = ""
	b.start()
	list := b.snapshots("source@larkfield")
	require.Len(t, list, 2)
	require.Equal(t, "first", list[1].Note)
	require.Contains(t, b.run("snapshot", "show", list[1].ID), "note         first")
	require.Contains(t, b.run("prune", "--dry-run"), "Nothing is removed at present")
	_, err := b.try("store", "sweep")
	require.ErrorContains(t, err, "nothing is swept at present")
	_, err = b.try("snapshot", "remove", list[0].ID)
	require.ErrorContains(t, err, "nothing is removed at present")
	b.run("store", "release")
	require.Contains(t, b.run("snapshot", "remove", list[1].ID), "is in grace until")
	require.Contains(t, b.run("snapshot", "recall", list[1].ID), "is kept")
	b.run("restore", "source@larkfield", "--at", "latest", "--to", filepath.Join(base, "again"))
	same(t, filepath.Join(base, "want2"), filepath.Join(base, "again"))
}

// Prune and sweep run while a carry and restores are in flight; all succeed.
func TestEverythingAtOnce(t *testing.T) {
	base := t.TempDir()
	src := filepath.Join(base, "share")
	shell(t, base, "mkdir share; cp -a "+filepath.Join(goroot(t), "src", "cmd")+" share/cmd")
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	a.run("volume", "add", "source", "--path", src, "--label", "kind=code")
	put := exec.Command(a.bin, "--site", "unix:"+filepath.Join(a.dir, "candid.sock"), "policy", "put", "-")
	put.Stdin = strings.NewReader("policy: few\nvolumes: {kind: code}\nkeep:\n  larkfield: {newest: 1, by_hand: 1 " +
		"second}\n  stonewick: {newest: 1, by_hand: 1 second}\ngrace: 1 second\n")
	out, err := put.CombinedOutput()
	require.NoError(t, err, string(out))
	pair(t, a, b, "kind=code")
	a.run("snapshot", "take", "source")
	for i := range 4 {
		shell(t, src, fmt.Sprintf("mkdir -p churn; for n in 1 2 3 4 5 6 7 8; do head -c 300000 /dev/urandom > "+
			"churn/%d-$n; done; rm -rf cmd/vet", i))
		var wg sync.WaitGroup
		errs := make([]error, 6)
		for k, args := range [][]string{{"snapshot", "take", "source"}, {"route", "run", "to-dr"}, {"prune"},
			{"store", "sweep"},
			{"restore", "source", "--at", "latest", "--to", filepath.Join(base, fmt.Sprint("out", i))},
			{"store", "verify", "--strict"}} {
			wg.Add(1)
			go func() {
				defer wg.Done()
				_, errs[k] = a.try(args...)
			}()
		}
		wg.Wait()
		for _, err := range errs {
			require.NoError(t, err)
		}
		b.run("prune")
		b.run("store", "sweep")
	}
	a.run("snapshot", "take", "source")
	a.run("route", "run", "to-dr")
	for _, p := range []*proc{a, b} {
		require.Contains(t, p.run("store", "verify", "--strict"), "all as written")
	}
	proveStore(t, a, "source", nil)
	b.run("restore", "source@larkfield", "--at", "latest", "--to", filepath.Join(base, "far"))
	same(t, src, filepath.Join(base, "far"))
	proveStore(t, b, "source@larkfield", map[string]string{b.snapshots("source@larkfield")[0].ID: filepath.Join(base,
		"far")})
}

// Bad input names the thing, the cause and the way out, and changes nothing.
func TestBadInput(t *testing.T) {
	base := t.TempDir()
	src := filepath.Join(base, "root", "share")
	require.NoError(t, os.MkdirAll(src, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(src, "f"), []byte("x"), 0o644))
	require.NoError(t, os.Symlink("/etc", filepath.Join(base, "root", "way-out")))
	a := serve(t, filepath.Join(base, "a"), "larkfield", filepath.Join(base, "root"))
	b := serve(t, filepath.Join(base, "b"), "stonewick", filepath.Join(base, "root"))
	a.run("volume", "add", "notes", "--path", src, "--label", "k=v")
	a.run("snapshot", "take", "notes")
	inv := strings.TrimSpace(b.run("site", "invite"))
	a.run("site", "pair", inv)
	bad := filepath.Join(base, "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("policy: p\nvolumes: {k: v}\ntake:\n  - daily at 25:00\n"), 0o644))
	before := a.run("--json", "volume", "list")
	for _, c := range []struct {
		code int
		say  string
		args []string
	}{
		{2, "no such file", []string{"volume", "add", "x", "--path", filepath.Join(base, "root", "none")}},
		{2, "outside the roots", []string{"volume", "add", "x", "--path", "/etc"}},
		{2, "leads by a link out of the roots", []string{"volume", "add", "x", "--path", filepath.Join(base, "root",
			"way-out")}},
		{2, "must be absolute", []string{"volume", "add", "x", "--path", "share"}},
		{2, "lower-case letters", []string{"volume", "add", "X y", "--path", src}},
		{1, "is there already", []string{"volume", "add", "notes", "--path", src}},
		{2, "not a valid glob", []string{"volume", "add", "x", "--path", src, "--exclude", "[a"}},
		{2, "say what it is", []string{"volume", "add", "x"}},
		{1, `volume "nosuch": not found`, []string{"snapshot", "take", "nosuch"}},
		{1, "not found", []string{"snapshot", "show", "abcdef012345"}},
		{2, "has passed already", []string{"snapshot", "take", "notes", "--keep-until", "2001-01-01"}},
		{2, "line 4, column 14", []string{"policy", "put", bad}},
		{2, "cannot be read", []string{"policy", "put", filepath.Join(base, "none.yaml")}},
		{1, "its first snapshot here is of", []string{"browse", "notes", "--at", "2001-01-01 10:00"}},
		{1, "has no nothing/here", []string{"browse", "notes", "nothing/here"}},
		{2, "neither a moment", []string{"browse", "notes", "--at", "whenever"}},
		{2, "outside the roots", []string{"restore", "notes", "--at", "latest", "--to", "/etc/x"}},
		{2, "leads by a link out of the roots", []string{"restore", "notes", "--at", "latest", "--to",
			filepath.Join(base, "root", "way-out", "x")}},
		{2, "say where to", []string{"restore", "notes", "--at", "latest"}},
		{2, "conflict choice", []string{"restore", "notes", "--at", "latest", "--in-place", "--on-conflict", "merge"}},
		{2, "leads out of the volume", []string{"restore", "notes", "../../etc/passwd", "--at", "latest", "--to",
			filepath.Join(base, "root", "x")}},
		{1, "used already", []string{"site", "pair", inv}},
		{2, "not an invitation", []string{"site", "pair", "harbor-invitation:abc"}},
		{1, "not paired", []string{"route", "add", "r", "--to", "mereside", "--volumes", "k=v"}},
		{2, "write key=value", []string{"route", "add", "r", "--to", "stonewick", "--volumes", "everything"}},
		{1, "not found", []string{"run", "show", "999"}},
		{2, "is not a run", []string{"run", "show", "x"}},
		{2, "there is no command", []string{"snapshot", "frobnicate"}},
	} {
		cmd := exec.Command(a.bin, append([]string{"--site", "unix:" + filepath.Join(a.dir, "candid.sock")}, c.args...)...)
		out, err := cmd.CombinedOutput()
		var ee *exec.ExitError
		require.ErrorAs(t, err, &ee, "%v: %s", c.args, out)
		require.Equal(t, c.code, ee.ExitCode(), "%v: %s", c.args, out)
		require.Contains(t, string(out), c.say, "%v", c.args)
	}
	var was, is []map[string]any
	require.NoError(t, json.Unmarshal([]byte(before), &was))
	a.json(&is, "volume", "list")
	require.Equal(t, len(was), len(is))
	require.Empty(t, a.snapshots("notes")[1:])

	// A data directory in use, a wrong token, a peer set up anew with another key.
	out, err := exec.Command(a.bin, "serve", "--data", a.dir).CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "is in use by process")
	cmd := exec.Command(a.bin, "--site", a.url, "status")
	cmd.Env = append(os.Environ(), "CANDID_TOKEN=cht_wrong")
	out, err = cmd.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "token or password is missing or wrong")
	cmd = exec.Command(a.bin, "--site", a.url, "status")
	cmd.Env = append(os.Environ(), "CANDID_TOKEN="+a.token)
	out, err = cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, a.run("site", "check", "stonewick"), "answers")
}
