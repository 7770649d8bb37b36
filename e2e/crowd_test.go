package e2e

import (
	"context"
	"fmt"
	"net/http/httptest"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/e2e/browser"
	"candidharbor/internal/catalog"
	"candidharbor/internal/httpapi"
	"candidharbor/internal/site"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// scrolls goes down what scrolls, a part of a window a frame, and returns the milliseconds between frames, those of the
// first half second apart: what came with the page is drawn then.
const scrolls = `new Promise(done => {
	const tall = [...document.querySelectorAll("main *")].filter(e => e.scrollHeight > 2 * e.clientHeight &&
		/auto|scroll/.test(getComputedStyle(e).overflowY)).sort((a, b) => b.scrollHeight - a.scrollHeight)[0] ??
		document.scrollingElement;
	const frames = [[], []], began = performance.now();
	let last = began;
	const next = now => {
		frames[now - began < 500 ? 0 : 1].push(now - last);
		last = now;
		tall.scrollTop += 97;
		now - began < 4000 ? requestAnimationFrame(next) : done(frames);
	};
	requestAnimationFrame(next);
})`

// BenchmarkCrowdInBrowser is the console of a site with 10,000 volumes, one of which has 100,000 snapshots: how soon a
// page is there, by the browser's clock, and how long its frames take while it is scrolled.
func BenchmarkCrowdInBrowser(b *testing.B) {
	dir := b.TempDir()
	s, err := site.Open(site.Options{Data: filepath.Join(dir, "data"), Name: "here", Roots: []string{dir}})
	require.NoError(b, err)
	defer s.Close()
	_, err = s.Rules.PutPolicy("policy: p\nvolumes: {k: v}\ntake: [every 15 minutes]\nkeep:\n  here: {hourly: 200, "+
		"daily: 400}\n", "b", true)
	require.NoError(b, err)
	crowd(b, filepath.Join(dir, "data", "catalog.db"), dir, 10_000, 100_000)
	srv := httptest.NewServer(httpapi.New(s))
	defer srv.Close()
	tok, err := s.Access.NewToken(api.TokenAdd{Name: "b"})
	require.NoError(b, err)
	ctx, cancel := context.WithTimeout(b.Context(), 10*time.Minute)
	defer cancel()
	for _, page := range []struct{ name, path, there string }{
		{"Today", "/", `document.body.innerText.includes("Coming")`},
		{"Volumes", "/volumes", `document.body.innerText.includes("v00003")`},
		{"Snapshots", "/snapshots", `document.querySelectorAll("main [aria-label^=Choose]").length > 5`},
		{"Volume", "/volumes/v00000", `document.body.innerText.includes("taller: kept")`},
	} {
		b.Run(page.name, func(b *testing.B) {
			p, err := browser.Open(ctx, srv.URL, tok.Text, 1280, 800, false)
			require.NoError(b, err)
			defer p.Close()
			var first, paint, there float64
			var worst, slow [2]float64
			for b.Loop() {
				var at float64
				require.NoError(b, p.Do(time.Minute, chromedp.Navigate(srv.URL+page.path),
					chromedp.Poll(`(`+page.there+`) && performance.now()`, &at, chromedp.WithPollingInterval(5*time.Millisecond))))
				if first == 0 {
					first = at
				}
				there += at
				require.NoError(b, p.Do(time.Minute, chromedp.Evaluate(
					`performance.getEntriesByName("first-contentful-paint")[0]?.startTime ?? 0`, &at)))
				paint += at
				var frames [2][]float64
				require.NoError(b, p.Do(time.Minute, chromedp.Evaluate(scrolls, &frames,
					func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) })))
				require.NotEmpty(b, frames[1])
				for i := range frames {
					for _, f := range frames[i] {
						worst[i] = max(worst[i], f)
						if f > 51 { // three of 60 a second
							slow[i]++
						}
					}
				}
			}
			b.ReportMetric(first, "ms-there-first")
			b.ReportMetric((there-first)/float64(max(1, b.N-1)), "ms-there")
			b.ReportMetric(paint/float64(b.N), "ms-paint")
			b.ReportMetric(worst[0], "ms-worst-frame-at-first")
			b.ReportMetric(slow[0]/float64(b.N), "frames>50ms-at-first")
			b.ReportMetric(worst[1], "ms-worst-frame")
			b.ReportMetric(slow[1]/float64(b.N), "frames>50ms")
			require.Empty(b, p.Errors)
		})
	}
}

// crowd puts volumes, and snapshots of the first, into the catalogue of a site that runs.
func crowd(t testing.TB, db, dir string, volumes, snapshots int) {
	cat, err := catalog.Open(db)
	require.NoError(t, err)
	defer cat.Close()
	now := time.Now()
	for i := range volumes {
		require.NoError(t, cat.PutVolume(&catalog.Volume{Name: fmt.Sprintf("v%05d", i), Lineage: fmt.Sprintf("%032x", i+1),
			Kind: "tree", Origin: "here", Path: filepath.Join(dir, "v"), Protected: true, ChunkAvg: 64 << 10,
			Labels:   catalog.JSON[catalog.Labels]{V: catalog.Labels{"k": "v"}},
			Excludes: catalog.JSON[[]string]{V: []string{}}, Added: catalog.At(now), ScheduledUntil: catalog.At(now)}))
	}
	rows := make([]*catalog.Snapshot, snapshots)
	for i := range rows {
		at := catalog.At(now.Add(-time.Duration(snapshots-i) * 15 * time.Minute))
		rows[i] = &catalog.Snapshot{ID: fmt.Sprintf("%064x", uint64(i)*0x9e3779b97f4a7c15), Place: "here", Volume: "v00000",
			Lineage: fmt.Sprintf("%032x", 1), Origin: "here", Term: 1, Sequence: int64(i + 1), Began: at, Ended: at,
			Cause: "scheduled", Labels: catalog.JSON[catalog.Labels]{V: catalog.Labels{}}}
	}
	require.NoError(t, cat.PutSnapshots(rows))
}
