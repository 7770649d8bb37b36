package site

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"

	"candidharbor/api"
	"candidharbor/internal/hostdirs"

	"github.com/stretchr/testify/require"
)

// Of random directories and volumes: every file below the root is below exactly one of a volume, what is listed as not
// covered, or a directory whose loose files are counted; and once all that is listed is protected, nothing is left.
func TestUncoveredIsTheRest(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	root := must(filepath.EvalSymlinks(s.Conf.Roots[0]))
	for seed := range uint64(12) {
		rng := rand.New(rand.NewPCG(seed, 7))
		top := filepath.Join(root, fmt.Sprint("top-", seed))
		var dirs, files []string
		for range 30 {
			dir := top
			for range 1 + rng.IntN(3) {
				dir = filepath.Join(dir, string(rune('a'+rng.IntN(4))))
			}
			require.NoError(t, os.MkdirAll(dir, 0o755))
			dirs = append(dirs, dir)
			file := filepath.Join(filepath.Dir(dir), fmt.Sprint("f", rng.IntN(5)))
			require.NoError(t, os.WriteFile(file, []byte("x"), 0o644))
			files = append(files, file)
		}
		for i := range 3 {
			_, err := s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: fmt.Sprint("v", seed, "-", i),
				Path: dirs[rng.IntN(len(dirs))]})
			require.NoError(t, err)
		}
		u := must(s.Capture.Uncovered(w.ctx))
		vols := must(s.Catalog.Volumes())
		for _, f := range files {
			var by []string
			for _, d := range u.Directories {
				if hostdirs.Within(f, d.Path) {
					by = append(by, d.Path)
				}
			}
			for _, l := range u.Loose {
				if filepath.Dir(f) == l.Path {
					by = append(by, "loose in "+l.Path)
				}
			}
			for _, v := range vols {
				if hostdirs.Within(f, v.Path) {
					by = append(by, "a volume")
				}
			}
			require.Len(t, slices.Compact(by), 1, f)
		}
		r := must(s.Capture.ProtectUncovered(w.ctx, api.ProtectUncovered{Labels: map[string]string{"k": "v"}}))
		require.Empty(t, r.Refused)
		require.Len(t, r.Added, len(u.Directories))
		require.Empty(t, must(s.Capture.Uncovered(w.ctx)).Directories)
	}
	_, err := s.Capture.ProtectUncovered(w.ctx, api.ProtectUncovered{})
	require.ErrorContains(t, err, "is protected already")
}

// What is looked at before it is added adds nothing; a directory can be looked into below the roots only, and what is
// the service's own is in no list.
func TestLookBeforeAdding(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	root := must(filepath.EvalSymlinks(s.Conf.Roots[0]))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "maps", "old"), 0o755))
	w.write(filepath.Join(root, "maps"), "north", "some")
	found := must(s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "maps", Path: filepath.Join(root, "maps"), DryRun: true}))
	require.EqualValues(t, 1, found.Files)
	require.Empty(t, must(s.Catalog.Volumes()))
	_, err := s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "d", SizeBytes: 1 << 20, DryRun: true})
	require.ErrorContains(t, err, "only a directory is looked at")
	_, err = s.Capture.Directory(w.ctx, "/etc")
	require.ErrorContains(t, err, "outside the roots")
	d := must(s.Capture.Directory(w.ctx, filepath.Join(root, "maps")))
	require.Len(t, d.Entries, 2)
	for _, e := range must(s.Capture.Directory(w.ctx, root)).Entries {
		require.False(t, hostdirs.Within(e.Path, s.Path), "%s is the service's own", e.Path)
	}
}

// Of many who add a volume of one name at the same time one succeeds, and what that one added stays.
func TestOneNameAddedSideBySide(t *testing.T) {
	w := newWorld(t)
	s := w.open("here")
	root := must(filepath.EvalSymlinks(s.Conf.Roots[0]))
	var added atomic.Int32
	var path atomic.Value
	var all sync.WaitGroup
	for i := range 16 {
		dir := filepath.Join(root, fmt.Sprint("d", i))
		require.NoError(t, os.MkdirAll(dir, 0o755))
		all.Go(func() {
			if _, err := s.Capture.AddVolume(w.ctx, api.VolumeAdd{Name: "notes", Path: dir}); err == nil {
				added.Add(1)
				path.Store(dir)
			}
		})
	}
	all.Wait()
	require.EqualValues(t, 1, added.Load())
	require.Equal(t, path.Load(), must(s.Catalog.Volume("notes")).Path)
}
