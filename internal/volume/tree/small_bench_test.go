package tree

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"candidharbor/internal/store"

	"github.com/stretchr/testify/require"
)

// smallFiles makes files of 0.2 to 3.2 KB of text, 1000 in each directory.
func smallFiles(b *testing.B, dir string, n int) {
	rng := rand.New(rand.NewPCG(1, 2))
	words := strings.Fields("sheet genus species leaf stem root marsh dune heath fen 1931 1932 collected by near north of")
	var text strings.Builder
	for i := range n {
		if i%1000 == 0 {
			require.NoError(b, os.MkdirAll(fmt.Sprintf("%s/%04d", dir, i/1000), 0o755))
		}
		text.Reset()
		for size := 200 + rng.IntN(3000); text.Len() < size; {
			fmt.Fprintf(&text, "%s %d ", words[rng.IntN(len(words))], rng.IntN(100))
		}
		require.NoError(b, os.WriteFile(fmt.Sprintf("%s/%04d/note-%06d.txt", dir, i/1000, i), []byte(text.String()), 0o644))
	}
}

// BenchmarkSmallFiles takes the first snapshot of 100,000 small files, brings them back, settles the store and brings
// them back once more, in memory; against tar, with zstd -1 on both cores, over the same tree.
func BenchmarkSmallFiles(b *testing.B) {
	base := memoryDir(b)
	src := base + "/src"
	smallFiles(b, src, 100_000)
	timed := func(script string) time.Duration {
		began := time.Now()
		out, err := exec.Command("sh", "-ec", script).CombinedOutput()
		require.NoError(b, err, string(out))
		return time.Since(began)
	}
	var taken, back, settled, settledBack, tarred, untarred time.Duration
	var small, archive float64
	for i := 0; b.Loop(); i++ {
		tarred += timed(fmt.Sprintf("tar -cf - -C %s . | zstd -q -1 -T2 -f -o %s/tree.tar.zst", src, base))
		s := newBench(b)
		began := time.Now()
		root, _, _ := s.snapshot(src)
		taken += time.Since(began)
		untarred += timed(fmt.Sprintf("mkdir %s/t%d; zstd -q -d -c %s/tree.tar.zst | tar -xf - -C %s/t%d", base, i, base,
			base, i))
		restore := func() time.Duration {
			began := time.Now()
			_, err := Restore(context.Background(), RestoreOptions{Source: s.st, Root: root, Beneath: base, OnConflict: Skip,
				Target: fmt.Sprintf("%s/r%d", base, i), Chunker: s.ck})
			require.NoError(b, err)
			took := time.Since(began)
			require.NoError(b, os.RemoveAll(fmt.Sprintf("%s/r%d", base, i)))
			return took
		}
		back += restore()
		require.NoError(b, os.RemoveAll(fmt.Sprintf("%s/t%d", base, i)))
		began = time.Now()
		_, err := s.st.Sweep(context.Background(), store.SweepOptions{Settle: true})
		require.NoError(b, err)
		settled += time.Since(began)
		settledBack += restore()
		small = float64(s.st.Usage().StoredBytes)
		require.NoError(b, s.st.Close())
	}
	info, err := os.Stat(base + "/tree.tar.zst")
	require.NoError(b, err)
	archive = float64(info.Size())
	b.ReportMetric(taken.Seconds()/float64(b.N), "s-taken")
	b.ReportMetric(taken.Seconds()/tarred.Seconds(), "taken:tar")
	b.ReportMetric(settled.Seconds()/taken.Seconds(), "settled:taken")
	b.ReportMetric(settledBack.Seconds()/untarred.Seconds(), "settled-back:untar")
	b.ReportMetric(small/archive, "size:archive")
	b.ReportMetric(back.Seconds()/float64(b.N), "s-back")
	b.ReportMetric(back.Seconds()/untarred.Seconds(), "back:untar")
}
