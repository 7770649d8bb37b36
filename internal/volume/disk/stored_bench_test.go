package disk

import (
	"crypto/ed25519"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
)

// BenchmarkWritesWhileStored stores one instant after the other of a disk that two clients write to at random.
func BenchmarkWritesWhileStored(b *testing.B) {
	base, err := os.MkdirTemp("/dev/shm", "stored")
	require.NoError(b, err)
	defer os.RemoveAll(base)
	st, err := store.Open(filepath.Join(base, "store"), store.Options{Key: ed25519.NewKeyFromSeed(make([]byte, 32))})
	require.NoError(b, err)
	defer st.Close()
	f, err := os.OpenFile(filepath.Join(base, "image"), os.O_RDWR|os.O_CREATE, 0o600)
	require.NoError(b, err)
	opt := Options{Image: Image(f), Files: Dir(base), Store: st, Owner: "disk"}
	const size = 256 << 20
	require.NoError(b, Create(opt, Shape{Size: size, Block: 64 << 10}))
	d, err := Open(opt)
	require.NoError(b, err)
	defer d.Close()
	p := make([]byte, size)
	rand.NewChaCha8([32]byte{}).Read(p)
	require.NoError(b, d.WriteAt(b.Context(), p, 0, false))
	var writes atomic.Int64
	stop := make(chan struct{})
	var writing sync.WaitGroup
	for i := range 2 {
		writing.Go(func() {
			r := rand.New(rand.NewPCG(1, uint64(i)))
			for {
				select {
				case <-stop:
					return
				default:
				}
				at := r.Int64N(size/4096) * 4096
				if !d.WriteNoWait(p[at:at+4096], at) {
					if d.WriteAt(b.Context(), p[at:at+4096], at, false) != nil {
						return
					}
				}
				writes.Add(1)
			}
		})
	}
	for b.Loop() {
		is, err := Freeze(d)
		require.NoError(b, err)
		w := st.NewWriter(st.NewLease())
		h, err := is[0].Harvest(b.Context(), w, nil)
		require.NoError(b, err)
		require.NoError(b, w.Flush())
		require.NoError(b, is[0].Stored(h.Map))
		w.Close()
	}
	b.ReportMetric(float64(writes.Load())/b.Elapsed().Seconds(), "writes/s")
	close(stop)
	writing.Wait()
}
