package site

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/rules"

	"github.com/stretchr/testify/require"
)

// Two sites as the 15th schema of the catalogue left them, the first killed in work: all that
// they acknowledged is there, and they go on together.
func TestOlderSchema(t *testing.T) {
	w := newWorld(t)
	w.clock.Set(time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC))
	require.NoError(t, exec.Command("tar", "-xzf", "testdata/schema-015.tar.gz", "-C", w.dir).Run())
	for _, name := range []string{"larkfield", "stonewick"} {
		path := filepath.Join(w.dir, name, "site.yaml")
		raw := bytes.ReplaceAll(must(os.ReadFile(path)), []byte("/srv/harbor"), []byte(w.dir))
		require.NoError(t, os.WriteFile(path, raw, 0o600))
	}
	here, there := w.open("larkfield"), w.open("stonewick")
	require.NoError(t, here.Catalog.SetAddresses("stonewick", there.Pairing.Addresses()))
	require.NoError(t, there.Catalog.SetAddresses("larkfield", here.Pairing.Addresses()))
	for _, s := range []*Site{here, there} {
		require.NoError(t, s.Rules.WhenMarksAgree(w.ctx))
		require.Empty(t, must(s.Info()).Held)
		require.Equal(t, "done", w.done(s)(s.Upkeep.Verify("test")).State)
	}
	whole := func(s *Site, volume string) {
		rows := w.rows(s, volume)
		require.Len(t, rows, 6)
		for i, r := range rows {
			n := 6 - i
			require.Equal(t, fmt.Sprint("state ", n), r.Note)
			to := filepath.Join(w.dir, "out", s.Name(), fmt.Sprint(n))
			w.done(s)(s.Recovery.Restore(w.ctx, api.RestoreAsk{Volume: volume, At: r.ID, To: to}, "test"))
			require.Equal(t, fmt.Sprintf("state %d\n", n), string(must(os.ReadFile(filepath.Join(to, "docs/state")))))
			var lines strings.Builder
			for k := min(n, 5); k <= 3000; k++ {
				fmt.Fprintln(&lines, k)
			}
			require.Equal(t, lines.String(), string(must(os.ReadFile(filepath.Join(to, "docs/numbers")))))
			require.Equal(t, "a.txt", must(os.Readlink(filepath.Join(to, "docs/link"))))
			require.True(t, os.SameFile(must(os.Stat(filepath.Join(to, "docs/a.txt"))),
				must(os.Stat(filepath.Join(to, "sub/hard")))))
		}
		require.Equal(t, "evidence of week 9", rows[3].KeepWhy)
	}
	whole(here, "notes")
	whole(there, "notes@larkfield")
	graced := w.rows(here, "notes")[5]
	require.Equal(t, rules.RemovedByHand, graced.LetGo)
	require.Equal(t, string(object.ExpiredByHand), graced.LetGoCause, "by the words of a mark without a code")
	require.True(t, w.rows(there, "notes@larkfield")[5].GraceUntil.IsZero())

	// They go on: removal after its grace, the next snapshot and its carry.
	dir := filepath.Join(w.dir, "share")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	w.write(dir, "new", "text")
	v := must(here.Catalog.Volume("notes"))
	v.Path = dir
	require.NoError(t, here.Catalog.PutVolume(v))
	w.clock.Set(time.Date(2026, 12, 9, 0, 0, 0, 0, time.UTC))
	w.done(here)(here.Rules.Prune("", "test"))
	_, err := here.Catalog.Snapshot(graced.ID)
	require.ErrorIs(t, err, catalog.ErrNone)
	require.Len(t, must(here.Rules.Policies()), 1)
	w.done(here)(here.Capture.TakeSnapshot("notes", api.SnapshotTake{}, "test"))
	w.done(here)(here.Routes.RunRoute("out", "test"))
	require.Equal(t, w.rows(here, "notes")[0].ID, w.rows(there, "notes@larkfield")[0].ID)
}
