package store

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// The steps whose file operations fail in turn, each in a process of its own that stops
// without an end, as when the power goes. What they acknowledge they print.
var faultSteps = map[string]func(s *Store, say func(format string, args ...any)) error{
	"commit": func(s *Store, say func(string, ...any)) error {
		for i, tree := range []fakeTree{bigTree(31, 40, 60_000), bigTree(32, 4, 500), bigTree(33, 4, 500)} {
			if err := faultCommit(s, byte(50+i), tree, say); err != nil {
				say("SAYS %v", err)
			}
		}
		return nil
	},
	"seal": func(s *Store, say func(string, ...any)) error {
		s.maint.Lock()
		s.adm.Lock()
		err := s.seal()
		s.adm.Unlock()
		s.maint.Unlock()
		say("SAYS %v", err)
		return faultCommit(s, 53, bigTree(34, 4, 500), say)
	},
	"sweep": func(s *Store, say func(string, ...any)) error {
		_, err := s.Sweep(context.Background(), SweepOptions{MinDead: 0.0001, Settle: true})
		say("SAYS %v", err)
		return faultCommit(s, 54, bigTree(35, 4, 500), say)
	},
	"heal": func(s *Store, say func(string, ...any)) error {
		peer, err := Open(os.Getenv("STORE_PEER"), Options{Key: testKey})
		if err != nil {
			return err
		}
		for range 2 { // a record that was unreadable hid what lies below it
			res, err := s.Verify(context.Background(), VerifyOptions{})
			if err != nil {
				return err
			}
			var todo []object.ID
			for _, d := range res.Damage {
				todo = append(todo, d.Object)
			}
			h, err := s.Heal(context.Background(), todo, recordsOf(peer))
			if err != nil {
				return err
			}
			if len(todo) == 0 && len(h.Left) == 0 {
				say("HEALED")
			}
		}
		return nil
	},
	"remove": func(s *Store, say func(string, ...any)) error {
		for _, id := range s.Roots() {
			if root, _, err := s.Root(id); err == nil && root.Lineage[0] == 9 {
				if err := s.RemoveRoots(id); err != nil {
					return err
				}
				say("GONE %s", id)
			}
		}
		return nil
	},
}

func faultCommit(s *Store, lin byte, tree fakeTree, say func(string, ...any)) error {
	w := s.NewWriter(s.NewLease())
	defer w.Close()
	root, err := tryBuild(w, 1, tree)
	if err != nil {
		return err
	}
	root.Lineage[0] = lin
	id, err := w.Commit(root)
	if err == nil {
		say("ACK %s", id)
	}
	return err
}

// TestFaultStep is one of the steps; TestFileOperationsFail runs it.
func TestFaultStep(t *testing.T) {
	step, dir := faultSteps[os.Getenv("STORE_STEP")], os.Getenv("STORE_DIR")
	if step == nil {
		t.Skip("run by TestFileOperationsFail")
	}
	say := func(format string, args ...any) { fmt.Printf(format+"\n", args...) }
	s, err := Open(dir, Options{Key: testKey})
	if err == nil {
		say("OPEN")
		err = step(s, say)
	}
	if err != nil {
		say("SAYS %v", err)
	}
	os.Exit(0)
}

// Every file operation of a commit, a seal, a sweep, a healing and a removal fails in turn, and the
// power goes. Whatever was acknowledged is there, whole; what was removed stays removed; and
// the store goes on.
func TestFileOperationsFail(t *testing.T) {
	base, err := os.MkdirTemp(memoryDir(), "faults")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	dir, model := faultStore(t, base)
	hurt, whole := filepath.Join(base, "hurt"), filepath.Join(base, "whole")
	copyDir(t, dir, whole)
	hurtPacks(t, dir, hurt)
	peer := openTest(t, whole)
	rng := rand.New(rand.NewPCG(uint64(long), 5))
	runs, hits := 0, 0
	for step := range faultSteps {
		for _, fault := range []string{"fsync:EIO", "pwrite64:EIO", "pwrite64:ENOSPC", "write:ENOSPC", "renameat:EIO",
			"linkat:EIO", "unlinkat:EIO",
			"openat:EMFILE", "openat:EIO", "ftruncate:EIO"} {
			call, code, _ := strings.Cut(fault, ":")
			// A plain run takes a few of each, a long one all of them.
			for k := 1 + rng.IntN(4); k < 120; k++ {
				if long == 1 {
					k += rng.IntN(25)
				}
				work := filepath.Join(base, "work")
				from := dir
				if step == "heal" {
					from = hurt
					copyDir(t, dir, filepath.Join(base, "peer"))
				}
				copyDir(t, from, work)
				out, met := faultRun(t, base, step, call, "", fmt.Sprintf("error=%s:when=%d", code, k))
				if !met {
					break
				}
				runs++
				if bytes.Contains(out, []byte("SAYS")) {
					hits++
				}
				what := fmt.Sprintf("%s, %s at call %d", step, fault, k)
				if step == "heal" && !bytes.Contains(out, []byte("HEALED")) {
					judge(t, work, model, peer, what)
				} else {
					requireIntact(t, work, model, out, what)
				}
			}
		}
	}
	require.Greater(t, runs, 20)
	require.Greater(t, hits, 5, "hardly any fault was met")
	t.Logf("%d faults, %d of them told", runs, hits)
}

// faultRun runs a step on base/work in a process of its own in which calls fail, those of one path alone if it is
// given. It returns what the step said, and whether a call failed.
func faultRun(t *testing.T, base, step, call, path, how string) (out []byte, met bool) {
	strace, err := exec.LookPath("strace")
	if err != nil {
		t.Skip("needs strace")
	}
	self, err := os.Executable()
	require.NoError(t, err)
	trace := filepath.Join(base, "trace")
	args := []string{"-f", "-qq", "-o", trace, "-e", "trace=" + call, "-e", "inject=" + call + ":" + how}
	if path != "" {
		args = append(args, "-P", path)
	}
	cmd := exec.Command(strace, append(args, self, "-test.run", "^TestFaultStep$")...)
	cmd.Env = append(os.Environ(), "STORE_STEP="+step, "STORE_DIR="+filepath.Join(base, "work"),
		"STORE_PEER="+filepath.Join(base, "peer"), "GOMAXPROCS=1")
	cmd.WaitDelay = 20 * time.Second
	out, err = cmd.CombinedOutput()
	if err != nil && bytes.Contains(out, []byte("ptrace")) {
		t.Skipf("strace cannot trace here: %s", out)
	}
	traced, err := os.ReadFile(trace)
	require.NoError(t, err)
	return out, bytes.Contains(traced, []byte("INJECTED"))
}

// hurtPacks copies a store and damages some of what its packs hold.
func hurtPacks(t *testing.T, from, to string) {
	copyDir(t, from, to)
	packs, err := filepath.Glob(filepath.Join(to, "packs", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	for _, p := range packs {
		raw, err := os.ReadFile(p)
		require.NoError(t, err)
		for _, at := range []int{len(raw) / 3, len(raw) * 2 / 3} {
			raw[at] ^= 0x20
		}
		require.NoError(t, os.WriteFile(p, raw, 0o600))
	}
}

// faultStore is a store in which every step has something to do.
func faultStore(t *testing.T, base string) (dir string, model map[object.ID]fakeTree) {
	dir, model = filepath.Join(base, "store"), map[object.ID]fakeTree{}
	s := openTest(t, dir)
	for i := range 3 {
		tree := bigTree(uint64(i+1), 30, 40_000)
		model[commitTree(t, s, byte(i), 1, tree)] = tree
	}
	gone := commitTree(t, s, 4, 1, bigTree(2, 45, 40_000))
	for i := range 4 {
		tree := bigTree(uint64(i+10), 4, 700)
		model[commitTree(t, s, byte(i), 2, tree)] = tree
	}
	model[commitTree(t, s, 9, 1, bigTree(20, 3, 300))] = bigTree(20, 3, 300)
	require.NoError(t, s.RemoveRoots(gone))
	require.NoError(t, s.Close())
	return dir, model
}

// requireIntact opens the store again and compares it with what was promised.
func requireIntact(t *testing.T, dir string, before map[object.ID]fakeTree, out []byte, what string) {
	must := map[object.ID]fakeTree{}
	for id, tree := range before {
		must[id] = tree
	}
	seeds := map[byte]fakeTree{50: bigTree(31, 40, 60_000), 51: bigTree(32, 4, 500), 52: bigTree(33, 4, 500),
		53: bigTree(34, 4, 500), 54: bigTree(35, 4, 500)}
	never := map[object.ID]bool{}
	var acked []object.ID
	for lines := bufio.NewScanner(bytes.NewReader(out)); lines.Scan(); {
		word, text, _ := strings.Cut(lines.Text(), " ")
		id, err := object.ParseID(text)
		switch {
		case err != nil:
		case word == "ACK":
			acked = append(acked, id)
		case word == "GONE":
			never[id] = true
			delete(must, id)
		}
	}
	s, err := Open(dir, Options{Key: testKey})
	require.NoError(t, err, "%s\n%s", what, out)
	defer func() { s.Close() }()
	for _, id := range acked {
		require.True(t, s.HasRoot(id), "%s: acknowledged and not there\n%s", what, out)
		root, _, err := s.Root(id)
		require.NoError(t, err, what)
		must[id] = seeds[root.Lineage[0]]
	}
	check := func(when string) {
		for id, tree := range must {
			if !s.HasRoot(id) && tree.files["f0000"] != nil && bytes.Contains(out, []byte("SAYS")) &&
				strings.HasPrefix(what, "remove") {
				continue // its removal failed half way: either outcome is right
			}
			require.NoError(t, readTree(t, s, id, tree), "%s: %s\n%s", what, when, out)
		}
		for _, id := range s.Roots() {
			require.False(t, never[id], "%s: %s: a removed snapshot came back", what, when)
			root, _, err := s.Root(id)
			require.NoError(t, err, "%s: %s", what, when)
			require.NoError(t, wholeBelow(s, root.Tree()), "%s: %s: a listed snapshot is not whole\n%s", what, when, out)
		}
	}
	check("at once")
	tree := bigTree(77, 5, 300)
	must[commitTree(t, s, 77, 1, tree)] = tree
	_, err = s.Sweep(context.Background(), SweepOptions{MinDead: 0.0001})
	require.NoError(t, err, what)
	check("after a sweep")
	res, err := s.Verify(context.Background(), VerifyOptions{})
	require.NoError(t, err, what)
	require.True(t, res.Whole(), "%s: %+v", what, res)
	require.NoError(t, s.Close())
	s = openTest(t, dir)
	check("after a restart")
}
