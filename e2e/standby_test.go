package e2e

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// A copy of a disk gets an image of its own, which follows each arrival, also when the service is killed meanwhile. Who
// reads from it goes on with what was opened.
func TestCopyIsFilled(t *testing.T) {
	rounds, rng := chance(t, "CANDID_STANDBY", 3)
	base := t.TempDir()
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	b.stop()
	fixPorts(t, b)
	b.start()
	const size = 24 << 20
	a.run("volume", "add", "db", "--size", "24MiB", "--label", "k=v")
	pair(t, a, b, "k=v")
	r := rand.New(rand.NewPCG(4, rng.Uint64()))
	holds := make([]byte, size)
	change := func(n int) {
		c, err := dialNBD(filepath.Join(a.dir, "nbd.sock"), "db")
		require.NoError(t, err)
		for range n {
			off := r.IntN(size/4096) * 4096
			p := make([]byte, min(size-off, 4096*(1+r.IntN(60))))
			if r.IntN(4) > 0 {
				for i := range p {
					p[i] = byte(r.Uint32())
				}
			}
			require.NoError(t, c.write(p, int64(off)))
			copy(holds[off:], p)
		}
		require.NoError(t, c.flush())
		c.leave()
		a.run("snapshot", "take", "db")
		a.run("route", "run", "to-dr")
	}
	type shown struct {
		FilledAsOf    *time.Time
		UnfilledBytes int64
		Image         string
		Sentence      string
	}
	show := func() (d shown) {
		b.json(&d, "disk", "show", "db@larkfield")
		return d
	}
	newest := func() (at time.Time) {
		for _, x := range b.snapshots("db@larkfield") {
			if x.Taken.After(at) {
				at = x.Taken
			}
		}
		return at
	}
	follows := func() {
		t.Helper()
		require.Eventually(t, func() bool {
			d := show()
			return d.FilledAsOf != nil && d.FilledAsOf.Equal(newest()) && d.UnfilledBytes == 0
		}, 60*time.Second, 50*time.Millisecond, "%s", b.run("disk", "show", "db@larkfield"))
		raw, err := os.ReadFile(show().Image)
		require.NoError(t, err)
		for at := 0; at < size; at += 64 << 10 { // what reads as zeros may not be punched out yet
			is := holds[at : at+64<<10]
			require.True(t, object.AllZero(is) || bytes.Equal(is, raw[at:at+64<<10]), "the image has every byte")
		}
	}
	open := func() *nbdClient {
		c, err := dialNBD(filepath.Join(b.dir, "nbd.sock"), "db@larkfield")
		require.NoError(t, err)
		return c
	}
	reads := func(c *nbdClient, want []byte) {
		t.Helper()
		got := make([]byte, size)
		require.NoError(t, c.read(got, 0))
		require.True(t, bytes.Equal(want, got))
	}
	_, err := b.try("disk", "fill", "db@larkfield", "--end")
	require.Error(t, err)
	change(100)
	_, err = b.try("disk", "fill", "db@larkfield", "--end")
	require.ErrorContains(t, err, "is no copy with an image of its own")
	require.Contains(t, b.run("disk", "fill", "db@larkfield"), "and follows each arrival")
	follows()

	c, was := open(), bytes.Clone(holds)
	reads(c, was)
	require.Error(t, c.write(make([]byte, 4096), 0), "nobody writes to a copy")
	change(20)
	later := open()
	reads(later, holds)
	reads(c, was)
	c.leave()
	later.leave()
	follows()

	for round := range rounds {
		change(1 + r.IntN(40))
		time.Sleep(time.Duration(rng.IntN(800)) * time.Millisecond)
		b.kill()
		b.start()
		c := open()
		reads(c, holds)
		c.leave()
		if round%3 == 2 {
			follows()
		}
	}
	a.run("disk", "grow", "db", "24MiB")
	follows()

	c = open()
	require.Contains(t, b.run("disk", "fill", "db@larkfield", "--end"), "is a copy of a disk that larkfield serves")
	require.Nil(t, show().FilledAsOf)
	_, err = b.try("disk", "fill", "db@larkfield")
	require.ErrorContains(t, err, "is to go once nobody reads from it")
	reads(c, holds)
	c.leave()
	require.Eventually(t, func() bool {
		all, err := filepath.Glob(filepath.Join(b.dir, "disks", "*"))
		return err == nil && len(all) == 0
	}, 10*time.Second, 20*time.Millisecond, "its image goes with the last reader")
	c = open()
	reads(c, holds)
	c.leave()
	require.Contains(t, b.run("store", "verify"), "all as written")
}
