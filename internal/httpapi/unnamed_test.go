package httpapi

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"candidharbor/api"
	"candidharbor/internal/catalog"

	"github.com/stretchr/testify/require"
)

// An auditor sees who did what, and of which files only how many: not in runs, saved restores
// or the ledger, nor by searching there for a name that was guessed.
func TestAuditorsSeeNoNames(t *testing.T) {
	c, s, share := open(t)
	require.NoError(t, os.WriteFile(filepath.Join(share, "payroll-march"), []byte("numbers"), 0o644))
	require.Equal(t, 201, c.call("POST", "/volumes", `{"name":"v","path":"`+share+`"}`, nil, nil))
	wait := func(body string, path string) (r api.Run) {
		require.Equal(t, 202, c.call("POST", path, body, nil, &r), path)
		var err error
		r, err = s.Run.Wait(t.Context(), r.ID)
		require.NoError(t, err)
		return r
	}
	taken := wait(`{}`, "/volumes/v/snapshots")
	require.NoError(t, os.WriteFile(filepath.Join(share, "payroll-march"), []byte("others"), 0o644))
	restored := wait(`{"volume":"v","at":"latest","inPlace":true,"paths":["payroll-march"]}`, "/restores")
	require.Equal(t, "done", restored.State, restored.Outcome)
	require.Equal(t, 201, c.call("POST", "/recipes/monthly",
		`{"restore":{"volume":"v","at":"latest","inPlace":true,"paths":["payroll-march"]}}`, nil, nil))
	require.Equal(t, 200, c.call("GET", "/volumes/v/archive?path=payroll-march", "", nil, nil))
	require.Equal(t, 201, c.call("POST", "/people", `{"name":"ines","role":"auditor","password":"orchids in march"}`, nil,
		nil))
	var tok api.Token
	require.Equal(t, 201, c.call("POST", "/tokens", `{"name":"audit","person":"ines"}`, nil, &tok))
	auditor := *c
	auditor.token = tok.Text
	require.Equal(t, 403, auditor.call("GET", "/volumes/v/find?pattern=payroll*", "", nil, nil))

	told := 0
	for _, path := range []string{"/status", "/runs", fmt.Sprint("/runs/", taken.ID), fmt.Sprint("/runs/", restored.ID),
		"/ledger", "/ledger?text=payroll", "/ledger?text=PayRoll", "/recipes", "/recipes/monthly",
		"/alarms", "/volumes/v", "/volumes/v/snapshots", "/trials"} {
		var seen, by any
		require.Equal(t, 200, auditor.call("GET", path, "", nil, &seen), path)
		require.NotContains(t, fmt.Sprint(seen), "payroll", path)
		require.Equal(t, 200, c.call("GET", path, "", nil, &by), path)
		if strings.Contains(fmt.Sprint(by), "payroll") {
			told++
		}
	}
	require.GreaterOrEqual(t, told, 5, "administrators see them")
	var page api.Page[api.LedgerEntry]
	require.Equal(t, 200, auditor.call("GET", "/ledger?text=payroll", "", nil, &page))
	require.Empty(t, page.Items)
	require.Equal(t, 200, auditor.call("GET", "/ledger?text=restore", "", nil, &page))
	require.Contains(t, fmt.Sprint(page.Items), `"paths":"(1 not shown)"`)
	require.Equal(t, 200, auditor.call("GET", "/ledger?text=addVolume", "", nil, &page))
	require.Contains(t, fmt.Sprint(page.Items), share, "where a volume lies is no secret")

	// What is refused again and again is counted.
	before, err := s.Access.Ledger(catalog.EntryFilter{Limit: 1000})
	require.NoError(t, err)
	for range 250 {
		require.Equal(t, 403, auditor.call("DELETE", "/volumes/v", `{"x":"`+strings.Repeat("y", 1000)+`"}`, nil, nil))
	}
	after, err := s.Access.Ledger(catalog.EntryFilter{Limit: 1000})
	require.NoError(t, err)
	require.Len(t, after.Items, len(before.Items)+3)
	require.Contains(t, after.Items[0].Outcome, "100 times")
	require.Less(t, len(after.Items[0].About), 300)
}

// Who signs in to the console by a token gets a session, which does not show the token, and
// which signing out ends, as the token's end does.
func TestTokenSessionsEnd(t *testing.T) {
	c, _, _ := open(t)
	in := func(token string) *http.Cookie {
		req, err := http.NewRequest("POST", c.url+"/api/v1/session", strings.NewReader(`{"token":"`+token+`"}`))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		require.Equal(t, 200, resp.StatusCode)
		require.Len(t, resp.Cookies(), 1)
		return resp.Cookies()[0]
	}
	with := func(method, path string, cookie *http.Cookie) int {
		req, err := http.NewRequest(method, c.url+"/api/v1"+path, nil)
		require.NoError(t, err)
		req.AddCookie(cookie)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}
	var tok api.Token
	require.Equal(t, 201, c.call("POST", "/tokens", `{"name":"desk"}`, nil, &tok))
	one, two := in(tok.Text), in(tok.Text)
	require.NotContains(t, one.Value, tok.Text)
	require.Equal(t, 200, with("GET", "/site", one))
	require.Equal(t, 401, with("GET", "/site", &http.Cookie{Name: cookieName, Value: tok.Text}), "a token is no session")
	require.Equal(t, 204, with("DELETE", "/session", one))
	require.Equal(t, 401, with("GET", "/site", one))
	require.Equal(t, 200, with("GET", "/site", two))
	require.Equal(t, 200, c.call("DELETE", "/tokens/desk", "", nil, nil))
	require.Equal(t, 401, with("GET", "/site", two))
}

// An answer to a request that cannot be used does not repeat what it held.
func TestAnswersRepeatNoSecrets(t *testing.T) {
	c, _, _ := open(t)
	for _, body := range []string{`{"name":"ines","role":"operator","password":["orchids"]}`,
		`{"name":"ines","role":"operator","password":{"x":"orchids"}}`,
		`{"name":"ines","role":"gardener","password":"orchids in march"}`,
		`{"name":"ines","Password":"orchids","password":7}`,
		`{"name":"ines","role":"operator","passwort":"orchids in march"}`,
		`{"name":"ines","role":"operator","password":"orchids"`, `"orchids"`} {
		for _, call := range []string{"POST /people", "PUT /me/password", "POST /sites", "POST /tokens"} {
			method, path, _ := strings.Cut(call, " ")
			var said any
			require.GreaterOrEqual(t, c.call(method, path, body, nil, &said), 400, body)
			require.NotContains(t, fmt.Sprint(said), "orchids", call+" "+body)
		}
	}
}
