package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/e2e/browser"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// What an administrator prepares and proves, by clicks: people and their folders, the ledger,
// a saved restore, trials, a group brought back together, what others left; each dialogue
// without a fault that axe finds, and each act really done.
func TestPreparingInConsole(t *testing.T) {
	base := t.TempDir()
	shell(t, base, `mkdir -p letters maps left/2026-01-02; echo dear > letters/a; echo north > maps/m
		echo old > left/2026-01-02/a; echo gone > left/2026-01-02/b`)
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	for _, v := range []string{"letters", "maps"} {
		a.run("volume", "add", v, "--path", filepath.Join(base, v))
	}
	a.run("group", "put", "papers", "letters", "maps")
	a.run("snapshot", "take", "letters")
	a.run("found", "set", "letters", filepath.Join(base, "left", "%Y-%m-%d"))
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	p, err := browser.Open(ctx, a.url, a.token, 1280, 800, false)
	require.NoError(t, err)
	defer p.Close()
	click := func(text string) chromedp.Action {
		return browser.Click(`//button[normalize-space(.)="` + text + `"]`)
	}
	says := func(text string) {
		t.Helper()
		require.NoError(t, p.Wait(fmt.Sprintf(`document.body.innerText.includes(%q)`, text)), text)
	}
	do := func(actions ...chromedp.Action) {
		t.Helper()
		require.NoError(t, p.Do(20*time.Second, actions...))
	}
	field := func(label string) string {
		return `//label[contains(., "` + label + `")]/descendant-or-self::*[self::input or self::textarea]`
	}
	fill := func(label, text string) chromedp.Action {
		return chromedp.SendKeys(field(label), text, chromedp.BySearch)
	}

	role := func(name string) chromedp.Action {
		return chromedp.Tasks{chromedp.Click(`button[aria-label^="Role: "]`),
			chromedp.Click(`//*[@role="option"][starts-with(., "`+name+`: ")]`, chromedp.BySearch)}
	}

	// Someone is let in, and sees a folder; then no longer.
	do(chromedp.Navigate(a.url+"/people"), click("Let someone sign in"),
		chromedp.WaitVisible(`//h2[contains(., "Let someone")]`, chromedp.BySearch))
	noFaults(t, p, "let someone in")
	do(fill("Name", "ines"), role("file owner"), fill("User and groups", "1500 1500"),
		fill("Password", "a longer password"), click("Let in"))
	says("sees nothing yet")
	do(click("grant folders"), chromedp.WaitVisible(`//h2[contains(., "may see")]`, chromedp.BySearch))
	noFaults(t, p, "grant folders")
	do(fill("Folder", "trip"), click("Grant"))
	says("letters/trip")
	do(chromedp.Click(`[aria-label="Take back letters trip of ines"]`))
	says("sees nothing yet")
	do(click("change"), chromedp.WaitVisible(`//h2[contains(., "Change ines")]`, chromedp.BySearch))
	noFaults(t, p, "change someone")
	do(role("auditor"), click("Change"))
	require.NoError(t, p.Wait(`!document.body.innerText.includes("sees nothing yet")`))
	require.Contains(t, a.run("person", "list"), "auditor")
	a.run("token", "add", "for-a-program", "--person", "ines")
	do(chromedp.Reload(), chromedp.Click(`[aria-label="End the token for-a-program"]`), click("End it"))
	require.NoError(t, p.Wait(`!document.body.innerText.includes("for-a-program")`))
	require.NotContains(t, a.run("token", "list"), "for-a-program")

	// A restore is saved, done and forgotten.
	copied := filepath.Join(base, "copy")
	do(chromedp.Navigate(a.url+"/recovery"), click("Save a restore"),
		chromedp.WaitVisible(`//h2[contains(., "Save a restore")]`, chromedp.BySearch))
	noFaults(t, p, "save a restore")
	do(fill("Name", "nightly"), fill("To the directory", copied), fill("When", "daily at 02:30"), click("Save"))
	says("all of letters, in its newest state, to " + copied)
	do(click("run now"))
	require.NoError(t, p.Wait(`[...document.querySelectorAll('a[title*="letters as of"]')].length > 0`))
	shell(t, base, "test $(cat copy/a) = dear")
	do(click("change"), chromedp.WaitVisible(`//h2[contains(., "Change nightly")]`, chromedp.BySearch), click("Not now"))
	do(click("remove"), click("Remove it"))
	says("None. A restore that is done again and again")

	do(click("Try all now"))
	says("came back whole")
	noFaults(t, p, "trials")

	// A clone is made, snapshotted, and becomes a volume; another one is discarded.
	if os.Geteuid() == 0 {
		shell(t, base, "mkdir play again")
		make := func(name string) {
			do(chromedp.Navigate(a.url+"/recovery"), click("Make a clone"),
				chromedp.WaitVisible(`//h2[contains(., "Make a clone")]`, chromedp.BySearch),
				fill("Name", name), fill("Directory", filepath.Join(base, name)), click("Make it"),
				chromedp.WaitVisible(`[aria-label="Discard `+name+`"]`))
		}
		make("play")
		shell(t, base, "echo tried > play/b")
		do(chromedp.Click(`[aria-label="Take a snapshot of play"]`))
		says("snapshot ")
		noFaults(t, p, "a clone's snapshot")
		do(chromedp.Click(`[aria-label="Make play a volume"]`),
			chromedp.WaitVisible(`//h2[contains(., "a volume of its own")]`, chromedp.BySearch))
		noFaults(t, p, "make a clone a volume")
		do(fill("Directory", filepath.Join(base, "settled")), click("Make it a volume"))
		says("play is a volume of its own at " + filepath.Join(base, "settled"))
		shell(t, base, "test $(cat settled/b) = tried; test $(cat settled/a) = dear")
		make("again")
		do(chromedp.Click(`[aria-label="Discard again"]`), click("Discard it"))
		require.NoError(t, p.Wait(`!document.querySelector('[aria-label="Discard again"]')`))
		a.run("volume", "remove", "play")
	}

	// What others left is looked at, brought back from, and taken over by its time.
	do(chromedp.Navigate(a.url + "/volumes/letters"))
	says("Left by others")
	do(chromedp.Click(`//section[contains(., "Left by others")]//button[contains(., "2026-01-0")]`, chromedp.BySearch),
		chromedp.WaitVisible(`//h2[contains(., "as others left it")]`, chromedp.BySearch))
	says("bring back what is missing")
	noFaults(t, p, "left by others")
	do(chromedp.Click(`//li[span[1]="b"]//button`, chromedp.BySearch))
	says("To take it back: candid undo")
	b, err := os.ReadFile(filepath.Join(base, "letters", "b"))
	require.NoError(t, err)
	require.Equal(t, "gone\n", string(b))
	do(click("Close"), click("Take them into the history"))
	says("1 moment of letters taken over")

	// What is there already and differs is left, and that is said before; a version is brought
	// back over it when that is asked for.
	shell(t, base, "echo other > letters/a")
	do(chromedp.Navigate(a.url+"/volumes/letters"), chromedp.Click(`[aria-label="Pick a"]`), click("Bring back 1 picked"),
		click("See what would happen"))
	says("One name is there already and differs: it is left as it is.")
	says("One name:")
	noFaults(t, p, "a plan with a name left")
	do(click("Not now"), chromedp.Click(`//button[@title="its versions" and .="a"]`, chromedp.BySearch),
		chromedp.Click(`(//button[.="bring back"])[1]`, chromedp.BySearch), click("See what would happen"))
	says("What would be done: 1 replaced")
	do(click("Do it"))
	says("To take it back: candid undo")
	shell(t, base, "test $(cat letters/a) = dear")

	// A group goes back as of one instant, and undo takes it back.
	shell(t, base, "echo changed > letters/a; rm maps/m")
	do(chromedp.Navigate(a.url+"/volumes"), click("bring back together"), click("See what would happen"))
	says("The set was taken")
	noFaults(t, p, "bring back together")
	do(click("Do it"))
	says("To take all of it back")
	shell(t, base, "test $(cat maps/m) = north")
	do(click("undo"), click("Take it back"))
	require.NoError(t, p.Wait(`document.body.innerText.includes("takes it back")`))
	settle(a)
	shell(t, base, "test ! -e maps/m; test $(cat letters/a) = changed")

	// All of it is in the ledger, and the ledger holds.
	do(chromedp.Navigate(a.url+"/ledger?text=restore"), click("Verify it"))
	says("The ledger is whole")
	says("restoreGroup")
	noFaults(t, p, "the ledger")
	require.Empty(t, p.Errors)
}
