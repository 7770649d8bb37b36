package e2e

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/e2e/browser"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// A person far from the site chooses zone and form: tables, sentences, the ruler's axis and what is typed are all of
// them then, and only for that person.
func TestTimesInConsole(t *testing.T) {
	base := t.TempDir()
	shell(t, base, "mkdir -p share/letters; echo dear > share/letters/a")
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	a.run("volume", "add", "letters", "--path", filepath.Join(base, "share", "letters"))
	a.run("snapshot", "take", "letters")
	a.run("volume", "pause", "letters")
	var v api.Volume
	a.json(&v, "volume", "show", "letters")
	niue, err := time.LoadLocation("Pacific/Niue") // no host of the test is there
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	p, err := browser.Open(ctx, a.url, a.token, 1280, 800, false)
	require.NoError(t, err)
	defer p.Close()
	m := mouse{t, p}
	since := v.PausedSince.Local().Format("2006-01-02 15:04:05")
	m.sees("is paused since " + since)

	m.click(`//button[starts-with(@aria-label, "Times are of ")]`)
	m.sheet("How times are shown to you")
	zone := `input[aria-label="Time zone"]`
	m.do(chromedp.Click(zone), chromedp.SendKeys(zone, "niue"))
	m.click(`//*[@role="option"][.="Pacific/Niue"]`)
	m.click(`//button[starts-with(@aria-label, "Dates: ")]`)
	m.click(`//*[@role="option"][starts-with(., "day first: ")]`)
	m.sees(`candid person times --zone Pacific/Niue --dates "day first"`)
	m.press("Show them so")
	m.sees("is paused since " + v.PausedSince.In(niue).Format("2 Jan 2006 15:04:05"))
	require.Contains(t, a.run("status"), "is paused since "+since, "a command is of its terminal")
	var list []api.Snapshot
	a.json(&list, "snapshot", "list", "letters")
	taken := list[0].Taken.In(niue)
	m.do(chromedp.Navigate(a.url + "/snapshots"))
	m.sees(taken.Format("2 Jan 2006 15:04"))
	after := taken.Add(time.Minute).Format("2 Jan 2006 15:04")
	m.do(chromedp.Navigate(a.url+"/volumes/letters"), chromedp.WaitVisible("#moment"),
		chromedp.SendKeys("#moment", after+"\r"))
	m.sees("As of " + after)
	require.NoError(t, p.Wait(fmt.Sprintf(`new URLSearchParams(location.search).get("at")?.startsWith(%q)`,
		taken.Add(time.Minute).UTC().Format("2006-01-02T15:04:00"))))
	require.Empty(t, p.Errors)

	t.Setenv("TZ", "Asia/Tokyo")
	tokyo, err := time.LoadLocation("Asia/Tokyo")
	require.NoError(t, err)
	require.Contains(t, a.run("status"), "is paused since "+v.PausedSince.In(tokyo).Format(time.DateTime))
}
