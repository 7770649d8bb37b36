package tree

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// described is a directory as digest has it, with the names of one file told by which they
// are, not by how many: the other tree has names too.
func described(t testing.TB, dir string) string {
	sum, _, _ := strings.Cut(digest(t, dir), "\n")
	byInode := map[uint64][]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			st, serr := d.Info()
			require.NoError(t, serr)
			ino := st.Sys().(*syscall.Stat_t).Ino
			byInode[ino] = append(byInode[ino], strings.TrimPrefix(p, dir))
		}
		return err
	}))
	var groups []string
	for _, names := range byInode {
		if len(names) > 1 {
			groups = append(groups, strings.Join(names, "="))
		}
	}
	slices.Sort(groups)
	return sum + "\n" + strings.Join(groups, "\n")
}

// Two trees take turns through a long random history. Each time the idle one is the
// snapshot, in everything, and the active one has not changed in anything; an additive one
// never loses a name.
func TestStandbyTakesTurns(t *testing.T) {
	for _, additive := range []bool{false, true} {
		for seed := range uint64(3) {
			t.Run(fmt.Sprintf("additive=%v/%d", additive, seed), func(t *testing.T) { takeTurns(t, seed, additive) })
		}
	}
}

func takeTurns(t *testing.T, seed uint64, additive bool) {
	b := newBench(t)
	dir, base := memoryDir(t), memoryDir(t)
	s := &strangers{t: t, dir: dir, r: rand.New(rand.NewPCG(seed, 9))}
	for _, d := range []string{"volume", "beside"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, d), 0o755))
	}
	at, err := unix.Open(base, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	require.NoError(t, err)
	defer unix.Close(at)
	var was, beside *object.Root
	names := map[string]bool{}
	shared := 0
	for round := range 30 {
		for range 1 + s.r.IntN(12) {
			s.change()
		}
		root, _, _ := b.snapshot(filepath.Join(dir, "volume"))
		before := ""
		if beside != nil {
			before = described(t, filepath.Join(base, "active"))
		}
		res, err := LayOut(context.Background(), StandbyOptions{Source: b.st, Root: root, Was: was, Beside: beside, Dir: at,
			Idle: "idle", Active: "active", Additive: additive})
		require.NoError(t, err)
		require.Zero(t, res.RemarkCount, res.Remarks)
		if beside != nil {
			require.Equal(t, before, described(t, filepath.Join(base, "active")), "round %d", round)
			require.NoError(t, unix.Renameat2(at, "idle", at, "active", unix.RENAME_EXCHANGE))
		} else {
			require.NoError(t, unix.Renameat(at, "idle", at, "active"))
		}
		was, beside = beside, root
		active := filepath.Join(base, "active")
		plain := filepath.Join(base, "plain")
		b.restore(root, plain, nil)
		if !additive {
			require.Equal(t, described(t, plain), described(t, active), "round %d", round)
		}
		require.NoError(t, filepath.WalkDir(active, func(p string, d fs.DirEntry, err error) error {
			rel := strings.TrimPrefix(p, active)
			if err == nil && d.Type().IsRegular() {
				if st, err := d.Info(); err == nil && st.Sys().(*syscall.Stat_t).Nlink > 1 {
					shared++
				}
				if _, err := os.Lstat(filepath.Join(plain, rel)); additive && err == nil {
					a, aerr := os.ReadFile(p)
					b, berr := os.ReadFile(filepath.Join(plain, rel))
					require.NoError(t, aerr)
					require.NoError(t, berr)
					require.Equal(t, b, a)
				}
			}
			delete(names, rel)
			return err
		}))
		if additive {
			for n := range names { // what became another kind of thing took what was below along
				for up := filepath.Dir(n); up != "/"; up = filepath.Dir(up) {
					if st, err := os.Lstat(filepath.Join(active, up)); err == nil && !st.IsDir() {
						delete(names, n)
					}
				}
			}
			require.Empty(t, names, "round %d", round)
			names = map[string]bool{}
			filepath.WalkDir(active, func(p string, _ fs.DirEntry, _ error) error {
				names[strings.TrimPrefix(p, active)] = true
				return nil
			})
		}
		require.NoError(t, os.RemoveAll(plain))
	}
	require.NotZero(t, shared, "the trees share files")
}
