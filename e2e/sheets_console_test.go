package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/e2e/browser"
	"candidharbor/internal/sftphost"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// mouse works a page by clicks.
type mouse struct {
	t *testing.T
	p *browser.Page
}

func (m mouse) do(actions ...chromedp.Action) {
	m.t.Helper()
	require.NoError(m.t, m.p.Do(20*time.Second, actions...))
}

func (m mouse) open(url string) { m.t.Helper(); m.do(chromedp.Navigate(url)) }

func (m mouse) click(path string) { m.t.Helper(); m.do(browser.Click(path)) }

func (m mouse) press(name string) {
	m.t.Helper()
	m.click(`//button[normalize-space(.)="` + name + `"]`)
}

func (m mouse) fill(label, text string) {
	m.t.Helper()
	m.do(chromedp.SendKeys(`//label[contains(., "`+label+`")]/descendant-or-self::*[self::input or self::textarea]`,
		text, chromedp.BySearch))
}

func (m mouse) choose(label, option string) {
	m.t.Helper()
	m.click(`//button[starts-with(@aria-label, "` + label + `: ")]`)
	m.click(`//*[@role="option"][.="` + option + `"]`)
}

func (m mouse) sees(text string) {
	m.t.Helper()
	if err := m.p.Wait(fmt.Sprintf(`document.body.innerText.includes(%q)`, text)); err != nil {
		now, _ := m.p.Text()
		m.t.Fatalf("%q does not come up: %v\n%s", text, err, now)
	}
}

// sheet waits for a dialogue and holds it against axe and the window, wide and narrow, in light and in dark.
func (m mouse) sheet(title string) {
	m.t.Helper()
	m.do(chromedp.WaitVisible(`//*[@role="dialog"]//h2[contains(., "`+title+`")]`, chromedp.BySearch))
	for i, width := range []int64{360, 1280} {
		m.do(chromedp.EmulateViewport(width, 800), emulation.SetEmulatedMedia().WithFeatures(
			[]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: []string{"dark", "light"}[i]}}))
		noFaults(m.t, m.p, fmt.Sprintf("%s at %d", title, width))
		var wide bool
		m.do(chromedp.Evaluate(`[...document.querySelectorAll('[role="dialog"] *')].some(e =>
			e.getBoundingClientRect().right > innerWidth + 1 && !e.closest("pre, .overflow-x-auto"))`, &wide))
		require.False(m.t, wide, "%s is wider than the window at %d", title, width)
	}
}

func (m mouse) closed() {
	m.t.Helper()
	require.NoError(m.t, m.p.Wait(`!document.querySelector('[role="dialog"]')`))
}

// What was once done by command alone, by clicks: descriptions, crates, the order of sites, trials, care of the store,
// the directory of a copy, the end of a policy and of a volume's protection; each really done.
func TestSheetsInConsole(t *testing.T) {
	base := t.TempDir()
	shell(t, base, `mkdir -p letters maps drive; echo dear > letters/a; echo north > maps/m`)
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	for _, v := range []string{"letters", "maps"} {
		a.run("volume", "add", v, "--path", filepath.Join(base, v), "--label", "k=v")
	}
	require.NoError(t, os.WriteFile(filepath.Join(base, "p.yaml"), []byte("policy: all\nvolumes: {k: v}\nzone: UTC\n"+
		"take: ["+notNow()+"]\nkeep:\n  larkfield: {daily: 7}\n  stonewick: {daily: 7}\n"), 0o644))
	a.run("policy", "put", filepath.Join(base, "p.yaml"))
	pair(t, a, b, "k=v")
	a.run("route", "pause", "to-dr")
	a.run("site", "check", "stonewick") // for whom a crate is sealed
	a.run("snapshot", "take", "letters")
	a.run("snapshot", "take", "maps")
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	p, err := browser.Open(ctx, a.url, a.token, 1280, 800, false)
	require.NoError(t, err)
	defer p.Close()
	m := mouse{t, p}

	m.open(a.url + "/policies?policy=all")
	m.press("describe it")
	m.do(chromedp.SendKeys(`input[aria-label="What the policy all is for"]`, "the estate's papers"))
	noFaults(t, p, "a description")
	m.press("Say so")
	m.sees("say it otherwise")
	require.Contains(t, a.run("policy", "show", "all"), "the estate's papers")

	// What the route still has to carry goes by a crate.
	crate := filepath.Join(base, "drive", "first.crate")
	m.open(a.url + "/sites")
	m.press("write one")
	m.sheet("Write a crate")
	m.fill("File", crate)
	m.press("Write it")
	require.NoError(t, p.Wait(`location.pathname.startsWith("/runs/")`))
	settle(a)
	pb, err := browser.Open(ctx, b.url, b.token, 1280, 800, false)
	require.NoError(t, err)
	defer pb.Close()
	n := mouse{t, pb}
	n.open(b.url + "/sites")
	n.press("load one")
	n.do(chromedp.WaitVisible(`[role="dialog"] textarea`), chromedp.SendKeys(`[role="dialog"] textarea`, crate))
	n.press("See what is in it")
	n.sees("2 snapshots")
	n.sheet("Load a crate")
	n.press("Load it")
	require.NoError(t, pb.Wait(`location.pathname.startsWith("/runs/")`))
	settle(b)
	require.Len(t, b.snapshots("letters@larkfield"), 1)

	// The copy lies as a directory.
	n.open(b.url + "/volumes/letters@larkfield")
	n.press("lay it out as a directory")
	n.sheet("letters@larkfield as a directory")
	n.choose("How it is laid out", "exactly as it arrives")
	n.fill("Directory", filepath.Join(base, "laid"))
	n.press("Set it")
	n.closed()
	settle(b)
	text, err := os.ReadFile(filepath.Join(base, "laid", "a"))
	require.NoError(t, err)
	require.Equal(t, "dear\n", string(text))

	// An outlet is opened at a machine whose key is compared first; what lies there is read back; it is closed.
	h, err := sftphost.Start("127.0.0.1:0", a.run("outlet", "key"))
	require.NoError(t, err)
	defer h.End()
	m.open(a.url + "/sites")
	m.press("open one")
	m.sheet("Open an outlet")
	m.fill("Name", "nas")
	m.fill("Address", "sftp://copies@"+h.Address+filepath.Join(base, "nas"))
	m.fill("Volumes", "name=letters")
	m.press("See which key it shows")
	m.sees(ssh.FingerprintSHA256(h.Key))
	m.sheet("Open an outlet")
	require.NoDirExists(t, filepath.Join(base, "nas"))
	m.click(`//input[@type="checkbox"][ancestor::form]`)
	m.press("Open it")
	m.closed()
	m.sees("nas")
	settle(a)
	m.press("read back")
	m.sees("all read back since")
	text, err = os.ReadFile(filepath.Join(base, "nas", "letters", "a"))
	require.NoError(t, err)
	require.Equal(t, "dear\n", string(text))
	m.press("pause")
	m.sees("It is paused since")
	m.click(`//*[@aria-label="Outlet nas"]//button[.="close it"]`)
	m.sheet("Close the outlet nas")
	m.press("Close it")
	m.closed()
	require.Contains(t, a.run("outlet", "list"), "No outlets yet")

	// By which ways a site is reached; how long records stay.
	m.press("addresses")
	m.sheet("How stonewick is reached")
	m.sees("the line goes by it")
	m.fill("Added here", "localhost:1")
	m.press("Set them")
	m.closed()
	require.Contains(t, a.run("site", "addresses", "stonewick"), "localhost:1\tadded here")
	a.run("site", "addresses", "stonewick", "--remove", "localhost:1")
	m.open(a.url + "/runs")
	m.press("how long records stay")
	m.sheet("How long records of runs stay")
	m.choose("Kind", "trial")
	m.fill("Stay for", "2 years")
	m.press("see how many would go")
	m.sees("would stay for 2 years; none of them is older")
	m.press("Set it")
	m.sees("Records of the kind trial stay for 2 years")
	m.press("Not now")
	m.closed()
	require.Contains(t, a.run("run", "lifetimes"), "trial\t2 years\t0")

	m.open(a.url + "/recovery")
	m.press("have them tried by themselves")
	m.sheet("When restores are tried")
	m.press("Set it")
	m.closed()
	require.Contains(t, a.run("trial", "list"), "daily at 04:10")
	m.open(a.url + "/space")
	m.press("Copy the catalogue")
	m.sees("It is copied")
	m.press("Verify it")
	m.sees("all as written")

	// Of all snapshots those that take most alone come first; one is brought back, and goes at once.
	a.run("route", "resume", "to-dr")
	shell(t, base, "echo sir > letters/a")
	a.run("snapshot", "take", "letters")
	a.run("route", "run", "to-dr")
	m.open(a.url + "/snapshots?text=letters")
	m.choose("First", "most that is its own")
	m.sees("Its own")
	m.choose("First", "oldest")
	require.NoError(t, p.Wait(`location.search.includes("sort=oldest")`))
	const first = `(//tbody//input)[1]`
	m.do(chromedp.WaitVisible(`//td[.="stonewick"]`, chromedp.BySearch))
	m.click(first)
	m.press("Bring back 1")
	m.sheet("Bring back: 1 snapshot")
	m.fill("Directory", filepath.Join(base, "several"))
	m.click(`//form//button[contains(., "Bring back 1")]`)
	require.NoError(t, p.Wait(`location.pathname.startsWith("/runs/")`))
	settle(a)
	back, err := filepath.Glob(filepath.Join(base, "several", "letters-*", "a"))
	require.NoError(t, err)
	require.Len(t, back, 1)
	text, err = os.ReadFile(back[0])
	require.NoError(t, err)
	require.Equal(t, "dear\n", string(text))
	m.open(a.url + "/snapshots?text=letters&sort=oldest")
	m.click(first)
	m.press("remove at once …")
	m.sheet("Remove at once, without grace")
	m.fill("Type letters to remove them", "letters")
	m.press("Remove 1 for good")
	m.sees("nobody can recall it")
	m.press("Close")
	m.closed()
	require.Len(t, a.snapshots("letters"), 1)
	require.Len(t, b.snapshots("letters@larkfield"), 2)

	// A volume is compared with another one; what that has otherwise is ticked and brought there.
	m.open(a.url + "/volumes/letters")
	m.press("What changed")
	m.sees("Nothing differs")
	m.click(`//input[@aria-label="Which volume"]`)
	m.do(chromedp.WaitVisible(`//*[@role="option"][.="maps"]`, chromedp.BySearch))
	noFaults(t, p, "a volume being picked")
	m.do(chromedp.SendKeys(`input[aria-label="Which volume"]`, "map"))
	m.click(`//*[@role="option"][.="maps"]`)
	m.sees("candid compare letters --from latest --with maps")
	m.click(`//input[@aria-label="Choose a"]`)
	noFaults(t, p, "a comparison with another volume")
	m.click(`//button[starts-with(., "Bring back 1 path")]`)
	m.sheet("Bring back a")
	m.press("See what would happen")
	m.press("Do it")
	m.sees("Close")
	settle(a)
	text, err = os.ReadFile(filepath.Join(base, "maps", "a"))
	require.NoError(t, err)
	require.Equal(t, "sir\n", string(text))

	// The policy goes, which is refused first for what would expire; then the protection of a volume.
	m.open(a.url + "/policies?policy=all")
	m.press("remove it")
	m.sheet("Remove the policy all")
	m.press("Remove it")
	m.closed()
	require.NotContains(t, a.run("policy", "list"), "all ")
	m.open(a.url + "/volumes/maps")
	m.press("stop protecting")
	m.sheet("Stop protecting maps")
	m.fill("Type maps to end it", "maps")
	m.press("Stop protecting it")
	m.sees("Close")
	require.NotContains(t, a.run("--json", "volume", "show", "maps"), `"protected": true`)
	require.Len(t, a.snapshots("maps"), 2, "its own, and the one before it was restored to")
}
