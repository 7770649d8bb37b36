package site

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/datadir"
	"candidharbor/internal/inbox"
	"candidharbor/internal/overview"
	"candidharbor/internal/refusal"
	"candidharbor/internal/visible"

	"github.com/stretchr/testify/require"
)

// An outage makes one alarm: it begins once, its end is said too, by mail and webhook; what
// cannot be sent waits and arrives later; what is muted is not sent.
func TestAlarmsAreToldOnce(t *testing.T) {
	w := newWorld(t)
	in, err := inbox.Open()
	require.NoError(t, err)
	t.Cleanup(func() { in.Close() })
	secret := filepath.Join(w.dir, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("tell nobody\n"), 0o600))
	there := w.open("there")
	w.setup = func(c *datadir.Config) {
		c.Alarms = &datadir.Alarms{Webhook: &datadir.Webhook{URL: in.Hook, SecretFile: secret},
			Mail: &datadir.Mail{Server: in.Mail, From: "harbor@larkfield.example", To: []string{"night@larkfield.example"},
				Security: "none"},
			Console: "http://console.example/"}
	}
	here := w.open("here")
	dir := w.share(here, "notes")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 1 hour]\nobjectives: {there: 2 hours}\n")
	w.pair(here, there)
	w.route(here, "there")
	hours := func(n int) {
		for range n {
			w.write(dir, "a", w.clock.Now().String())
			w.until(here, w.clock.Now().Add(time.Hour))
		}
	}
	hours(3)
	require.Empty(t, in.Came(), "all is well")
	here.Pairing.CutLine(true)
	hours(6)
	events := func() (out []string) {
		for _, m := range in.Came() {
			if m.By != "webhook" {
				continue
			}
			mac := hmac.New(sha256.New, []byte("tell nobody"))
			mac.Write([]byte(m.Body))
			require.Equal(t, "sha256="+hex.EncodeToString(mac.Sum(nil)), m.Header.Get("Candid-Signature"))
			var x overview.Message
			require.NoError(t, json.Unmarshal([]byte(m.Body), &x))
			out = append(out, x.Event+" "+x.About)
		}
		return out
	}
	require.Equal(t, []string{"begins route to-there", "begins late at there"}, events())
	list := must(here.Overview.Alarms(false, 0))
	require.Len(t, list.Items, 2)
	require.Equal(t, []string{"log", "console", "webhook", "mail"}, list.Channels)

	here.Pairing.CutLine(false)
	in.Refuse(true) // the mail server is in trouble just now
	hours(2)
	require.Len(t, must(here.Overview.Alarms(false, 0)).Items, 0)
	require.Len(t, events(), 2)
	require.Contains(t, must(here.Overview.Alarms(false, 0)).Failing, "mail")
	in.Refuse(false)
	hours(2)
	require.ElementsMatch(t, []string{"begins route to-there", "begins late at there", "ends route to-there",
		"ends late at there"}, events())
	mails := 0
	for _, m := range in.Came() {
		if m.By == "mail" {
			mails++
			require.Equal(t, []string{"night@larkfield.example"}, m.To)
			require.Contains(t, m.Body, "From: <harbor@larkfield.example>")
		}
	}
	require.Equal(t, 4, mails)

	all := must(here.Overview.Alarms(true, 0))
	require.Len(t, all.Items, 2)
	for _, a := range all.Items {
		require.NotNil(t, a.Ended)
		_, err := here.Overview.MuteAlarm(a.ID, w.clock.Now().Add(24*time.Hour))
		require.NoError(t, err)
	}
	_, err = here.Overview.MuteAlarm(all.Items[0].ID, w.clock.Now().Add(400*24*time.Hour))
	require.Equal(t, refusal.Misuse, refusal.ClassOf(err))
	here.Pairing.CutLine(true)
	hours(4)
	require.Len(t, must(here.Overview.Alarms(false, 0)).Items, 2)
	require.NotNil(t, must(here.Overview.Alarms(false, 0)).Items[0].MutedUntil)
	require.Len(t, events(), 4, "muted")

	said, err := here.Overview.TestAlarm(w.ctx, "the night shift")
	require.NoError(t, err)
	require.Equal(t, "A test was sent by webhook and mail.", said)
	before := len(in.Came())
	_, err = here.Overview.TestAlarm(w.ctx, "\x1b[2J\r\nBcc: everybody@larkfield.example\u009b31m\u202e")
	require.NoError(t, err)
	for _, m := range in.Came()[before:] { // whoever asked does nothing to who reads it
		headers, _, _ := strings.Cut(m.Body, "\r\n\r\n")
		require.NotContains(t, headers, "\nBcc:")
		for _, r := range m.Body {
			require.False(t, r != '\n' && r != '\r' && visible.Commands(r), "%q", m.Body)
		}
	}
	in.Refuse(true)
	_, err = here.Overview.TestAlarm(w.ctx, "the night shift")
	require.Equal(t, refusal.Elsewhere, refusal.ClassOf(err))
	_, err = there.Overview.TestAlarm(w.ctx, "x")
	require.Equal(t, refusal.Conflict, refusal.ClassOf(err))
}

// A run that takes longer than it may is an alarm, until one has finished.
func TestFinishWithin(t *testing.T) {
	w := newWorld(t)
	here, there := w.open("here"), w.open("there")
	dir := w.share(here, "notes")
	w.policy(here, "policy: p\nvolumes: {k: v}\ntake: [every 6 hours]\n")
	w.pair(here, there)
	_, err := here.Routes.AddRoute(api.RouteAdd{Name: "r", To: "there", Labels: map[string]string{"k": "v"},
		Terms: api.RouteTerms{WithinSeconds: 3600}})
	require.NoError(t, err)
	_, err = here.Pairing.SetPace("there", api.PaceSet{Lines: []string{"nothing between 00:00 and 23:59"}})
	require.NoError(t, err)
	w.write(dir, "a", "1")
	w.until(here, w.clock.Now().Add(10*time.Hour))
	r := must(here.Routes.Route("r"))
	require.Equal(t, "waiting", r.State)
	require.Contains(t, r.Sentence, "because the pace lets nothing through")
	abouts := func() (out []string) {
		for _, a := range must(here.Overview.Alarms(false, 0)).Items {
			out = append(out, a.About)
		}
		return out
	}
	require.Contains(t, abouts(), "run of route r")
	_, err = here.Pairing.SetPace("there", api.PaceSet{Lines: []string{}})
	require.NoError(t, err)
	w.until(here, w.clock.Now().Add(30*time.Hour))
	require.NotContains(t, abouts(), "run of route r")
	require.Equal(t, "current", must(here.Routes.Route("r")).State)
}

func TestAlarmConfigIsChecked(t *testing.T) {
	for say, a := range map[string]*datadir.Alarms{
		"no http or https address": {Webhook: &datadir.Webhook{URL: "ftp://x"}},
		"write host:port":          {Mail: &datadir.Mail{Server: "mail", From: "a@b.example", To: []string{"c@d.example"}}},
		"names nobody":             {Mail: &datadir.Mail{Server: "mail:25", From: "a@b.example"}},
		"no mail address":          {Mail: &datadir.Mail{Server: "mail:25", From: "nobody", To: []string{"c@d.example"}}},
		"belong together": {Mail: &datadir.Mail{Server: "mail:25", From: "a@b.example", To: []string{"c@d.example"},
			User: "u"}},
		"starttls, tls or none": {Mail: &datadir.Mail{Server: "mail:25", From: "a@b.example", To: []string{"c@d.example"},
			Security: "maybe"}},
	} {
		require.ErrorContains(t, a.Check(), say)
	}
}
