package e2e

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/e2e/browser"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// A disk is made, watched, cloned, taken back and made a volume by the console alone.
func TestDisksInConsole(t *testing.T) {
	base := t.TempDir()
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	shell(t, base, "head -c 3000000 /dev/urandom > raw; truncate -s 8M raw")
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	p, err := browser.Open(ctx, a.url, a.token, 1280, 800, false)
	require.NoError(t, err)
	defer p.Close()
	click := func(text string) chromedp.Action {
		return browser.Click(`//button[starts-with(normalize-space(.), "` + text + `")]`)
	}
	says := func(text string) {
		t.Helper()
		require.NoError(t, p.Wait(fmt.Sprintf(`document.body.innerText.includes(%q)`, text)), text)
	}
	do := func(actions ...chromedp.Action) {
		t.Helper()
		require.NoError(t, p.Do(20*time.Second, actions...))
	}
	fill := func(label, text string) chromedp.Action {
		return chromedp.SendKeys(`//label[contains(., "`+label+`")]/descendant-or-self::input`, text, chromedp.BySearch)
	}
	uri := func(export string) string {
		return "nbd+unix:///" + export + "?socket=" + filepath.Join(a.dir, "nbd.sock")
	}

	do(chromedp.Navigate(a.url+"/volumes"), click("Make a disk"),
		chromedp.WaitVisible(`//h2[contains(., "Make a disk")]`, chromedp.BySearch), fill("Name", "db"))
	do(fill("Size", "much"))
	says("This is no size")
	noFaults(t, p, "make a disk")
	do(chromedp.Evaluate(`document.querySelectorAll("form input.field")[1].select()`, nil), fill("Size", "16 MiB"),
		fill("Begin with", filepath.Join(base, "none")), click("Make it"))
	says("no such file")
	do(chromedp.Evaluate(`document.querySelectorAll("form input.field")[2].select()`, nil),
		fill("Begin with", filepath.Join(base, "raw")), click("Make it"))
	says("db is a disk of 16.0 MiB")
	do(chromedp.Click(`//a[contains(., "Go to the disk")]`, chromedp.BySearch))
	says("db is ready to be opened")
	a.run("snapshot", "take", "db")
	first := a.snapshots("db")[0].ID
	tool(t, base, "qemu-io", "-f", "raw", "-c", "write -P 7 12M 1M", "-c", "flush", uri("db"))

	c, err := dialNBD(filepath.Join(a.dir, "nbd.sock"), "db")
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.write([]byte("held"), 0))
	do(chromedp.Navigate(a.url + "/volumes/db"))
	says("1.1 MiB of 16.0 MiB differ")
	says("with 1 connection")
	require.NoError(t, p.Wait(`document.querySelectorAll('figure[aria-label="What differs"] rect').length === 5`))
	require.NoError(t, p.Wait(`[...document.querySelectorAll("td")].some(x => x.innerText === "idle")`))
	noFaults(t, p, "a disk in use")

	do(click("Go back to"))
	says("db goes back")
	says("1 client is connected")
	do(chromedp.Click(`input[type="checkbox"]`), chromedp.Click(`//button[normalize-space(.)="Go back"]`,
		chromedp.BySearch))
	says("what was there before is in the safety snapshot")
	noFaults(t, p, "it went back")
	tool(t, base, "qemu-img", "compare", "-f", "raw", "-F", "raw", uri("db"), uri("db:"+first[:12]))
	do(chromedp.Navigate(a.url+"/volumes/db"), click("Clone it"))
	says("Clone db")
	do(fill("Name", "db-trial"), click("Make it"))
	says("db-trial is there")
	noFaults(t, p, "a clone of it")
	tool(t, base, "qemu-io", "-f", "raw", "-c", "write -P 9 0 64k", uri("db-trial"))
	do(chromedp.Navigate(a.url + "/recovery"))
	says("opened as nbd+unix")
	do(chromedp.Click(`button[aria-label="Make db-trial a volume"]`))
	says("becomes the volume db-trial at once")
	noFaults(t, p, "a clone becomes a volume")
	do(click("Make it a volume"))
	says("db-trial is a volume of its own")
	require.NoError(t, p.Wait(`!document.body.innerText.includes("Reading")`))
	require.Contains(t, a.run("volume", "list"), "db-trial")
	require.Contains(t, a.run("clone", "list"), "No clones")

	do(chromedp.Navigate(a.url + "/volumes/db"))
	says("Where it was written from one snapshot to the next")
	says("of it are read from a snapshot")
	do(click("Bring them into its image"))
	require.NoError(t, p.Wait(`!document.body.innerText.includes("read from a snapshot")`))
	require.NotContains(t, a.run("disk", "show", "db"), "from a snapshot")
	do(chromedp.Navigate(a.url+"/recovery"), click("Save a restore"),
		chromedp.WaitVisible(`//h2[contains(., "Save a restore")]`, chromedp.BySearch),
		chromedp.SendKeys(`//form//label[contains(., "Name")]//input`, "nightly", chromedp.BySearch),
		chromedp.Click(`//form//label[contains(., "Into the volume")]//input`, chromedp.BySearch),
		chromedp.SendKeys(`//form//label[contains(., "Into the volume")]//input`, "db-tr", chromedp.BySearch),
		chromedp.Click(`//*[@role="option"][.="db-trial"]`, chromedp.BySearch),
		chromedp.SendKeys(`//form//label[contains(., "When")]//input`, "daily at 02:30", chromedp.BySearch),
		chromedp.Click(`//button[normalize-space(.)="Save"]`, chromedp.BySearch))
	says("all of db, in its newest state, into db-trial; daily at 02:30")
	noFaults(t, p, "a recipe of a disk")
	a.run("disk", "close", "db")
	do(chromedp.Navigate(a.url + "/volumes/db"))
	says("is closed to clients")
	do(click("Open it"))
	says("is ready to be opened")
	require.Contains(t, strings.ToLower(a.run("disk", "show", "db")), "ready")
}
