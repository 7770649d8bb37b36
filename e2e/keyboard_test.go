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

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// keyboard works a page by keys alone.
type keyboard struct {
	t *testing.T
	p *browser.Page
}

// to moves the focus, by Tab, to what is so named.
func (k keyboard) to(name string) {
	k.t.Helper()
	is := fmt.Sprintf(`(() => { const e = document.activeElement; if (!e || e === document.body) return false;
		const label = e.getAttribute("aria-label") || e.labels?.[0]?.textContent || e.textContent || "";
		return label.trim().startsWith(%q) })()`, name)
	for range 200 {
		var there bool
		require.NoError(k.t, k.p.Do(20*time.Second, chromedp.Evaluate(is, &there)))
		if there {
			return
		}
		require.NoError(k.t, k.p.Do(20*time.Second, chromedp.KeyEvent(kb.Tab)))
	}
	text, _ := k.p.Text()
	k.t.Fatalf("no key leads to %q on:\n%s", name, text)
}

func (k keyboard) press(name string) {
	k.t.Helper()
	k.to(name)
	require.NoError(k.t, k.p.Do(20*time.Second, chromedp.KeyEvent(kb.Enter)))
}

// enter pastes a text into the field that is so named.
func (k keyboard) enter(name, text string) {
	k.t.Helper()
	k.to(name)
	require.NoError(k.t, k.p.Do(20*time.Second, chromedp.ActionFunc(func(ctx context.Context) error {
		return input.InsertText(text).Do(ctx)
	})))
}

func (k keyboard) sees(text string) {
	k.t.Helper()
	if err := k.p.Wait(fmt.Sprintf(`document.body.innerText.includes(%q)`, text)); err != nil {
		now, _ := k.p.Text()
		k.t.Fatalf("%q does not come up: %v\n%s", text, err, now)
	}
}

func (k keyboard) open(url string) {
	k.t.Helper()
	require.NoError(k.t, k.p.Do(20*time.Second, chromedp.Navigate(url)))
}

// The first hour by keys alone, as Today leads through it: from an empty site over the first volume, a policy from an
// example, a snapshot, the second site and a route to it, to a lost file that is found without knowing its volume and
// brought back.
func TestFirstHourByKeyboard(t *testing.T) {
	if browser.Find() == "" {
		t.Fatal("Chromium is missing: make test installs it")
	}
	base := t.TempDir()
	share := filepath.Join(base, "share", "letters")
	shell(t, base, `mkdir -p share/letters share/maps; echo dear > share/letters/kew.txt; echo north > share/maps/n.txt`)
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	p, err := browser.Open(ctx, a.url, a.token, 1280, 800, false)
	require.NoError(t, err)
	defer p.Close()
	k := keyboard{t, p}

	k.sees("First steps")
	noFaults(t, p, "the first steps")
	k.press("Protect a directory")
	k.enter("Directory", share)
	k.enter("Labels", "kind=office")
	k.press("See what is there")
	k.sees("1 file in 1 directory")
	noFaults(t, p, "a directory that was looked at")
	k.press("Protect it")
	k.sees("letters is protected")
	k.open(a.url + "/")
	k.press("Write it from an example")
	k.sees("It chooses letters")
	k.press("Store it")
	k.sees("remove it")
	k.open(a.url + "/")
	k.press("Go to the volume")
	k.press("Take a snapshot now")
	k.sees("1 file, 5 B")
	k.open(a.url + "/")
	k.press("Use an invitation")
	k.enter("Invitation", strings.TrimSpace(b.run("site", "invite", "--grant", "offer", "--grant", "see")))
	k.press("Pair")
	k.sees("Paired with stonewick")
	k.open(a.url + "/")
	k.press("Open a route")
	k.enter("Name", "to-stonewick")
	k.enter("Volumes", "kind=office")
	k.press("What would it carry?")
	k.sees("It carries 1 snapshot of 1 volume")
	k.press("Open it")
	k.sees("to-stonewick")
	k.open(a.url + "/")
	k.sees("Bring a file back from there")
	k.sees("7 of 8 done")

	require.NoError(t, os.Remove(filepath.Join(share, "kew.txt")))
	a.run("snapshot", "take", "letters")
	a.run("volume", "add", "maps", "--path", filepath.Join(base, "share", "maps"))
	k.open(a.url + "/recovery")
	k.enter("Look for in all volumes", "kew")
	k.press("Find")
	k.sees("1 path in 2 snapshots of 2 volumes")
	noFaults(t, p, "what was found in all volumes")
	k.press("kew.txt")
	k.sees("last seen")
	k.press("bring back")
	noFaults(t, p, "bringing a file back")
	k.press("See what would happen")
	k.sees("1 created")
	k.press("Do it")
	k.sees("in less than a second")
	got, err := os.ReadFile(filepath.Join(share, "kew.txt"))
	require.NoError(t, err)
	require.Equal(t, "dear\n", string(got))
	require.Empty(t, p.Errors)
}
