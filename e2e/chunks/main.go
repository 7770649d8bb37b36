// Command chunks measures what average chunk size costs and saves on a source tree with
// its binaries, and on large files edited in the middle.
package main

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"candidharbor/core/chunker"
	"candidharbor/core/object"
	"candidharbor/internal/store"
	"candidharbor/internal/volume/tree"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return err
	}
	fmt.Printf("%8s %10s %12s %9s %22s\n", "average", "first", "stored", "objects", "new after 200 edits")
	for _, avg := range []int{32 << 10, 64 << 10, 128 << 10, 256 << 10} {
		if err := measure(avg, strings.TrimSpace(string(root))); err != nil {
			return err
		}
	}
	return nil
}

func measure(avg int, src string) error {
	dir, err := os.MkdirTemp("", "candid-chunks-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if out, err := exec.Command("cp", "-a", src, dir+"/tree").CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	st, err := store.Open(dir+"/store", store.Options{Key: ed25519.NewKeyFromSeed(make([]byte, 32))})
	if err != nil {
		return err
	}
	defer st.Close()
	p, err := chunker.ForAverage(avg)
	if err != nil {
		return err
	}
	take := func(seq uint64) (time.Duration, int64, int64, error) {
		cache := tree.OpenCache(dir, "c", "")
		defer cache.Close()
		w := st.NewWriter(st.NewLease())
		defer w.Close()
		begin := time.Now()
		res, err := tree.Scan(context.Background(), tree.ScanOptions{Path: dir + "/tree", Chunker: chunker.New(p), Sink: w,
			Get: st.Get, Cache: cache})
		if err != nil {
			return 0, 0, 0, err
		}
		_, err = w.Commit(&object.Root{Lineage: object.LineageID{1}, Sequence: seq, Top: res.Top, Links: res.Links,
			HasLinks: res.HasLinks})
		_, stored, objects := w.Stats()
		if err == nil {
			err = res.Remember()
		}
		return time.Since(begin), stored, objects, err
	}
	took, stored, objects, err := take(1)
	if err != nil {
		return err
	}
	var large []string
	filepath.WalkDir(dir+"/tree", func(p string, d os.DirEntry, err error) error {
		if info, ierr := d.Info(); err == nil && ierr == nil && info.Mode().IsRegular() && info.Size() > 4<<20 {
			large = append(large, p)
		}
		return nil
	})
	rng := rand.New(rand.NewPCG(1, 1))
	for range 200 { // insert a few bytes somewhere in a large file
		f := large[rng.IntN(len(large))]
		b, err := os.ReadFile(f)
		if err != nil {
			return err
		}
		at := rng.IntN(len(b))
		b = append(b[:at:at], append([]byte("edited"), b[at:]...)...)
		if err := os.WriteFile(f, b, 0o755); err != nil {
			return err
		}
	}
	_, again, _, err := take(2)
	fmt.Printf("%5d KiB %10s %12d %9d %22d\n", avg>>10, took.Round(time.Millisecond), stored, objects, again)
	return err
}
