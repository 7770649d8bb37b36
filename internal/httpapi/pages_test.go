package httpapi

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/site"

	"github.com/stretchr/testify/require"
)

// BenchmarkPage compares one page of a list with 100 and with 100,000 snapshots.
func BenchmarkPage(b *testing.B) {
	for _, n := range []int{100, 100_000} {
		dir := b.TempDir()
		s, err := site.Open(site.Options{Data: filepath.Join(dir, "data"), Name: "here", Roots: []string{dir}})
		require.NoError(b, err)
		cat, err := catalog.Open(filepath.Join(dir, "data", "catalog.db"))
		require.NoError(b, err)
		require.NoError(b, cat.PutVolume(&catalog.Volume{Name: "v", Lineage: fmt.Sprintf("%032x", 1), Kind: "tree",
			Origin: "here", Path: dir, Protected: true, ChunkAvg: 64 << 10,
			Labels: catalog.JSON[catalog.Labels]{V: catalog.Labels{"k": "v"}}, Excludes: catalog.JSON[[]string]{V: []string{}},
			Added: catalog.At(time.Now()), ScheduledUntil: catalog.At(time.Now())}))
		rows := make([]*catalog.Snapshot, n)
		for i := range rows {
			at := catalog.At(time.Now().Add(-time.Duration(n-i) * 15 * time.Minute))
			rows[i] = &catalog.Snapshot{ID: fmt.Sprintf("%064x", uint64(i)*0x9e3779b97f4a7c15), Place: "here", Volume: "v",
				Lineage: fmt.Sprintf("%032x", 1), Origin: "here", Term: 1, Sequence: int64(i + 1),
				Began: at, Ended: at, Cause: "scheduled", Labels: catalog.JSON[catalog.Labels]{V: catalog.Labels{}}}
		}
		require.NoError(b, cat.PutSnapshots(rows))
		require.NoError(b, cat.Close())
		_, err = s.Rules.PutPolicy("policy: p\nvolumes: {k: v}\ntake: [every 15 minutes]\nkeep:\n  here: {hourly: 200, "+
			"daily: 400}\n", "b", true)
		require.NoError(b, err)
		tok, err := s.Access.NewToken(api.TokenAdd{Name: "b"})
		require.NoError(b, err)
		srv := httptest.NewServer(New(s))
		c := &caller1{t: b, url: srv.URL, token: tok.Text}
		for _, path := range []string{"/volumes/v/snapshots?limit=50", "/volumes", "/status", "/volumes/v/timeline?from=" +
			time.Now().Add(-24*time.Hour).UTC().Format(time.RFC3339) + "&to=" + time.Now().UTC().Format(time.RFC3339)} {
			changed := make([]time.Duration, 9)
			for i := range changed {
				s.Run.Forget([]string{"v"}) // as when a snapshot of it was taken
				began := time.Now()
				require.Equal(b, http.StatusOK, c.call("GET", path, "", nil, nil))
				changed[i] = time.Since(began)
			}
			slices.Sort(changed)
			first := changed[len(changed)/2]
			b.Run(fmt.Sprintf("%d%s", n, strings.Split(path, "?")[0]), func(b *testing.B) {
				for range b.N {
					c.call("GET", path, "", nil, nil)
				}
				b.ReportMetric(float64(first.Microseconds()), "µs-changed")
			})
		}
		srv.Close()
		s.Close()
	}
}
