// Package browser drives a headless Chromium for end-to-end tests and pictures.
package browser

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Find returns the system's Chromium, or an empty string.
func Find() string {
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	return ""
}

// Page is a signed-in tab of a console.
type Page struct {
	ctx    context.Context
	Errors []string // uncaught exceptions, console errors, and what the browser refused
	end    []func()
}

// Open starts Chromium with a fresh profile and signs in at a console.
func Open(ctx context.Context, url, token string, width, height int, dark bool) (*Page, error) {
	path := Find()
	if path == "" {
		return nil, fmt.Errorf("no Chromium is installed: apt-get install chromium")
	}
	profile, err := os.MkdirTemp("", "candid-browser-")
	if err != nil {
		return nil, err
	}
	opts := []chromedp.ExecAllocatorOption{chromedp.ExecPath(path), chromedp.UserDataDir(profile),
		chromedp.WindowSize(width, height),
		chromedp.NoFirstRun, chromedp.NoDefaultBrowserCheck, chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("hide-scrollbars", true)}
	if dark {
		opts = append(opts, chromedp.Flag("blink-settings", "preferredColorScheme=0"))
	}
	actx, end1 := chromedp.NewExecAllocator(ctx, opts...)
	tctx, end2 := chromedp.NewContext(actx)
	p := &Page{ctx: tctx, end: []func(){end2, end1, func() { os.RemoveAll(profile) }}}
	chromedp.ListenTarget(tctx, func(ev any) {
		switch e := ev.(type) {
		case *log.EventEntryAdded: // what the browser itself says, such as of what the site's policy forbids
			if e.Entry.Level == log.LevelError && e.Entry.Source != log.SourceNetwork {
				p.Errors = append(p.Errors, e.Entry.Text)
			}
		case *runtime.EventExceptionThrown:
			p.Errors = append(p.Errors, e.ExceptionDetails.Error())
		case *runtime.EventConsoleAPICalled:
			if e.Type == runtime.APITypeError {
				for _, a := range e.Args {
					p.Errors = append(p.Errors, string(a.Value)+a.Description)
				}
			}
		}
	})
	// The first run starts the browser and must not be bounded: its end would end it.
	if err := chromedp.Run(tctx); err != nil {
		p.Close()
		return nil, err
	}
	err = p.Do(60*time.Second, chromedp.EmulateViewport(int64(width), int64(height)),
		chromedp.ActionFunc(func(ctx context.Context) error {
			session, err := signIn(ctx, url, token)
			if err != nil {
				return err
			}
			return network.SetCookie("candid_session", session).WithURL(url).Do(ctx)
		}), chromedp.Navigate(url), chromedp.WaitVisible("main"))
	if err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// signIn returns the session that a token signs in to.
func signIn(ctx context.Context, url, token string) (string, error) {
	body, err := json.Marshal(map[string]string{"token": token})
	if err != nil || token == "" {
		return "", err
	}
	req, err := http.NewRequestWithContext(ctx, "POST", url+"/api/v1/session", bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	for _, c := range resp.Cookies() {
		return c.Value, nil
	}
	return token, nil // a wrong one, which lets nobody in
}

// Do runs actions within a time limit.
func (p *Page) Do(limit time.Duration, actions ...chromedp.Action) error {
	ctx, cancel := context.WithTimeout(p.ctx, limit)
	defer cancel()
	return chromedp.Run(ctx, actions...)
}

// Click clicks what an XPath names once it stands still: what is loaded above it may still move it.
func Click(path string) chromedp.Action {
	return chromedp.Tasks{chromedp.Poll(fmt.Sprintf(`(() => {
		const e = document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE).singleNodeValue;
		const at = e && JSON.stringify([location.href, e.innerText, e.getBoundingClientRect()]);
		window.stood = e && window.stoodAt === at ? window.stood + 1 : 0;
		window.stoodAt = at;
		return window.stood >= 4; // a fifth of a second
	})()`, path), nil, chromedp.WithPollingInterval(50*time.Millisecond)), chromedp.Click(path, chromedp.BySearch)}
}

// Wait waits until a JavaScript expression is true.
func (p *Page) Wait(expression string) (err error) {
	for range 5 { // the page that was left may still be the one that is asked
		err = p.Do(20*time.Second, chromedp.Poll("!!("+expression+")", nil,
			chromedp.WithPollingInterval(50*time.Millisecond)))
		if err == nil || !strings.Contains(err.Error(), "Cannot find context") {
			return err
		}
	}
	return err
}

// Text returns what the page's main part says.
func (p *Page) Text() (s string, err error) {
	err = p.Do(10*time.Second, chromedp.Evaluate(`document.querySelector("main").innerText`, &s))
	return s, err
}

// Shot writes a picture of what is visible.
func (p *Page) Shot(path string) error {
	var png []byte
	if err := p.Do(20*time.Second, chromedp.CaptureScreenshot(&png)); err != nil {
		return err
	}
	return os.WriteFile(path, png, 0o644)
}

// Close ends the browser.
func (p *Page) Close() {
	for _, f := range p.end {
		f()
	}
}
