package tree

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A change within the second of the one before, on a filesystem that keeps whole seconds, is
// in the next snapshot.
func TestChangeWithinOneSecond(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("an image can be mounted only by root")
	}
	image, at := filepath.Join(t.TempDir(), "image"), t.TempDir()
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 64<<20))
	out, err := exec.Command("mkfs.ext4", "-q", "-I", "128", "-F", image).CombinedOutput()
	require.NoError(t, err, string(out))
	if out, err := exec.Command("mount", "-o", "loop", image, at).CombinedOutput(); err != nil {
		t.Skipf("no loop device here: %s", out)
	}
	t.Cleanup(func() { unix.Unmount(at, unix.MNT_DETACH) })
	b := newBench(t)
	dir, file := filepath.Join(at, "v"), filepath.Join(at, "v", "ledger")
	write(t, file, []byte("first"))
	ctime := func() int64 {
		var st unix.Stat_t
		require.NoError(t, unix.Stat(file, &st))
		require.Zero(t, st.Ctim.Nsec, "this filesystem keeps fractions")
		return st.Ctim.Sec
	}
	same := 0
	for n := byte(0); same < 5; n += 2 {
		require.Less(t, n, byte(200))
		write(t, file, []byte{'A' + n%20})
		began := ctime()
		b.snapshot(dir)
		write(t, file, []byte{'a' + n%20})
		root, _, _ := b.snapshot(dir)
		if ctime() == began {
			same++
		}
		target := filepath.Join(b.cache, "out", string('a'+n%20)+"x")
		require.NoError(t, os.MkdirAll(filepath.Dir(target), 0o755))
		b.restore(root, target, nil)
		got, err := os.ReadFile(filepath.Join(target, "ledger"))
		require.NoError(t, err)
		require.Equal(t, []byte{'a' + n%20}, got)
		require.NoError(t, os.RemoveAll(target))
	}
}

// An entry is relied on only when no later change can have the same change time.
func TestSettled(t *testing.T) {
	now := time.Date(2026, 3, 2, 9, 0, 0, 500_000_000, time.UTC).UnixNano()
	s := settling{now: now, margin: int64(tickMargin)}
	for _, c := range []struct {
		before time.Duration
		want   bool
	}{{0, false}, {19_000_001, false}, {21_000_001, true}, {500 * time.Millisecond, false}, {1500 * time.Millisecond,
		false},
		{2500 * time.Millisecond, true}, {-time.Hour, false}} {
		require.Equal(t, c.want, s.settled(now-int64(c.before)), c.before)
	}
	require.False(t, settling{now: now, never: true}.settled(now-int64(time.Hour)))
	require.False(t, settling{now: now, margin: int64(skewMargin)}.settled(now-int64(time.Minute)))
	require.False(t, s.settled(0), "a change time that is made up")
}
