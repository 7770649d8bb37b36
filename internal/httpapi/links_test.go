package httpapi

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/clock"
	"candidharbor/internal/site"

	"github.com/stretchr/testify/require"
)

// A link signs in one browser, soon, as who asked for it, for a while; whoever tries it again, later, or beside is a
// stranger, and nothing is left of it.
func TestLinksSignInOnce(t *testing.T) {
	moved := clock.NewMoved(time.Now())
	s, err := site.Open(site.Options{Data: filepath.Join(t.TempDir(), "data"), Name: "here", Clock: moved})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	srv := httptest.NewServer(New(s))
	t.Cleanup(srv.Close)
	_, err = s.Access.AddPerson(api.PersonAdd{Name: "marta", Role: "administrator", Password: "correct horse"})
	require.NoError(t, err)
	tok, err := s.Access.NewToken(api.TokenAdd{Name: "of-marta", Person: "marta"})
	require.NoError(t, err)
	c := &caller1{t, srv.URL, tok.Text}
	require.Equal(t, 409, c.call("POST", "/tokens/link", "", nil, nil), "there is no console")
	s.Console = srv.URL

	link := func() (code string, l api.SignInLink) {
		require.Equal(t, 201, c.call("POST", "/tokens/link", "", nil, &l))
		u, err := url.Parse(l.Address)
		require.NoError(t, err)
		code, is := strings.CutPrefix(u.Fragment, "enter=")
		require.True(t, is, l.Address)
		return code, l
	}
	enter := func(code string) (session string) {
		resp, err := http.Post(srv.URL+"/api/v1/session", "application/json", strings.NewReader(fmt.Sprintf(`{"link":%q}`,
			code)))
		if err != nil {
			return ""
		}
		defer resp.Body.Close()
		for _, k := range resp.Cookies() {
			session = k.Value
		}
		return session
	}
	code, l := link()
	sessions := make([]string, 20)
	var all sync.WaitGroup
	for i := range sessions {
		all.Go(func() { sessions[i] = enter(code) })
	}
	all.Wait()
	got := strings.Join(sessions, "")
	require.Equal(t, 1, strings.Count(got, "chs_"), "one of twenty is let in")
	in := &caller1{t, srv.URL, got}
	var me api.Me
	require.Equal(t, 200, in.call("GET", "/me", "", nil, &me))
	require.Equal(t, "marta", me.Name)
	for _, wrong := range []string{code, code[:len(code)-1], "", "chl_", got, tok.Text} {
		require.Empty(t, enter(wrong))
	}
	require.Equal(t, 401, (&caller1{t, srv.URL, code}).call("GET", "/me", "", nil, nil), "it is no token")

	code, l = link()
	moved.Set(l.Until)
	require.Empty(t, enter(code), "its time is over")
	for moved.Now().Before(l.Ends) { // a session that is used lasts as long as the link said
		require.Equal(t, 200, in.call("GET", "/me", "", nil, nil))
		moved.Set(moved.Now().Add(time.Hour))
	}
	require.Equal(t, 401, in.call("GET", "/me", "", nil, nil))
	code, _ = link()
	tokens, err := s.Access.Tokens()
	require.NoError(t, err)
	require.Len(t, tokens, 2, "those of links that are over are forgotten: %+v", tokens)
	for range 99 {
		link()
	}
	require.Equal(t, 429, c.call("POST", "/tokens/link", "", nil, nil), "as many wait as may")
	tokens, err = s.Access.Tokens()
	require.NoError(t, err)
	require.Len(t, tokens, 101, "one that is refused makes no token")
	require.NoError(t, s.Access.RemovePerson("marta"))
	require.Empty(t, enter(code), "who asked for it may sign in no more")
}
