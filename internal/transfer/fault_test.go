package transfer

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// carriedFiles is what the carry whose file operations fail brings.
func carriedFiles() map[int][]byte {
	rng, files := rand.New(rand.NewPCG(8, 8)), map[int][]byte{}
	for i := range 60 {
		files[i] = noise(rng, 20_000)
	}
	return files
}

// TestCarryStep receives one snapshot; TestCarryOperationsFail runs it.
func TestCarryStep(t *testing.T) {
	dir := os.Getenv("CARRY_DIR")
	if dir == "" {
		t.Skip("run by TestCarryOperationsFail")
	}
	err := func() error {
		st, err := store.Open(dir, store.Options{Key: key(2)})
		if err != nil {
			return err
		}
		id, err := NewIdentity(key(2))
		if err != nil {
			return err
		}
		conn, err := net.FileConn(os.NewFile(3, "the sender"))
		if err != nil {
			return err
		}
		link, err := Accept(context.Background(), conn, id, func(ed25519.PublicKey) bool { return true })
		if err != nil {
			return err
		}
		return link.Serve(context.Background(), func(ctx context.Context, _ *Link, s *Stream) {
			_, body, err := s.Request()
			var q CarryRequest
			if err == nil {
				err = Decode(body, &q)
			}
			if err == nil {
				r := &Receiver{Store: st, Peer: publicOf(1), Meter: &Meter{}, Knows: func(object.ID) bool {
					return true
				}, Sees: func(uint32) bool { return true }, Arrived: func(object.ID, int64) (int64, error) { return 1, nil },
					MayMark: func(*object.Mark, ed25519.PublicKey) bool { return true },
					Trusted: func(*object.Root, ed25519.PublicKey) error { return nil }}
				err = r.Run(ctx, s, &q)
			}
			if err != nil {
				s.Refuse(err)
			}
		})
	}()
	fmt.Println("ENDS", err)
	os.Exit(0) // as when the power goes: nothing is closed
}

// Every file operation of who receives a carry fails in turn, and the power goes. What was
// acknowledged to the sender is there, whole; and the next carry brings the rest.
func TestCarryOperationsFail(t *testing.T) {
	strace, err := exec.LookPath("strace")
	if err != nil {
		t.Skip("needs strace")
	}
	self, err := os.Executable()
	require.NoError(t, err)
	base := t.TempDir()
	src, files := openStore(t, 1), carriedFiles()
	first := commit(t, src, 1, files, 50)
	second := commit(t, src, 2, files, 60)
	me, err := NewIdentity(key(1))
	require.NoError(t, err)

	// run has a process receive both snapshots, and says what was acknowledged by it.
	run := func(dir string, around ...string) (acked []object.ID, out []byte, failed error) {
		args := append(around, self, "-test.run", "^TestCarryStep$")
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Env = append(os.Environ(), "CARRY_DIR="+dir, "GOMAXPROCS=1")
		ends, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
		require.NoError(t, err)
		ours, theirs := os.NewFile(uintptr(ends[0]), "ours"), os.NewFile(uintptr(ends[1]), "theirs")
		cmd.ExtraFiles = []*os.File{theirs}
		var said bytes.Buffer
		cmd.Stdout, cmd.Stderr, cmd.WaitDelay = &said, &said, 10*time.Second
		require.NoError(t, cmd.Start())
		theirs.Close()
		conn, err := net.FileConn(ours)
		require.NoError(t, err)
		ours.Close()
		failed = func() error {
			ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
			defer cancel()
			link, err := Over(ctx, conn, "the receiver", me, publicOf(2))
			if err != nil {
				return err
			}
			defer link.Close()
			for _, id := range []object.ID{first, second} {
				c := &Sender{Store: src, Meter: &Meter{}, Request: CarryRequest{Lineage: object.LineageID{9}, Volume: "v",
					Origin: "a", Root: id}}
				if rerr := c.Run(ctx, link); rerr != nil {
					err = rerr
				} else {
					acked = append(acked, id)
				}
			}
			return err
		}()
		conn.Close()
		_ = cmd.Wait()
		return acked, said.Bytes(), failed
	}
	rng := rand.New(rand.NewPCG(4, 4))
	runs, told := 0, 0
	for _, fault := range []string{"fsync:EIO", "pwrite64:ENOSPC", "write:ENOSPC", "linkat:EIO", "renameat:EIO",
		"unlinkat:EIO", "openat:EMFILE", "openat:EIO", "ftruncate:EIO"} {
		call, code, _ := strings.Cut(fault, ":")
		for k := 1 + rng.IntN(3); k < 120; k += 1 + rng.IntN(6) {
			dir := filepath.Join(base, fmt.Sprintf("%s-%d", strings.ReplaceAll(fault, ":", "-"), k))
			trace := filepath.Join(base, "trace")
			acked, out, failed := run(dir, strace, "-f", "-qq", "-o", trace, "-e", "trace="+call, "-e",
				fmt.Sprintf("inject=%s:error=%s:when=%d", call, code, k))
			if bytes.Contains(out, []byte("ptrace")) {
				t.Skipf("strace cannot trace here: %s", out)
			}
			raw, err := os.ReadFile(trace)
			require.NoError(t, err)
			if !bytes.Contains(raw, []byte("INJECTED")) {
				break
			}
			runs++
			if failed != nil {
				told++
			}
			what := fmt.Sprintf("%s at call %d: %v\n%s", fault, k, failed, out)
			st, err := store.Open(dir, store.Options{Key: key(2)})
			require.NoError(t, err, what)
			for _, id := range acked {
				require.True(t, st.HasRoot(id), "acknowledged and not there: %s", what)
			}
			for _, id := range st.Roots() {
				requireWhole(t, st, id)
			}
			require.NoError(t, st.Close())
			acked, out, failed = run(dir)
			require.NoError(t, failed, "the next carry, after %s: %s", what, out)
			require.Len(t, acked, 2)
			st, err = store.Open(dir, store.Options{Key: key(2)})
			require.NoError(t, err, what)
			requireWhole(t, st, first)
			requireWhole(t, st, second)
			res, err := st.Verify(context.Background(), store.VerifyOptions{})
			require.NoError(t, err, what)
			require.True(t, res.Whole(), "%s: %+v", what, res)
			require.NoError(t, errors.Join(st.Close(), os.RemoveAll(dir)))
		}
	}
	require.Greater(t, runs, 10)
	require.Greater(t, told, 3, "hardly any fault was met")
	t.Logf("%d faults, %d of them told", runs, told)
}
