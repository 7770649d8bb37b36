package catalog

import (
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func someVolume(n int) *Volume {
	return &Volume{Name: fmt.Sprint("v", n), Lineage: fmt.Sprintf("%032x", n), Kind: KindTree, Origin: "here",
		Active: "here", Path: "/srv", Added: At(time.Unix(1_800_000_000, 0)), Protected: true,
		Labels: JSON[Labels]{V: Labels{"n": fmt.Sprint(n)}}, Excludes: JSON[[]string]{V: []string{}}}
}

// openTwice opens one database as two processes have it.
func openTwice(t *testing.T) (one, two *Catalog) {
	path := filepath.Join(t.TempDir(), "catalog.db")
	for _, c := range []**Catalog{&one, &two} {
		var err error
		*c, err = Open(path)
		require.NoError(t, err)
		t.Cleanup(func() { (*c).Close() })
	}
	return one, two
}

// What is kept of volumes is what the database holds, whoever changed it, and never what was taken back. What a caller
// does to its rows changes nobody else's.
func TestKeptVolumes(t *testing.T) {
	one, two := openTwice(t)
	rapid.Check(t, func(rt *rapid.T) {
		for n := range 10 {
			require.NoError(rt, two.ForgetVolume(fmt.Sprint("v", n)))
		}
		name := func() string { return fmt.Sprint("v", rapid.IntRange(0, 9).Draw(rt, "which")) }
		change := func(c *Catalog) error {
			switch rapid.IntRange(0, 7).Draw(rt, "change") {
			case 0:
				return c.ForgetVolume(name())
			case 1:
				return c.SetPaused(name(), time.Unix(rapid.Int64Range(1, 1<<30).Draw(rt, "since"), 0))
			case 2:
				return c.SetLabels(name(), Labels{"k": rapid.StringMatching("[a-z]{1,3}").Draw(rt, "label")})
			case 3:
				return c.SetActive(fmt.Sprintf("%032x", rapid.IntRange(0, 9).Draw(rt, "lineage")), "there")
			default:
				return c.PutVolume(someVolume(rapid.IntRange(0, 9).Draw(rt, "put")))
			}
		}
		undone := errors.New("undone")
		for range rapid.IntRange(1, 25).Draw(rt, "steps") {
			writer, reader := one, one
			if rapid.Bool().Draw(rt, "by another") {
				writer = two
			}
			if rapid.Bool().Draw(rt, "read by another") {
				reader = two
			}
			switch rapid.IntRange(0, 3).Draw(rt, "as") {
			case 0:
				err := writer.Atomically(func(c *Catalog) error {
					for range 3 {
						require.NoError(rt, change(c))
					}
					var want []*Volume
					require.NoError(rt, c.db.Select(&want, `SELECT * FROM volumes ORDER BY name`))
					got, err := c.Volumes()
					require.NoError(rt, err)
					require.Equal(rt, want, got)
					return undone
				})
				require.ErrorIs(rt, err, undone)
			case 1:
				require.NoError(rt, writer.Atomically(func(c *Catalog) error {
					return errors.Join(change(c), change(c), change(c))
				}))
			default:
				require.NoError(rt, change(writer))
			}
			var want []*Volume
			require.NoError(rt, reader.db.Select(&want, `SELECT * FROM volumes ORDER BY name`))
			got, err := reader.Volumes()
			require.NoError(rt, err)
			require.Len(rt, got, len(want))
			for i := range got {
				require.Equal(rt, want[i], got[i])
				got[i].Path, got[i].Protected = "/elsewhere", false
			}
		}
	})
}

// Many write and read side by side: what was written before a look began is in it.
func TestKeptVolumesSideBySide(t *testing.T) {
	c := openTest(t)
	var all sync.WaitGroup
	for g := range 4 {
		all.Go(func() {
			for n := range 40 {
				v := someVolume(g)
				v.Path = fmt.Sprint("/srv/", n)
				if n%7 == 3 {
					require.NoError(t, c.ForgetVolume(v.Name))
				} else {
					require.NoError(t, c.PutVolume(v))
				}
				got, err := c.Volumes()
				require.NoError(t, err)
				path := ""
				for _, x := range got {
					if x.Name == v.Name {
						path = x.Path
					}
				}
				if n%7 == 3 {
					require.Empty(t, path)
				} else {
					require.Equal(t, v.Path, path)
				}
			}
		})
	}
	all.Wait()
}
