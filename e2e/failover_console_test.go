package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/e2e/browser"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// The main site is lost; the other takes over by the console, with a pause that a person answers; and all comes home by
// the main site's console.
func TestFailoverInConsole(t *testing.T) {
	base := t.TempDir()
	share, up := filepath.Join(base, "share"), filepath.Join(base, "up")
	require.NoError(t, os.Mkdir(share, 0o755))
	shell(t, share, "echo one > a")
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	for _, p := range []*proc{a, b} {
		p.stop()
		fixPorts(t, p)
		p.start()
	}
	a.run("volume", "add", "notes", "--path", share, "--label", "k=v")
	a.run("volume", "add", "db", "--size", "4MiB", "--label", "k=v")
	pair(t, a, b, "k=v")
	a.run("site", "grant", "stonewick", "take-over")
	for _, v := range []string{"notes", "db"} {
		a.run("snapshot", "take", v)
	}
	a.run("route", "run", "to-dr")
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	open := func(p *proc) *browser.Page {
		page, err := browser.Open(ctx, p.url, p.token, 1280, 800, false)
		require.NoError(t, err)
		t.Cleanup(page.Close)
		return page
	}
	click := func(text string) chromedp.Action {
		return browser.Click(`//button[starts-with(normalize-space(.), "` + text + `")]`)
	}
	type at struct {
		*browser.Page
		says func(text string)
		do   func(actions ...chromedp.Action)
	}
	with := func(p *browser.Page) at {
		return at{p, func(text string) {
			t.Helper()
			require.NoError(t, p.Wait(fmt.Sprintf(`document.body.innerText.includes(%q)`, text)), text)
		}, func(actions ...chromedp.Action) {
			t.Helper()
			require.NoError(t, p.Do(20*time.Second, actions...))
		}}
	}

	dr := with(open(b))
	dr.do(chromedp.Navigate(b.url+"/recovery"), click("write a runbook"),
		chromedp.WaitVisible(`[aria-label="Runbook"]`))
	noFaults(t, dr.Page, "write a runbook")
	write := func(text string) chromedp.Action { // as it is pasted: typed lines would be indented
		return chromedp.Tasks{chromedp.Focus(`[aria-label="Runbook"]`),
			chromedp.KeyEvent("a", chromedp.KeyModifiers(input.ModifierCtrl)), input.InsertText(text), click("Store it")}
	}
	dr.do(write("runbook: field-station\nat: stonewick\nbring_up:\n- nothing-there\n"))
	dr.says("there is no volume or group nothing-there here")
	dr.do(write("runbook: field-station\nat: stonewick\nbring_up: [notes, {pause: {say: Ask the registrar}}, db]\n" +
		"paths: {notes: " + up + "}\n"))
	dr.says("field-station")
	dr.says("ready")
	noFaults(t, dr.Page, "a runbook")

	// It is rehearsed first.
	dr.do(click("rehearse"), chromedp.WaitVisible(`input[type=number]`, chromedp.ByQuery))
	noFaults(t, dr.Page, "how a drill is held")
	dr.do(chromedp.SendKeys(`input[type=number]`, "30", chromedp.ByQuery), chromedp.Click(
		`//button[normalize-space(.)="Rehearse"]`, chromedp.BySearch))
	dr.says("It waits for a person: Ask the registrar.")
	dr.do(click("That is done"))
	dr.says("It stays up until")
	noFaults(t, dr.Page, "a drill that is up")
	require.Contains(t, b.run("clone", "list"), "-db\tdb@larkfield")
	dr.do(click("End it now"))
	dr.says("All of it was taken away.")
	noFaults(t, dr.Page, "the report of a drill")
	require.Contains(t, b.run("drill", "show", "field-station", "--csv", "-"), "time,field-station,")
	require.Contains(t, b.run("clone", "list"), "No clones")

	// So it is from the other site's desk, and both ledgers tell.
	b.run("site", "grant", "larkfield", "configure")
	a.run("site", "check", "stonewick")
	a.run("--desk", "stonewick", "drill", "start", "field-station", "--keep", "none", "--no-wait")
	require.Eventually(t, func() bool {
		_, err := a.try("--desk", "stonewick", "failover", "answer", "field-station")
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool {
		var all []struct{ State string }
		a.json(&all, "--desk", "stonewick", "drill", "list")
		return len(all) == 2 && all[0].State == "done"
	}, 20*time.Second, 50*time.Millisecond)
	for _, p := range []*proc{a, b} {
		require.Contains(t, p.run("ledger", "list"), "startDrill")
	}
	dr.do(chromedp.Navigate(b.url + "/objectives"))
	dr.says("What drills came to")
	noFaults(t, dr.Page, "objectives with drills")
	dr.do(chromedp.Navigate(b.url+"/recovery"), chromedp.WaitVisible(`//article`, chromedp.BySearch))

	a.kill()
	shell(t, share, "echo two > b")
	dr.do(click("take over"), chromedp.WaitVisible(`//label[contains(., "is lost, or not")]`, chromedp.BySearch),
		chromedp.Click(`//label[contains(., "is lost, or not")]/input`, chromedp.BySearch))
	dr.says("would be left behind")
	noFaults(t, dr.Page, "what taking over means")
	dr.do(chromedp.SendKeys(`//label[contains(., "to go on")]//input`, "field-station", chromedp.BySearch),
		chromedp.Click(`//button[normalize-space(.)="Take over"]`, chromedp.BySearch))
	dr.says("It waits for a person: Ask the registrar.")
	noFaults(t, dr.Page, "a failover that waits")
	dr.do(click("That is done"))
	dr.says("stonewick is active of 2 volumes.")
	noFaults(t, dr.Page, "a failover that is done")
	shell(t, up, "echo three > c")

	a.start()
	a.run("site", "check", "stonewick")
	home := with(open(a))
	home.do(chromedp.Navigate(a.url + "/recovery"))
	home.says("are active at stonewick")
	home.do(click("bring home"), chromedp.WaitVisible(`//label[contains(., "to go on")]`, chromedp.BySearch))
	home.says("which hands over: nothing would be lost")
	noFaults(t, home.Page, "what coming home means")
	home.do(chromedp.SendKeys(`//label[contains(., "to go on")]//input`, "field-station", chromedp.BySearch),
		chromedp.Click(`//button[normalize-space(.)="Bring home"]`, chromedp.BySearch))
	home.says("Nothing was lost.")
	shell(t, share, "test \"$(cat a c)\" = \"$(printf 'one\\nthree')\"; test ! -e b")
	home.do(chromedp.Navigate(a.url + "/recovery"))
	home.says("left behind when another site took over")
	noFaults(t, home.Page, "what was left behind")
}
