package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/e2e/browser"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// Many volumes in the console: what needs a hand comes first, the rest is folded, only what is in sight is drawn; many
// are labelled at once; what is noted with a snapshot and a volume's excludes are changed. Every page is usable from
// 360 to 1920 pixels, in light and dark.
func TestManyInConsole(t *testing.T) {
	base := t.TempDir()
	shell(t, base, `mkdir share; for i in $(seq 100 209); do mkdir share/v$i; echo $i > share/v$i/a; done
		echo x > share/v100/b.tmp`)
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	require.NoError(t, os.WriteFile(filepath.Join(base, "p.yaml"), []byte("policy: all\nvolumes: {k: v}\nzone: UTC\n"+
		"take: ["+notNow()+"]\nkeep:\n  larkfield: {daily: 7}\n"), 0o644))
	a.run("policy", "put", filepath.Join(base, "p.yaml"))
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	p, err := browser.Open(ctx, a.url, a.token, 1280, 800, false)
	require.NoError(t, err)
	defer p.Close()
	do := func(actions ...chromedp.Action) {
		t.Helper()
		require.NoError(t, p.Do(30*time.Second, actions...))
	}
	is := func(expression string) {
		t.Helper()
		require.NoError(t, p.Wait(expression), expression)
	}
	press := func(text string) chromedp.Action {
		return browser.Click(`//button[normalize-space(.)="` + text + `"]`)
	}
	fill := func(label, text string) chromedp.Action {
		return chromedp.SendKeys(`//label[contains(., "`+label+`")]//*[self::input or self::textarea]`, text,
			chromedp.BySearch)
	}
	do(chromedp.Evaluate(fmt.Sprintf(`(async () => {
		const post = (path, body) => fetch("/api/v1" + path, {method: "POST", body: JSON.stringify(body),
			headers: {"Content-Type": "application/json"}}).then(r => { if (!r.ok) throw new Error(path + r.status); });
		for (let i = 100; i < 210; i++) await post("/volumes", {name: "v" + i, path: %q + "/v" + i,
			labels: {hall: i %% 2 ? "east" : "west", ...(i < 130 ? {} : {k: "v"})}});
		await post("/snapshots", {labels: {k: "v"}, take: {}});
	})()`, filepath.Join(base, "share")), nil, awaitPromise))
	settle(a)

	do(chromedp.Navigate(a.url))
	const heads = `[...document.querySelectorAll('[aria-label="Time ruler"] [aria-expanded]')]`
	is(heads + `.map(b => b.innerText.replace(/\s+/g, " ").trim()).join("; ").includes("unprotected 30 volumes")`)
	do(chromedp.Evaluate(heads+`.find(b => b.getAttribute("aria-expanded") === "true").click()`, nil))
	is(heads + `.map(b => b.innerText.replace(/[^a-z0-9 ]+/g, " ").trim()).join("; ") ===
		"unprotected 30 volumes; on target 80 volumes"`)
	do(chromedp.Evaluate(heads+`.at(-1).click()`, nil))
	is(`document.querySelectorAll('[aria-label="Time ruler"] a').length > 5`)
	is(`document.querySelectorAll('[aria-label="Time ruler"] a').length < 60`)
	noFaults(t, p, "the folded ruler")
	do(chromedp.Click(`button[aria-label^="Fold by: "]`), chromedp.Click(`//*[@role="option"][.="label hall"]`,
		chromedp.BySearch))
	is(`location.search.includes("fold=label") && ` + heads + `.length >= 1`)

	// All that are shown are chosen, and labelled at once.
	do(chromedp.Navigate(a.url + "/volumes"))
	is(`document.querySelector("table")?.getAttribute("aria-rowcount") === "111"`)
	is(`document.querySelectorAll("tbody tr").length < 80`)
	do(chromedp.Click(`input[aria-label="Choose all that are shown"]`))
	is(`document.body.innerText.includes("110 chosen")`)
	do(press("Label them"), chromedp.WaitVisible(`input[aria-label="Key"]`),
		chromedp.SendKeys(`input[aria-label="Key"]`, "seas"))
	noFaults(t, p, "the label sheet")
	do(chromedp.SendKeys(`input[aria-label="Key"]`, "on"), chromedp.SendKeys(`input[aria-label="Value"]`, "2027"),
		press("See what that changes"))
	is(`document.body.innerText.includes("No policy chooses it")`)
	do(press("Change it"))
	is(`!document.querySelector('input[aria-label="Key"]')`)
	require.Equal(t, 110, strings.Count(a.run("volume", "list"), "season=2027"))

	// What is noted with a snapshot, when it is taken and later; what a volume leaves out.
	do(chromedp.Navigate(a.url+"/volumes/v100"), press("with a note …"), chromedp.WaitVisible(`//h2[contains(.,
		"Take a snapshot of v100")]`, chromedp.BySearch), fill("Note", "before the move"), fill("Labels", "audit=2027"))
	noFaults(t, p, "the take sheet")
	do(press("Take it"))
	is(`location.pathname.startsWith("/runs/")`)
	settle(a)
	do(chromedp.Navigate(a.url + "/volumes/v100"))
	is(`document.body.innerText.includes("before the move") && document.body.innerText.includes("audit=2027")`)
	do(press("note"), chromedp.WaitVisible(`//h2[contains(., "The snapshot of")]`, chromedp.BySearch),
		fill("Note", ", as agreed"), fill("Labels", " box=7"), press("Change it"))
	is(`!document.querySelector('[role="dialog"]') && // its command says the same before it is done
		document.body.innerText.includes("before the move, as agreed") && document.body.innerText.includes("box=7")`)
	require.Contains(t, a.run("--json", "snapshot", "list", "v100"), `"box": "7"`)
	do(press("change"), chromedp.WaitVisible(`//h2[contains(., "Change v100")]`, chromedp.BySearch),
		fill("Left out", "*.tmp"), press("See what would be there"))
	is(`document.body.innerText.includes("1 file in 1 directory")`)
	noFaults(t, p, "the change sheet")
	do(press("Change it"))
	is(`!document.querySelector("textarea")`)
	require.Contains(t, a.run("volume", "show", "v100"), "*.tmp")

	// Snapshots of all volumes: narrowed, chosen, kept and removed together.
	do(chromedp.Navigate(a.url + "/snapshots"))
	is(`document.querySelector("table")?.getAttribute("aria-rowcount") === "82"`)
	noFaults(t, p, "all snapshots")
	do(chromedp.SendKeys(`input[aria-label="Look for"]`, "v13"))
	is(`document.querySelectorAll("tbody tr").length === 10 && location.search.includes("text=v13")`)
	do(chromedp.Click(`input[aria-label="Choose all that are shown"]`), press("Keep 10"),
		chromedp.WaitVisible(`//h2[contains(., "Keep: 10 snapshots")]`, chromedp.BySearch), fill("Reason", "the census"))
	noFaults(t, p, "the act sheet")
	do(chromedp.Click(`//form//button[contains(., "Keep 10")]`, chromedp.BySearch))
	is(`[...document.querySelectorAll("button")].some(b => b.innerText === "Take the keep mark back 10")`)
	require.Equal(t, 10, strings.Count(a.run("snapshot", "list", "--which", "marked", "--text", "census"), "v13"))

	// From narrow to wide, in light and dark: nothing is wider than the window, and axe finds nothing.
	for i := range 8 {
		width, scheme := []int64{360, 768, 1280, 1920}[i/2], []string{"light", "dark"}[i%2]
		do(chromedp.EmulateViewport(width, 800), emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{
			Name: "prefers-color-scheme", Value: scheme}}))
		for path, ready := range map[string]string{"/": "Nothing runs", "/volumes": "season=2027",
			"/volumes/v130": "Protection", "/policies": "What it does",
			"/snapshots": "marked to keep", "/sites": "Paired sites",
			"/runs": "snapshot of", "/recovery": "What is missing",
			"/space": "Where it went", "/objectives": "Objectives", "/alarms": "Alarms", "/ledger": "Ledger",
			"/people": "Tokens of programs"} {
			do(chromedp.Navigate(a.url + path))
			is(fmt.Sprintf(`document.body.innerText.includes(%q)`, ready))
			name := fmt.Sprintf("%s at %d, %s", path, width, scheme)
			noFaults(t, p, name)
			var wide bool
			do(chromedp.Evaluate(`document.documentElement.scrollWidth > innerWidth`, &wide))
			require.False(t, wide, "%s is wider than the window", name)
		}
		if i == 0 {
			do(chromedp.Click(`//header//button[contains(., "▾")]`, chromedp.BySearch),
				chromedp.Click(`//nav/section//a[.="Ledger"]`, chromedp.BySearch))
			is(`location.pathname === "/ledger" && !document.querySelector("nav section a")`)
		}
	}
	require.Empty(t, p.Errors)
}
