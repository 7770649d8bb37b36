package disk

import (
	"crypto/ed25519"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
)

// BenchmarkHarvest stores 4,096 scattered blocks that nobody writes to meanwhile.
func BenchmarkHarvest(b *testing.B) {
	base, err := os.MkdirTemp("/dev/shm", "harvest")
	require.NoError(b, err)
	defer os.RemoveAll(base)
	st, err := store.Open(filepath.Join(base, "store"), store.Options{Key: ed25519.NewKeyFromSeed(make([]byte, 32))})
	require.NoError(b, err)
	defer st.Close()
	f, err := os.OpenFile(filepath.Join(base, "image"), os.O_RDWR|os.O_CREATE, 0o600)
	require.NoError(b, err)
	opt := Options{Image: Image(f), Files: Dir(base), Store: st, Owner: "disk"}
	const block, blocks, changed = 64 << 10, 25 << 14, 4096
	require.NoError(b, Create(opt, Shape{Size: block * blocks, Block: block}))
	d, err := Open(opt)
	require.NoError(b, err)
	defer d.Close()
	noise, r, p := rand.NewChaCha8([32]byte{}), rand.New(rand.NewPCG(1, 1)), make([]byte, block)
	var where []int64
	for range changed {
		where = append(where, r.Int64N(blocks))
	}
	b.SetBytes(block * changed)
	for b.Loop() {
		b.StopTimer()
		for _, at := range where {
			noise.Read(p)
			require.NoError(b, d.WriteAt(b.Context(), p, at*block, false))
		}
		b.StartTimer()
		is, err := Freeze(d)
		require.NoError(b, err)
		w := st.NewWriter(st.NewLease())
		h, err := is[0].Harvest(b.Context(), w, nil)
		require.NoError(b, err)
		require.NoError(b, w.Flush())
		require.NoError(b, is[0].Stored(h.Map))
		w.Close()
	}
}
