package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/e2e/browser"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// freePort finds a port below those that the kernel gives away, so that nobody else gets it
// while what listens there is started again.
func freePort(t testing.TB) int {
	for range 100 {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 12_000+rand.IntN(20_000)))
		if err == nil {
			l.Close()
			return l.Addr().(*net.TCPAddr).Port
		}
	}
	t.Fatal("no free port")
	return 0
}

// notNow is a cadence that is not due while a test runs, at whatever hour that is.
func notNow() string {
	return "daily at " + time.Now().UTC().Add(12*time.Hour).Format("15:04")
}

// anotherDay is a day of the week that neither is nor begins while the test runs.
func anotherDay() string {
	return strings.ToLower(time.Now().UTC().AddDate(0, 0, 3).Weekday().String()[:3])
}

// The administrator's way through the console: see a deleted folder as of a moment,
// bring it back where it was, see the run's outcome; and no page has a fault that axe
// finds, or an error on the console.
func TestConsole(t *testing.T) {
	if browser.Find() == "" {
		t.Fatal("Chromium is missing: make test installs it")
	}
	if _, err := os.Stat("../internal/httpapi/web/index.html"); err != nil {
		t.Fatal("the console is not built: run make build first")
	}
	base := t.TempDir()
	src := filepath.Join(base, "share")
	shell(t, base, `mkdir -p "share/letters/1931" share/maps; head -c 100000 /dev/urandom > share/maps/m.bin
		echo dear > share/letters/1931/a.txt; echo sir > share/letters/1931/b.txt`)
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	a.run("volume", "add", "archive", "--path", src, "--label", "k=v")
	require.NoError(t, os.WriteFile(filepath.Join(base, "p.yaml"),
		[]byte("policy: all\nvolumes: {k: v}\nzone: UTC\ntake: ["+notNow()+"]\nkeep:\n  larkfield: {daily: 7}\n"), 0o644))
	a.run("policy", "put", filepath.Join(base, "p.yaml"))
	pair(t, a, b, "k=v")
	a.run("snapshot", "take", "archive", "--note", "complete")
	shell(t, base, "cp -a share want; rm -r share/letters")

	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	p, err := browser.Open(ctx, a.url, a.token, 1280, 800, false)
	require.NoError(t, err)
	defer p.Close()
	click := func(text string) chromedp.Action {
		return browser.Click(`//button[contains(., "` + text + `")]`)
	}
	faultless := func(name string) { t.Helper(); noFaults(t, p, name) }
	for path, ready := range map[string]string{"/": `document.body.innerText.includes("archive")`,
		"/volumes":             `document.querySelector("table.plain")`,
		"/policies?policy=all": `document.querySelectorAll("figure svg path").length > 1`,
		"/sites":               `document.body.innerText.includes("It says of itself")`,
		"/routes/to-dr":        `document.body.innerText.includes("Newest state there")`,
		"/alarms":              `document.body.innerText.includes("They go to")`,
		"/runs":                `document.querySelector("table.plain a")`,
		"/space":               `document.body.innerText.includes("Comes back by itself")`,
		"/ledger":              `document.querySelector("table.plain")`,
		"/people":              `document.body.innerText.includes("Tokens of programs")`,
		"/recovery":            `document.querySelectorAll("main section").length >= 3`,
		"/objectives":          `document.querySelector("table.plain svg")`} {
		require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+path)), path)
		require.NoError(t, p.Wait(ready), path)
		faultless(path)
		var overflow bool
		require.NoError(t, p.Do(10*time.Second, chromedp.Evaluate(`document.documentElement.scrollWidth > innerWidth`,
			&overflow)))
		require.False(t, overflow, "%s is wider than the window", path)
	}

	// What is drawn is what the API says.
	truth := func(path, ready, script string) {
		t.Helper()
		var differs []string
		require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+path)))
		require.NoError(t, p.Wait(ready))
		require.NoError(t, p.Do(20*time.Second, chromedp.Evaluate(`(async () => {
			const out = [], is = (what, drawn, said) => {
				if (String(drawn) !== String(said)) out.push(what + ": drawn " + drawn + ", said " + said);
			};
			const get = (u, body) => fetch("/api/v1" + u, body && {method: "POST", body: JSON.stringify(body),
				headers: {"Content-Type": "application/json"}}).then(r => r.json());
			const all = q => [...document.querySelectorAll(q)];
			`+script+`
			return out;
		})()`, &differs, awaitPromise)))
		require.Empty(t, differs, path)
	}
	truth("/policies?policy=all", `document.querySelectorAll('svg[aria-label*="moments at"] title').length > 1`, `
		const p = await get("/policies/preview", {name: "all", days: 90});
		for (const place of p.places) {
			is("rungs at " + place.place, all('svg[aria-label*="moments at ' + place.place + '"] line title').length,
				place.ladder.length);
			const last = place.samples.at(-1);
			is("count at " + place.place,
				all('svg[aria-label*="' + place.place + ': ' + last.count + ' at the end"]').length, 1);
		}`)
	truth("/space", `document.body.innerText.includes("Comes back by itself")`, `
		const u = await get("/store"), most = Math.max(...u.volumes.map(v => v.referenced));
		const bars = all("table.plain")[0].querySelectorAll("tbody tr");
		is("volumes", bars.length, u.volumes.length);
		u.volumes.forEach((v, i) => {
			const [needs, own] = bars[i].querySelectorAll("rect");
			is(v.volume + " needs", needs.getAttribute("width"), 100 * v.referenced / most + "%");
			is(v.volume + " own", own.getAttribute("width"), 100 * v.unique / most + "%");
			is(v.volume + " snapshots", bars[i].cells[1].innerText, v.snapshots);
		});`)
	truth("/objectives?days=30", `document.querySelector("table.plain svg")`, `
		const since = new Date(Date.now() - 30 * 86400000).toISOString();
		const r = await get("/reports/objectives?since=" + encodeURIComponent(since));
		const rows = all("table.plain")[0].querySelectorAll("tbody tr");
		is("rows", rows.length, r.rows.length);
		r.rows.forEach((x, i) => {
			const c = [...rows[i].cells].map(c => c.innerText);
			is("row " + i, [c[0], c[1], c[6]].join(), [x.volume, x.place, x.gaps || "–"].join());
			if (Math.abs(parseFloat(c[4]) - x.onTargetPercent) > 0.2) is("percent of " + x.volume, c[4], x.onTargetPercent);
			is("late stretches of " + x.volume, rows[i].querySelectorAll("rect title").length, x.lateCount);
		});`)
	const marks = `[role="slider"] svg rect, [role="slider"] svg path`
	truth("/volumes/archive", "document.querySelectorAll('"+marks+"').length > 3", `
		const asked = performance.getEntriesByType("resource").map(e => e.name).filter(n => n.includes("/timeline")).at(-1);
		const tl = (await fetch(asked).then(r => r.json())).items[0];
		const planned = all('[role="slider"] svg path[stroke="var(--now)"]')[0].getAttribute("d").split("M").length - 1;
		const s = all('[role="slider"]')[0], from = +s.ariaValueMin, to = +s.ariaValueMax;
		const plot = +s.querySelector("svg").getAttribute("width");
		let want = 0, before = -Infinity; // in sight, and none over another
		for (const x of tl.planned.map(t => (Date.parse(t) - from) / (to - from) * plot - 1.5))
			if (x >= -4 && x <= plot && x >= before + 5) { want++; before = x; }
		is("planned", planned, want);
		is("some are planned", want > 0, true);
		is("gaps", all('[role="slider"] svg rect[fill="url(#gap)"]').length, tl.gaps.length);
		is("snapshots", tl.lanes[0].marks.length, (await get("/volumes/archive")).snapshots);
		is("marks drawn in each lane", all('[role="slider"] svg [fill="var(--ink)"]').length >= tl.lanes.length, true);
		is("why", tl.lanes[0].marks.every(m => m.why !== ""), true);`)

	truth("/sites", `document.body.innerText.includes("It says of itself")`, `
		const routes = await get("/routes"), sites = await get("/sites");
		const map = all('svg[role="group"]')[0];
		is("routes on the map", map.querySelectorAll("a").length, routes.length);
		for (const r of routes) {
			const link = map.querySelector('a[href="/routes/' + r.name + '"]');
			is(r.name, link && link.textContent, r.name + " is " + r.state);
			is("sentence of " + r.name, document.body.innerText.includes(r.sentence.replace(/ its newest state.*/, "")), true);
		}
		for (const s of sites) is("grants of " + s.name, document.body.innerText.includes(
			"Here it may " + s.grants.words + ". There this site may " + s.granted.words + "."), true);`)
	exactly := func(text string) chromedp.Action {
		return browser.Click(`(//button[normalize-space(.)="` + text + `"])[1]`)
	}
	// A route is paused from elsewhere, and the map says so without a reload.
	a.run("route", "pause", "to-dr")
	require.NoError(t, p.Wait(`[...document.querySelectorAll("svg a")].some(x => x.textContent === "to-dr is paused")`))
	a.run("route", "resume", "to-dr")
	require.NoError(t, p.Wait(`[...document.querySelectorAll("svg a")].some(
		x => x.textContent.startsWith("to-dr is") && !x.textContent.includes("paused"))`))
	// The pace is set, drawn by hours, and taken back; grants are given.
	require.NoError(t, p.Do(20*time.Second, exactly("pace"), chromedp.WaitVisible("textarea")))
	faultless("the pace sheet")
	require.NoError(t, p.Do(20*time.Second, chromedp.SendKeys("textarea", "20 Mbit/s at noon"), exactly("Save it")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("expected the end, or between, on or in")`))
	require.NoError(t, p.Do(20*time.Second, chromedp.SendKeys("textarea", strings.Repeat("\b", 7)+"on sat\nnothing on "+
		anotherDay()), exactly("Save it")))
	require.NoError(t, p.Wait(`document.querySelectorAll('svg[aria-label^="Pace by hour"] rect').length === 168`))
	faultless("a pace")
	require.NoError(t, p.Do(20*time.Second, exactly("grants"),
		chromedp.WaitVisible(`//label[contains(., "configure")]/input`, chromedp.BySearch)))
	faultless("the grants sheet")
	require.NoError(t, p.Do(20*time.Second, chromedp.Click(`//label[contains(., "configure")]/input`, chromedp.BySearch),
		exactly("Save it")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("Here it may bring snapshots, configure it.")`))
	// A route is looked at before it is opened, opened, and closed again.
	require.NoError(t, p.Do(20*time.Second, exactly("Open a route"),
		chromedp.WaitVisible(`input[placeholder="collection=herbarium"]`)))
	faultless("the route sheet")
	require.NoError(t, p.Do(20*time.Second, chromedp.SendKeys(`input[placeholder="to-stonewick"]`, "maps"),
		chromedp.SendKeys(`input[placeholder="collection=herbarium"]`, "k=v"), exactly("What would it carry?")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("It carries 1 snapshot of 1 volume to stonewick")`))
	require.NoError(t, p.Do(20*time.Second, exactly("Open it")))
	require.NoError(t, p.Wait(`document.querySelector('svg a[href="/routes/maps"]')`))
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/routes/maps"), exactly("close it"),
		exactly("Close it")))
	require.NoError(t, p.Wait(`location.pathname === "/sites" && !document.querySelector('svg a[href="/routes/maps"]')`))

	// A disk is attached, and taken away.
	require.NoError(t, os.Mkdir(filepath.Join(base, "disk"), 0o755))
	require.NoError(t, p.Do(20*time.Second, exactly("attach one"),
		chromedp.WaitVisible(`input[placeholder="shelf-disk"]`)))
	faultless("the disk sheet")
	require.NoError(t, p.Do(20*time.Second, chromedp.SendKeys(`input[placeholder="shelf-disk"]`, "shelf"),
		chromedp.SendKeys(`form input.font-mono`, filepath.Join(base, "disk")), exactly("Attach it")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("0 snapshots, 0 B")`))
	faultless("a disk")
	require.NoError(t, p.Do(20*time.Second, exactly("detach")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("its disk can be taken away")`))

	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/volumes/archive")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("letters/")`), "the newest state still has the folder")
	faultless("/volumes/archive")
	require.NoError(t, p.Do(20*time.Second, chromedp.Click(`input[aria-label="Pick letters"]`),
		click("Bring back 1 picked"), chromedp.WaitVisible(`//button[contains(., "See what")]`, chromedp.BySearch)))
	faultless("the restore sheet")
	require.NoError(t, p.Do(20*time.Second, click("See what would happen"), chromedp.WaitVisible(`[aria-label="Plan"]`),
		click("Do it")))
	require.NoError(t, p.Wait(`/done: .* created.*archive as of/.test(document.body.innerText)`))
	same(t, filepath.Join(base, "want", "letters"), filepath.Join(src, "letters"))

	// The whole path of someone who misses a folder: found, brought back, taken back.
	shell(t, base, "rm -r share/letters; echo other > share/maps/n.txt")
	a.run("snapshot", "take", "archive")
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/recovery"),
		chromedp.WaitVisible(`input[aria-label="Look for"]`)))
	require.NoError(t, p.Wait(`document.querySelectorAll("main section").length >= 3`))
	require.NoError(t, p.Do(20*time.Second, chromedp.SendKeys(`input[aria-label="Look for"]`, "letters"), exactly("Find")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("last seen")`))
	faultless("/recovery")
	require.NoError(t, p.Do(20*time.Second, exactly("bring back"),
		chromedp.WaitVisible(`//button[contains(., "See what")]`, chromedp.BySearch), click("See what would happen"),
		chromedp.WaitVisible(`[aria-label="Plan"]`), click("Do it")))
	require.NoError(t, p.Wait(`/done: .* created.*archive as of/.test(document.body.innerText)`))
	same(t, filepath.Join(base, "want", "letters"), filepath.Join(src, "letters"))
	require.NoError(t, p.Do(20*time.Second, chromedp.Click(`[role="dialog"] section button`),
		chromedp.WaitVisible(`//button[.="Take it back"]`, chromedp.BySearch)))
	faultless("the undo sheet")
	require.NoError(t, p.Do(20*time.Second, exactly("Take it back")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("takes it back")`))
	settle(a)
	require.NoDirExists(t, filepath.Join(src, "letters"))
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/volumes/archive?view=changes")))
	a.run("restore", "archive", "letters", "--at", a.snapshots("archive")[len(a.snapshots("archive"))-1].ID, "--in-place")
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/volumes/archive?view=changes")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("4 added")`))
	faultless("what changed")
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/volumes/archive?view=find&find=n.txt")))
	require.NoError(t, p.Wait(`document.querySelector("table.plain tbody td button")`))
	require.NoError(t, p.Do(20*time.Second, chromedp.Click(`table.plain tbody td button`),
		chromedp.WaitVisible(`//a[.="download"]`, chromedp.BySearch)))
	faultless("the versions sheet")

	// A keep mark with its reason, and back; a pause, and on.
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/volumes/archive")))
	require.NoError(t, p.Wait(`[...document.querySelectorAll("button")].some(b => b.innerText === "keep")`))
	require.NoError(t, p.Do(20*time.Second, exactly("keep"), chromedp.WaitVisible(`//button[.="Keep it"]`,
		chromedp.BySearch)))
	faultless("the keep sheet")
	require.NoError(t, p.Do(20*time.Second, chromedp.SendKeys(`form input.field.w-full`, "signed by the auditor"),
		exactly("Keep it")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("marked to keep: signed by the auditor")`))
	require.NoError(t, p.Do(20*time.Second, exactly("unmark")))
	require.NoError(t, p.Wait(`!document.body.innerText.includes("signed by the auditor")`))
	require.NoError(t, p.Do(20*time.Second, exactly("pause")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("It is paused since")`))
	faultless("a paused volume")
	require.NoError(t, p.Do(20*time.Second, exactly("go on")))
	require.NoError(t, p.Wait(`!document.body.innerText.includes("It is paused since")`))

	// What would come back, counted without removing anything.
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/space?volume=archive")))
	require.NoError(t, p.Wait(`[...document.querySelectorAll("button")].some(b => b.innerText === "all")`))
	require.NoError(t, p.Do(20*time.Second, exactly("all")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("would give back")`))

	// A group is made, shown and dissolved; a cap is set and taken away.
	maps := filepath.Join(base, "share", "maps")
	a.run("volume", "add", "plates", "--path", maps)
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/volumes"), exactly("Make a group"),
		chromedp.WaitVisible(`//button[.="Make it"]`, chromedp.BySearch)))
	faultless("the group sheet")
	require.NoError(t, p.Do(20*time.Second, chromedp.SendKeys(`form input.field.w-full`, "both"),
		chromedp.Click(`//label[contains(., "archive")]/input`, chromedp.BySearch),
		chromedp.Click(`//label[contains(., "plates")]/input`, chromedp.BySearch), exactly("Make it")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("No set yet")`))
	a.run("snapshot", "take", "plates")
	require.NoError(t, p.Wait(`document.body.innerText.includes("Newest set")`))
	faultless("a group")
	require.NoError(t, p.Do(20*time.Second, exactly("dissolve"), exactly("Dissolve it")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("are a reason for one")`))
	a.run("volume", "remove", "plates")
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/space"), exactly("Set a cap"),
		chromedp.WaitVisible(`//button[.="Set it"]`, chromedp.BySearch)))
	faultless("the cap sheet")
	require.NoError(t, p.Do(20*time.Second, chromedp.SendKeys(`form input[type="number"]`, "900"), exactly("Set it")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("At most 900 snapshots; there are")`))
	require.NoError(t, p.Do(20*time.Second, exactly("take away")))
	require.NoError(t, p.Wait(`!document.body.innerText.includes("At most 900 snapshots")`))

	const document = `[aria-label="Policy document"]`
	// The form changes the text, and the text the form; what may be written is offered.
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/policies?policy=all&view=form"),
		chromedp.WaitVisible(`input[aria-label="larkfield: daily"]`)))
	faultless("the form")
	require.NoError(t, p.Do(20*time.Second, chromedp.SendKeys(`input[aria-label="larkfield: weekly"]`, "8\r"),
		exactly("Text"), chromedp.WaitVisible(document)))
	require.NoError(t, p.Wait(`document.querySelector(".cm-content").innerText.includes("{daily: 7, weekly: 8}")`))
	atEnd := chromedp.Tasks{chromedp.Focus(document), chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(input.ModifierCtrl))}
	require.NoError(t, p.Do(20*time.Second, atEnd, chromedp.KeyEvent("gr")))
	require.NoError(t, p.Wait(`[...document.querySelectorAll('[role="option"]')].some(o => o.innerText === "grace")`))
	faultless("offers")
	// What a key does is done at its going down; the character that would follow does not come.
	require.NoError(t, p.Do(20*time.Second, input.DispatchKeyEvent(input.KeyRawDown).WithKey("Enter").WithCode("Enter").
		WithWindowsVirtualKeyCode(13)))
	require.NoError(t, p.Wait(`document.querySelector(".cm-content").innerText.includes("grace: ")`))
	require.NoError(t, p.Do(20*time.Second, input.InsertText("2 days"), exactly("Form"),
		chromedp.WaitVisible(`input[aria-label="Grace"]`)))
	require.NoError(t, p.Wait(`document.querySelector('input[aria-label="Grace"]').value === "2 days"`))

	// The editor tells before storing what a document would let go, and where it is wrong.
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/policies?policy=all"),
		chromedp.WaitVisible(document), atEnd, input.InsertText("\ncolour: red\n")))
	require.NoError(t, p.Wait(`document.body.innerText.includes("It cannot be used yet")`))
	require.NoError(t, p.Wait(`document.querySelector(".cm-lintRange-error")?.innerText === "colour: red"`))

	// At the far site, rules that keep less wait for a person, who accepts them there.
	take := func() {
		shell(t, src, "date +%N > stamp")
		a.run("snapshot", "take", "archive", "--keep-until", "+9d")
		a.run("route", "run", "to-dr")
	}
	take()
	take()
	require.NoError(t, os.WriteFile(filepath.Join(base, "p.yaml"),
		[]byte("policy: all\nvolumes: {k: v}\nzone: UTC\ntake: ["+notNow()+"]\nkeep:\n  larkfield: {daily: 7}\n  "+
			"stonewick: {daily: 2}\n"), 0o644))
	a.run("policy", "put", "--yes", filepath.Join(base, "p.yaml"))
	take()
	far, err := browser.Open(ctx, b.url, b.token, 1280, 800, false)
	require.NoError(t, err)
	defer far.Close()
	require.NoError(t, far.Do(20*time.Second, chromedp.Navigate(b.url+"/volumes/archive@larkfield")))
	require.NoError(t,
		far.Wait(`document.body.innerText.includes("Its origin proposes to keep less here: everything was kept")`))
	require.NoError(t, far.Do(20*time.Second, chromedp.Click(`//button[.="Accept it"]`, chromedp.BySearch)))
	require.NoError(t, far.Wait(`!document.body.innerText.includes("Its origin proposes")`))
	require.Empty(t, far.Errors)

	// An address that signs in once does, and says so the second time.
	var link struct{ Address string }
	require.NoError(t, json.Unmarshal([]byte(a.run("--json", "token", "link")), &link))
	once, err := browser.Open(ctx, link.Address, "", 1280, 800, false)
	require.NoError(t, err)
	defer once.Close()
	require.NoError(t, once.Wait(`document.body.innerText.includes("archive") && !location.hash`))
	again, err := browser.Open(ctx, link.Address, "", 1280, 800, false)
	require.NoError(t, err)
	defer again.Close()
	require.NoError(t, again.Wait(`document.body.innerText.includes("This link was used already")`))

	// The keyboard: the ruler goes from snapshot to snapshot, and the address keeps it.
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/volumes/archive")))
	require.NoError(t,
		p.Wait(`document.querySelectorAll('[role="slider"] svg rect, [role="slider"] svg path').length > 3`))
	require.NoError(t, p.Do(20*time.Second, chromedp.Focus(`[role="slider"]`), chromedp.KeyEvent("\u0302")))
	require.NoError(t, p.Wait(`location.search.includes("at=")`))
	require.NoError(t, p.Wait(`/As of \d{4}-/.test(document.body.innerText)`))
	// What was chosen among all volumes goes along to one of them.
	const names = `[...document.querySelectorAll('[aria-label="Time ruler"] a')]`
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url+"/")))
	require.NoError(t, p.Wait(names+`.length > 1 &&
		document.querySelectorAll('[role="slider"] svg :is(rect, path)').length > 3`))
	require.NoError(t, p.Do(20*time.Second, chromedp.Focus(`[role="slider"]`), chromedp.KeyEvent("\u0302")))
	require.NoError(t, p.Wait(names+`.every(a => a.search.includes("at="))`))
	require.Empty(t, p.Errors)

	// Without a token there is only the way in.
	q, err := browser.Open(ctx, a.url, "cht_wrong", 360, 740, true)
	require.NoError(t, err)
	defer q.Close()
	require.NoError(t, q.Wait(`document.body.innerText.includes("Sign in")`))
	noFaults(t, q, "sign in")
	require.NoError(t, q.Do(20*time.Second, click("by a token instead"), chromedp.SendKeys("#token", a.token),
		click("Sign in"), chromedp.WaitVisible(`//header//button[contains(., "Today")]`, chromedp.BySearch)))
	require.NoError(t,
		q.Wait(`document.body.innerText.includes("on target") || document.body.innerText.includes("unprotected")`))
	var overflow bool
	require.NoError(t, q.Do(10*time.Second, chromedp.Evaluate(`document.documentElement.scrollWidth > innerWidth`,
		&overflow)))
	require.False(t, overflow, "Today at 360 pixels")
}

// noFaults is what axe-core must find on a page.
func noFaults(t *testing.T, p *browser.Page, name string) {
	t.Helper()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	var found string
	require.NoError(t, p.Do(30*time.Second, chromedp.Evaluate(string(axe), nil),
		chromedp.Evaluate(`axe.run(document, {runOnly: ["wcag2a","wcag2aa","wcag21aa","wcag22aa"]}).then(
			r => JSON.stringify(r.violations.map(v => [v.id, v.nodes.map(n => n.html.slice(0, 120))])))`,
			&found, awaitPromise)), name)
	var list []any
	require.NoError(t, json.Unmarshal([]byte(found), &list))
	require.Empty(t, list, name)
}

// A file owner's way: sign in by name, see the own folder alone, bring the deleted file back
// and take that back again, on a narrow screen; the file is that user's, and what is not
// granted is nowhere to be had, also not past the page.
func TestOwnFilesInConsole(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("acting as another user needs root")
	}
	base := t.TempDir()
	shell(t, base, `chmod 755 . ..; mkdir -p share/ines share/board; echo dear > share/ines/letter.txt
		echo no > share/ines/locked; echo secret > share/board/minutes
		chown -R 1500:1500 share/ines; chown root share/ines/locked; chmod 600 share/ines/locked`)
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	a.run("volume", "add", "archive", "--path", filepath.Join(base, "share"))
	a.run("snapshot", "take", "archive")
	a.typed("a longer password\n", "person", "add", "ines", "--role", "file owner", "--uid", "1500", "--gid", "1500")
	a.run("person", "grant", "ines", "archive", "ines")
	shell(t, base, `rm share/ines/letter.txt`)

	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	p, err := browser.Open(ctx, a.url, "none", 360, 740, false)
	require.NoError(t, err)
	defer p.Close()
	click := func(text string) chromedp.Action {
		return browser.Click(`//button[contains(., "` + text + `")]`)
	}
	says := func(text string) {
		t.Helper()
		require.NoError(t, p.Wait(fmt.Sprintf(`document.body.innerText.includes(%q)`, text)), text)
	}
	require.NoError(t, p.Do(20*time.Second, chromedp.WaitVisible("#name"), chromedp.SendKeys("#name", "ines"),
		chromedp.SendKeys("#password", "a longer passwort"), click("Sign in")))
	says("the name or the password is wrong")
	require.NoError(t, p.Do(20*time.Second, chromedp.Navigate(a.url), chromedp.WaitVisible("#name"),
		chromedp.SendKeys("#name", "ines"), chromedp.SendKeys("#password", "a longer password"), click("Sign in")))
	says("Your files in archive")
	says("letter.txt")
	text, err := p.Text()
	require.NoError(t, err)
	require.NotContains(t, text, "locked")
	require.NotContains(t, text, "board")
	noFaults(t, p, "own files")
	var overflow bool
	require.NoError(t, p.Do(10*time.Second, chromedp.Evaluate(`document.documentElement.scrollWidth > innerWidth`,
		&overflow)))
	require.False(t, overflow, "own files at 360 pixels")
	require.NoError(t, p.Do(20*time.Second, chromedp.Click(`[aria-label="Pick letter.txt"]`), click("Bring back 1 picked"),
		click("See what would happen")))
	says("1 created")
	require.NoError(t, p.Do(20*time.Second, click("Do it")))
	says("To take it back: candid undo")
	shell(t, base,
		`test "$(stat -c %U:%u share/ines/letter.txt | cut -d: -f2)" = 1500 && test "$(cat share/ines/letter.txt)" = dear`)
	var status []int
	require.NoError(t, p.Do(20*time.Second, chromedp.Evaluate(`Promise.all([
		"/api/v1/volumes/archive/file?path=board/minutes", "/api/v1/volumes/archive/browse?path=board",
		"/api/v1/volumes/archive/archive?path=board", "/dav/archive/latest/board/minutes",
		"/api/v1/volumes/archive/file?path=ines/locked", "/api/v1/volumes", "/api/v1/ledger",
		"/api/v1/volumes/archive/browse?path=ines"].map(u => fetch(u).then(r => r.status)))`, &status, awaitPromise)))
	require.Equal(t, []int{404, 404, 404, 404, 404, 403, 403, 200}, status)
	require.Contains(t, a.run("ledger", "list", "--who", "ines"), "ines/letter.txt")
	require.Contains(t, a.run("ledger", "verify"), "The ledger is whole")
	require.Empty(t, p.Errors)
}
