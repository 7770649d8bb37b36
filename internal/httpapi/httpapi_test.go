package httpapi

import (
	"archive/tar"
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/site"

	ics "github.com/arran4/golang-ical"
	"github.com/stretchr/testify/require"
)

type caller1 struct {
	t     testing.TB
	url   string
	token string
}

func open(t *testing.T) (*caller1, *site.Site, string) {
	dir := t.TempDir()
	share := filepath.Join(dir, "share")
	require.NoError(t, os.MkdirAll(filepath.Join(share, "sub"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(share, "sub", "caf\xe9 100%"), []byte("bytes"), 0o644))
	s, err := site.Open(site.Options{Data: filepath.Join(dir, "data"), Name: "here", Roots: []string{dir}})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	srv := httptest.NewServer(New(s))
	t.Cleanup(srv.Close)
	tok, err := s.Access.NewToken(api.TokenAdd{Name: "test"})
	require.NoError(t, err)
	return &caller1{t, srv.URL, tok.Text}, s, share
}

func (c *caller1) call(method, path, body string, head map[string]string, into any) int {
	req, err := http.NewRequest(method, c.url+"/api/v1"+path, strings.NewReader(body))
	require.NoError(c.t, err)
	req.Header.Set("Authorization", "Bearer "+c.token)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for k, v := range head {
		req.Header.Set(k, v)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(c.t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(c.t, err)
	if into != nil {
		require.NoError(c.t, json.Unmarshal(raw, into), string(raw))
	}
	return resp.StatusCode
}

// Nothing is told without a token, whatever the path; a token is not stored as it is.
func TestTokens(t *testing.T) {
	c, s, _ := open(t)
	for _, path := range []string{"/site", "/status", "/volumes", "/runs", "/events", "/openapi.json",
		"/volumes/x/archive"} {
		for _, token := range []string{"", "cht_", "cht_00", c.token + "0", c.token[:len(c.token)-1]} {
			d := *c
			d.token = token
			var p struct{ Detail string }
			require.Equal(t, 401, d.call("GET", path, "", nil, &p), path)
			require.Contains(t, p.Detail, "token")
		}
	}
	var me api.Site
	require.Equal(t, 200, c.call("GET", "/site", "", nil, &me))
	require.Equal(t, "here", me.Name)
	for _, f := range []string{"catalog.db", "catalog.db-wal"} {
		raw, err := os.ReadFile(filepath.Join(s.Path, f))
		require.NoError(t, err)
		require.NotContains(t, string(raw), c.token)
	}
	var tokens []api.Token
	c.call("GET", "/tokens", "", nil, &tokens)
	require.Empty(t, tokens[0].Text)
	require.Equal(t, 200, c.call("DELETE", "/tokens/test", "", nil, nil))
	require.Equal(t, 401, c.call("GET", "/site", "", nil, nil))
}

// The same key is carried out once and answered alike.
func TestIdempotency(t *testing.T) {
	c, _, share := open(t)
	require.Equal(t, 201, c.call("POST", "/volumes", `{"name":"v","path":"`+share+`"}`, nil, nil))
	var a, b, other api.Run
	key := map[string]string{"Idempotency-Key": "one"}
	require.Equal(t, 202, c.call("POST", "/volumes/v/snapshots", `{}`, key, &a))
	require.Equal(t, 202, c.call("POST", "/volumes/v/snapshots", `{}`, key, &b))
	require.Equal(t, a.ID, b.ID)
	key["Idempotency-Key"] = "two"
	require.Equal(t, 202, c.call("POST", "/volumes/v/snapshots", `{}`, key, &other))
	require.NotEqual(t, a.ID, other.ID)
	ids := make(chan int64, 8)
	for range 8 {
		go func() {
			var r api.Run
			c.call("POST", "/volumes/v/snapshots", `{}`, map[string]string{"Idempotency-Key": "at once"}, &r)
			ids <- r.ID
		}()
	}
	first := <-ids
	for range 7 {
		require.Equal(t, first, <-ids)
	}
}

// Answers that hold a secret are not kept for repetition.
func TestSecretsAreNotKept(t *testing.T) {
	c, s, _ := open(t)
	var tok api.Token
	var inv api.Invitation
	key := map[string]string{"Idempotency-Key": "k"}
	require.Equal(t, 201, c.call("POST", "/tokens", `{"name":"desk"}`, key, &tok))
	require.Equal(t, 201, c.call("POST", "/sites/invitations", "", key, &inv))
	for _, f := range []string{"catalog.db", "catalog.db-wal"} {
		raw, err := os.ReadFile(filepath.Join(s.Path, f))
		require.NoError(t, err)
		require.NotContains(t, string(raw), tok.Text)
		require.NotContains(t, string(raw), inv.Text)
	}
}

// Errors are problems that name the thing; unknown fields and paths are refused.
func TestProblems(t *testing.T) {
	c, _, share := open(t)
	for _, x := range []struct {
		method, path, body string
		status             int
		say                string
	}{
		{"GET", "/volumes/none", "", 404, `volume "none": not found`},
		{"GET", "/nothing", "", 404, "openapi.json lists"},
		{"POST", "/volumes", `{"name":"v","path":"/etc"}`, 422, "outside the roots"},
		{"POST", "/volumes", `{"name":"v","path":"` + share + `","colour":"red"}`, 422, "validation failed"},
		{"POST", "/volumes", `{"name":`, 400, ""},
		{"PUT", "/policies", `{"body":"policy: x\nvolumes: {a: b}\ntake: [soon]\n"}`, 422, "line 3"},
		{"GET", "/volumes/v/timeline?from=2026-01-02T00:00:00Z&to=2026-01-01T00:00:00Z", "", 404, ""},
		{"DELETE", "/snapshots/zz", "", 404, "six hexadecimal digits"},
		{"POST", "/runs/77/cancel", "", 404, "run"},
	} {
		var p struct {
			Detail string
			Status int
		}
		require.Equal(t, x.status, c.call(x.method, x.path, x.body, nil, &p), x.path)
		require.Contains(t, p.Detail, x.say, x.path)
	}
}

// A name that is not UTF-8 goes out and comes back; the archive holds its bytes; lists
// are paged without loss; runs are told as events.
func TestNamesArchiveEventsAndPages(t *testing.T) {
	c, s, share := open(t)
	require.Equal(t, 201, c.call("POST", "/volumes", `{"name":"v","path":"`+share+`"}`, nil, nil))
	req, err := http.NewRequest("GET", c.url+"/api/v1/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+c.token)
	stream, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer stream.Body.Close()
	events := bufio.NewScanner(stream.Body)
	require.True(t, events.Scan())
	for range 5 {
		var r api.Run
		require.Equal(t, 202, c.call("POST", "/volumes/v/snapshots", `{}`, nil, &r))
		require.Equal(t, 200, c.call("GET", "/runs/1?wait=20", "", nil, nil))
		_, err := s.Run.Wait(t.Context(), r.ID)
		require.NoError(t, err)
	}
	seen := ""
	for events.Scan() {
		seen += events.Text() + "\n"
		if strings.Contains(seen, `"state":"done"`) {
			break
		}
	}
	require.Contains(t, seen, "event: run")
	var b api.Browse
	require.Equal(t, 200, c.call("GET", "/volumes/v/browse?path=sub", "", nil, &b))
	require.Equal(t, "caf%E9 100%25", b.Entries[0].Name)
	require.Equal(t, 200, c.call("GET", "/volumes/v/browse?path=sub/caf%25E9%20100%2525", "", nil, &b))
	require.EqualValues(t, 5, b.Entry.Size)
	req, err = http.NewRequest("GET", c.url+"/api/v1/volumes/v/archive?path=sub", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+c.token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	tr := tar.NewReader(bytes.NewReader(raw))
	_, err = tr.Next()
	require.NoError(t, err)
	h, err := tr.Next()
	require.NoError(t, err)
	require.Equal(t, "sub/caf\xe9 100%", h.Name)

	ids := map[string]bool{}
	after := ""
	for pages := 0; ; pages++ {
		var page api.Page[api.Snapshot]
		require.Equal(t, 200, c.call("GET", "/volumes/v/snapshots?limit=2&after="+after, "", nil, &page))
		for _, s := range page.Items {
			require.False(t, ids[s.ID])
			ids[s.ID] = true
		}
		if after = page.Next; after == "" {
			require.Equal(t, 2, pages)
			break
		}
	}
	require.Len(t, ids, 5)
}

// The calendar is read by calendar programs, which send a token as a password; each due
// time stands in it once, many of one day as one entry. The schema is JSON.
func TestCalendarAndSchema(t *testing.T) {
	c, s, share := open(t)
	require.Equal(t, 201, c.call("POST", "/volumes", `{"name":"v","path":"`+share+`","labels":{"k":"v"}}`, nil, nil))
	for _, body := range []string{"policy: few\nvolumes: {k: v}\ntake: [daily at 12:00]\nkeep: {here: {daily: 3}}\n",
		"policy: many\nvolumes: {k: v}\ntake: [every 30 minutes]\nkeep: {here: {daily: 3}}\n",
		"policy: off\nvolumes: {k: v}\ntake: [daily at 13:00]\npaused: true\n"} {
		_, err := s.Rules.PutPolicy(body, "test", true)
		require.NoError(t, err)
	}
	get := func(path, password string) (int, string) {
		req, err := http.NewRequest("GET", c.url+"/api/v1"+path, nil)
		require.NoError(t, err)
		req.SetBasicAuth("anyone", password)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(raw)
	}
	status, text := get("/calendar?days=10", c.token)
	require.Equal(t, 200, status)
	cal, err := ics.ParseCalendar(strings.NewReader(text))
	require.NoError(t, err)
	count := map[string]int{}
	for _, e := range cal.Events() {
		count[e.GetProperty(ics.ComponentPropertySummary).Value]++
		at, err := e.GetStartAt()
		require.NoError(t, err)
		require.False(t, at.Before(time.Now().Add(-time.Hour)))
	}
	require.Equal(t, 10, count["snapshot by few"])
	require.GreaterOrEqual(t, count["48 snapshots by many"], 9)
	require.Zero(t, count["snapshot by off"])
	status, _ = get("/calendar", "cht_wrong")
	require.Equal(t, 401, status)
	for _, bad := range []string{"0", "1000", "soon"} {
		status, text = get("/calendar?days="+bad, c.token)
		require.Equal(t, 422, status)
		require.Contains(t, text, "days")
	}
	var schema map[string]any
	require.Equal(t, 200, c.call("GET", "/policies/schema", "", nil, &schema))
	require.Equal(t, "Candid Harbor policy", schema["title"])
}
