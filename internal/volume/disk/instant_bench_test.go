package disk

import (
	"crypto/ed25519"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
)

// BenchmarkInstantOfEight takes instants of eight disks that are written to all the time. What is told as p99-ms
// is how long the gates of all of them were held, and more: from asking for the instant to having it.
func BenchmarkInstantOfEight(b *testing.B) {
	base, err := os.MkdirTemp("/dev/shm", "instants")
	require.NoError(b, err)
	defer os.RemoveAll(base)
	st, err := store.Open(filepath.Join(base, "store"), store.Options{Key: ed25519.NewKeyFromSeed(make([]byte, 32))})
	require.NoError(b, err)
	defer st.Close()
	var all []*Disk
	for i := range 8 {
		home := filepath.Join(base, strconv.Itoa(i))
		require.NoError(b, os.Mkdir(home, 0o700))
		open := func() Options {
			f, err := os.OpenFile(filepath.Join(home, "image"), os.O_RDWR|os.O_CREATE, 0o600)
			require.NoError(b, err)
			return Options{Image: Image(f), Files: Dir(home), Store: st, Owner: "disk" + strconv.Itoa(i)}
		}
		opt := open()
		require.NoError(b, Create(opt, Shape{Size: 64 << 20, Block: 64 << 10}))
		d, err := Open(opt)
		require.NoError(b, err)
		defer d.Close()
		all = append(all, d)
	}
	var writes atomic.Int64
	stop := make(chan struct{})
	var writing sync.WaitGroup
	for i, d := range all {
		for k := range 2 {
			writing.Go(func() {
				r := rand.New(rand.NewPCG(uint64(i), uint64(k)))
				p := make([]byte, 4096)
				for {
					select {
					case <-stop:
						return
					default:
					}
					if d.WriteAt(b.Context(), p, r.Int64N(64<<20/4096)*4096, false) != nil {
						return
					}
					writes.Add(1)
					time.Sleep(50 * time.Microsecond) // clients wait for their answers and think
				}
			})
		}
	}
	var took []time.Duration
	whole := time.Now()
	for b.Loop() {
		begun := time.Now()
		is, err := Freeze(all...)
		took = append(took, time.Since(begun))
		require.NoError(b, err)
		for _, in := range is {
			require.NoError(b, in.GiveUp())
		}
		time.Sleep(time.Millisecond) // the writers go on meanwhile
	}
	b.ReportMetric(float64(writes.Load())/time.Since(whole).Seconds(), "writes/s")
	close(stop)
	writing.Wait()
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)*99/100])/1e6, "p99-ms")
	b.ReportMetric(float64(took[len(took)/2])/1e6, "median-ms")
}
