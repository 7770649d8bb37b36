package disk

import (
	"context"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"candidharbor/internal/store"

	"crypto/ed25519"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
)

func diskOn(t *testing.T, st *store.Store, name string, shape Shape) *Disk {
	dir := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.MkdirAll(dir, 0o700))
	image, err := os.OpenFile(filepath.Join(dir, "image"), os.O_RDWR|os.O_CREATE, 0o600)
	require.NoError(t, err)
	opt := Options{Image: Image(image), Files: Dir(dir), Store: st, Owner: name}
	require.NoError(t, Create(opt, shape))
	d, err := Open(opt)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

func openStore(t *testing.T) *store.Store {
	st, err := store.Open(filepath.Join(t.TempDir(), "store"),
		store.Options{Key: ed25519.NewKeyFromSeed(make([]byte, 32))})
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	return st
}

// A counter goes from disk to disk, and none is ever ahead of the others by more than one, beside writers
// that overwrite all there is: every instant of the set obeys that.
func TestSetOfDisksIsOneInstant(t *testing.T) {
	st := openStore(t)
	const blocks = 64
	var disks []*Disk
	for i := range 4 {
		disks = append(disks, diskOn(t, st, string(rune('a'+i)), Shape{Size: blocks * 4096, Block: 4096}))
	}
	ctx, end := context.WithCancel(t.Context())
	var writers errgroup.Group
	writers.Go(func() error {
		for n := uint64(1); ctx.Err() == nil; n++ {
			for _, d := range disks {
				if err := d.WriteAt(context.Background(), binary.LittleEndian.AppendUint64(nil, n), 100, n%50 == 0); err != nil {
					return err
				}
			}
		}
		return nil
	})
	for i, d := range disks {
		r := rand.New(rand.NewPCG(3, uint64(i)))
		writers.Go(func() error {
			for ctx.Err() == nil {
				p := make([]byte, 512*(1+r.IntN(40)))
				p[0] = byte(r.Uint32())
				off := 4096 + r.Int64N((blocks-1)*4096-int64(len(p)))
				var err error
				switch r.IntN(10) {
				case 0:
					err = d.Trim(context.Background(), off, int64(len(p)), false)
				case 1:
					err = d.Tick(context.Background())
				default:
					err = d.WriteAt(context.Background(), p, off, r.IntN(30) == 0)
				}
				if err != nil {
					return err
				}
			}
			return nil
		})
	}
	var last uint64
	for range rounds(t, 60) {
		all, err := Freeze(disks...)
		require.NoError(t, err)
		var counters []uint64
		for i, in := range all {
			w := st.NewWriter(st.NewLease())
			h, err := in.Harvest(t.Context(), w, nil)
			require.NoError(t, err)
			require.NoError(t, w.Flush())
			p := make([]byte, 8)
			require.NoError(t, newOrigin(st, h.Map, 4096).read(p, 0, 100))
			require.NoError(t, in.Stored(h.Map))
			w.Close()
			counters = append(counters, binary.LittleEndian.Uint64(p))
			require.LessOrEqual(t, counters[i], counters[0])
			require.LessOrEqual(t, counters[0], counters[i]+1, "%v", counters)
		}
		require.GreaterOrEqual(t, counters[0], last)
		last = counters[0]
	}
	end()
	require.NoError(t, writers.Wait())
	require.NotZero(t, last)
}
