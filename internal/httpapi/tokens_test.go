package httpapi

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/clock"
	"candidharbor/internal/site"

	"github.com/stretchr/testify/require"
)

// What a token lets in ends with it by itself: its requests, its sessions and its streams of
// events. The token that a new site prints ends too, and no other takes its place.
func TestTokensEndByThemselves(t *testing.T) {
	dir := t.TempDir()
	share := filepath.Join(dir, "share")
	require.NoError(t, os.Mkdir(share, 0o755))
	moved := clock.NewMoved(time.Now())
	s, err := site.Open(site.Options{Data: filepath.Join(dir, "data"), Name: "here", Roots: []string{dir}, Clock: moved})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	srv := httptest.NewServer(New(s))
	t.Cleanup(srv.Close)
	first, err := s.Access.FirstToken()
	require.NoError(t, err)
	c := &caller1{t, srv.URL, first.Text}

	var said struct{ Detail string }
	past := fmt.Sprintf(`{"name":"late","until":%q}`, moved.Now().Add(-time.Second).Format(time.RFC3339Nano))
	require.Equal(t, 422, c.call("POST", "/tokens", past, nil, &said))
	require.Contains(t, said.Detail, "passed")
	var lasting, short api.Token
	require.Equal(t, 201, c.call("POST", "/tokens", `{"name":"lasting"}`, nil, &lasting))
	end := moved.Now().Add(time.Hour)
	require.Equal(t, 201, c.call("POST", "/tokens", fmt.Sprintf(`{"name":"short","until":%q}`,
		end.Format(time.RFC3339Nano)), nil, &short))

	d := &caller1{t, srv.URL, short.Text}
	session, _, err := s.Access.SignInByToken(short.Text)
	require.NoError(t, err)
	e := &caller1{t, srv.URL, session}
	stream := func(token string) *http.Response {
		req, err := http.NewRequest("GET", srv.URL+"/api/v1/events", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.Equal(t, 200, resp.StatusCode)
		t.Cleanup(func() { resp.Body.Close() })
		return resp
	}
	live := stream(short.Text)
	moved.Set(end.Add(-time.Nanosecond))
	for _, one := range []*caller1{d, e} {
		require.Equal(t, 200, one.call("GET", "/site", "", nil, nil))
	}
	moved.Set(end)
	for _, one := range []*caller1{d, e} {
		require.Equal(t, 401, one.call("GET", "/site", "", nil, nil))
	}
	c.token = lasting.Text
	require.Equal(t, 201, c.call("POST", "/volumes", fmt.Sprintf(`{"name":"v","path":%q}`, share), nil, nil))
	heard, err := io.ReadAll(live.Body)
	require.NoError(t, err)
	require.Equal(t, ": connected\n\n", string(heard), "the stream ends before the next event")

	var tokens []api.Token
	require.Equal(t, 200, c.call("GET", "/tokens", "", nil, &tokens))
	require.Len(t, tokens, 3)
	for _, tok := range tokens {
		require.Equal(t, tok.Name == "short", tok.Ended, tok.Name)
	}
	moved.Set(moved.Now().Add(8 * 24 * time.Hour))
	require.Equal(t, 401, (&caller1{t, srv.URL, first.Text}).call("GET", "/site", "", nil, nil))
	require.Equal(t, 200, c.call("GET", "/site", "", nil, nil))
	again, err := s.Access.FirstToken()
	require.NoError(t, err)
	require.Empty(t, again.Text, "a site whose tokens have ended lets in only who comes by its socket")
	require.Equal(t, 200, c.call("DELETE", "/tokens/short", "", nil, nil))
	require.False(t, strings.Contains(fmt.Sprint(tokens), short.Text))
}
