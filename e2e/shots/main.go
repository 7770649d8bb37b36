// Command shots takes pictures of the console's pages from a running demo.
//
//	go run ./e2e/shots -url http://127.0.0.1:7310 -token TOKEN -dir docs/screenshots
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"candidharbor/e2e/browser"

	"github.com/chromedp/chromedp"
)

func main() {
	url := flag.String("url", "", "address of the demo's first console")
	token := flag.String("token", "", "token to sign in with")
	dir := flag.String("dir", "docs/screenshots", "where the pictures go")
	width := flag.Int("width", 1280, "")
	height := flag.Int("height", 800, "")
	dark := flag.Bool("dark", false, "")
	only := flag.String("only", "", "names, separated by commas")
	flag.Parse()
	if err := run(*url, *token, *dir, *width, *height, *dark, *only); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(url, token, dir string, width, height int, dark bool, only string) error {
	p, err := browser.Open(context.Background(), url, token, width, height, dark)
	if err != nil {
		return err
	}
	defer p.Close()
	click := func(text string) chromedp.Action {
		return chromedp.Click(fmt.Sprintf(`//button[contains(., %q)]`, text), chromedp.BySearch)
	}
	moment := time.Now().AddDate(0, 0, -10).UTC().Format("2006-01-02T15:04:05Z")
	for _, s := range []struct {
		name, path, ready string
		then              []chromedp.Action
	}{
		{"today", "/", `document.querySelectorAll("svg rect").length > 40`, nil},
		{"volumes", "/volumes", `document.querySelectorAll("table.plain tbody tr").length >= 5`, nil},
		{"volume", "/volumes/field-notebooks?at=" + moment, `document.querySelectorAll("table.plain tbody tr").length >= 1`,
			nil},
		{"disk", "/volumes/specimen-db?at=" + moment, `document.querySelector("section[aria-label=Disk] p")`, nil},
		{"restore", "/volumes/field-notebooks?at=" + moment, `document.querySelectorAll("table.plain tbody tr").length >= 1`,
			[]chromedp.Action{click("Bring back the whole"), chromedp.WaitVisible(`//button[contains(., "See what")]`,
				chromedp.BySearch), click("See what would happen"), chromedp.WaitVisible(`[aria-label="Plan"]`)}},
		{"policies", "/policies?policy=survey-standard", `document.querySelectorAll("figure svg path").length >= 4`,
			[]chromedp.Action{click("a year"), chromedp.WaitVisible(`//p[contains(., "In 365 days")]`, chromedp.BySearch)}},
		{"policy-form", "/policies?policy=register-close&view=form",
			`document.querySelectorAll("fieldset").length >= 5 && document.querySelectorAll("figure svg path").length >= 2`,
			nil},
		{"sites", "/sites", `document.body.innerText.includes("It says of itself")`, nil},
		{"route", "/routes/to-stonewick", `document.querySelectorAll("figure svg").length >= 2`, nil},
		{"alarms", "/alarms", `document.querySelectorAll("li").length >= 5`, nil},
		{"recovery", "/recovery?volume=herbarium-scans&find=1931",
			`document.body.innerText.includes("newest modified first") && document.body.innerText.includes("safety snapshot")`,
			nil},
		{"versions", "/volumes/greenhouse-telemetry?view=find&find=csv",
			`document.querySelectorAll("table.plain tbody tr").length >= 1`,
			[]chromedp.Action{chromedp.Click(`//tr[contains(., " versions")]//button`, chromedp.BySearch),
				chromedp.WaitVisible(`//button[.="compare"]`, chromedp.BySearch), click("compare"),
				chromedp.WaitVisible(`[aria-label="What differs"]`)}},
		{"space", "/space",
			`document.querySelectorAll("table.plain tbody tr").length >= 5 &&
				document.body.innerText.includes("Comes back by itself")`, nil},
		{"ledger", "/ledger", `document.querySelectorAll("table.plain tbody tr").length >= 5`,
			[]chromedp.Action{click("Verify it"), chromedp.WaitVisible(`section[aria-live]`)}},
		{"people", "/people", `document.body.innerText.includes("ines")`, nil},
		{"mine", "/", `document.body.innerText.includes("Your files")`, nil}, // with a token of a file owner
		// With a token of the site that took over.
		{"failover", "/recovery", `document.body.innerText.includes("unplanned")`,
			[]chromedp.Action{chromedp.Click(`//div[contains(., "unplanned")]/a`, chromedp.BySearch),
				chromedp.WaitVisible(`//h1[contains(., "unplanned")]`, chromedp.BySearch)}},
		{"drill", "/drills/field-station", `document.querySelectorAll("table.plain").length >= 2`, nil},
		{"objectives", "/objectives?days=90", `document.querySelectorAll("table.plain tbody tr").length >= 5`, nil},
	} {
		if only == "" && slices.Contains([]string{"mine", "people", "failover", "drill"}, s.name) {
			continue
		}
		if only != "" && !strings.Contains(","+only+",", ","+s.name+",") {
			continue
		}
		if err := p.Do(20*time.Second, chromedp.Navigate(url+s.path), chromedp.WaitVisible("main")); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if err := p.Wait(s.ready); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if err := p.Do(20*time.Second, s.then...); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if err := p.Wait(`document.fonts.status === "loaded"`); err != nil {
			return err
		}
		if err := p.Shot(filepath.Join(dir, s.name+".png")); err != nil {
			return err
		}
	}
	for _, e := range p.Errors {
		fmt.Fprintln(os.Stderr, "the page said:", e)
	}
	return nil
}
