package disk

import (
	"crypto/ed25519"
	"math/rand/v2"
	"path/filepath"
	"testing"

	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
)

// BenchmarkReadFromOrigin reads a disk of which nothing is in its image, as a fresh clone is read.
func BenchmarkReadFromOrigin(b *testing.B) {
	st, err := store.Open(filepath.Join(b.TempDir(), "store"),
		store.Options{Key: ed25519.NewKeyFromSeed(make([]byte, 32))})
	require.NoError(b, err)
	defer st.Close()
	h := newHost(1)
	open := func(n int, shape Shape) *Disk {
		image, err := h.Open("image" + string(rune('0'+n)))
		require.NoError(b, err)
		opt := Options{Image: image, Files: disksFiles{h, n}, Store: st, Owner: "disk" + string(rune('0'+n))}
		require.NoError(b, Create(opt, shape))
		d, err := Open(opt)
		require.NoError(b, err)
		return d
	}
	const size = 32 << 20
	d := open(1, Shape{Size: size, Block: 64 << 10})
	p := make([]byte, size)
	r := rand.NewChaCha8([32]byte{})
	r.Read(p)
	require.NoError(b, d.WriteAt(b.Context(), p, 0, false))
	is, err := Freeze(d)
	require.NoError(b, err)
	w := st.NewWriter(st.NewLease())
	defer w.Close()
	got, err := is[0].Harvest(b.Context(), w, nil)
	require.NoError(b, err)
	require.NoError(b, w.Flush())
	clone := open(2, Shape{Size: size, Block: 64 << 10, Origin: got.Map})
	b.SetBytes(size)
	for b.Loop() {
		for at := int64(0); at < size; at += 256 << 10 {
			if err := clone.ReadAt(p[:256<<10], at); err != nil {
				b.Fatal(err)
			}
		}
	}
}
