package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"candidharbor/api"

	"github.com/stretchr/testify/require"
)

func serve(t *testing.T, h http.HandlerFunc) *Client {
	srv := httptest.NewServer(h)
	t.Cleanup(srv.Close)
	c, err := New(srv.URL+"/", "cht_secret")
	require.NoError(t, err)
	return c
}

// Requests carry the token, a body as JSON, and each write a key of its own.
func TestRequests(t *testing.T) {
	var seen []*http.Request
	var bodies []string
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		seen, bodies = append(seen, r), append(bodies, string(b))
		fmt.Fprint(w, `{"name":"larkfield"}`)
	})
	ctx := context.Background()
	var s api.Site
	require.NoError(t, c.Get(ctx, "/volumes/a%20b", url.Values{"at": {"2026-03-04T14:05:00+01:00"}}, &s))
	require.NoError(t, c.Post(ctx, "/volumes", api.VolumeAdd{Name: "v"}, &s))
	require.NoError(t, c.Post(ctx, "/volumes", api.VolumeAdd{Name: "v"}, nil))
	require.NoError(t, c.Put(ctx, "/policies", api.PolicyPut{Body: "x"}, nil))
	require.NoError(t, c.Delete(ctx, "/routes/r", nil))
	require.Equal(t, "larkfield", s.Name)
	require.Equal(t, "/api/v1/volumes/a%20b?at=2026-03-04T14%3A05%3A00%2B01%3A00", seen[0].RequestURI)
	require.Empty(t, seen[0].Header.Get("Idempotency-Key"))
	keys := map[string]bool{}
	for i, r := range seen {
		require.Equal(t, "Bearer cht_secret", r.Header.Get("Authorization"))
		if i > 0 {
			require.GreaterOrEqual(t, len(r.Header.Get("Idempotency-Key")), 20)
			keys[r.Header.Get("Idempotency-Key")] = true
		}
	}
	require.Len(t, keys, 4)
	require.JSONEq(t, `{"name":"v"}`, bodies[1])
	require.Equal(t, "application/json", seen[1].Header.Get("Content-Type"))
}

// What the site says of an error reaches the caller, also when it is not JSON.
func TestProblems(t *testing.T) {
	answer, status := "", 0
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(status)
		fmt.Fprint(w, answer)
	})
	for _, x := range []struct {
		status int
		answer string
		say    string
	}{
		{404, `{"status":404,"title":"Not Found","detail":"volume \"x\": not found"}`, `volume "x": not found`},
		{422,
			`{"detail":"validation failed","errors":[{"message":"unexpected property","location":"body.colour"},
				{"message":"too long","location":"body.name"}]}`,
			"validation failed; body.colour: unexpected property; body.name: too long"},
		{502, `<html>gateway</html>`, "502 Bad Gateway"},
		{500, ``, "500 Internal Server Error"},
		{200, `{"name":`, "answer cannot be read"},
	} {
		answer, status = x.answer, x.status
		var s api.Site
		err := c.Get(context.Background(), "/site", nil, &s)
		require.ErrorContains(t, err, x.say)
		var p *Problem
		if x.status != 200 {
			require.ErrorAs(t, err, &p)
			require.Equal(t, x.status, p.Status)
		}
	}
}

// Waiting for a run reports each state and ends with the run, or with the caller.
func TestWaitRun(t *testing.T) {
	calls := 0
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		calls++
		require.Equal(t, "1", r.URL.Query().Get("wait"))
		state := "running"
		if calls == 3 {
			state = "done with remarks"
		}
		json.NewEncoder(w).Encode(api.Run{ID: 7, State: state})
	})
	var states []string
	r, err := c.WaitRun(context.Background(), 7, func(r *api.Run) { states = append(states, r.State) })
	require.NoError(t, err)
	require.True(t, r.Over())
	require.Equal(t, []string{"running", "running", "done with remarks"}, states)
	ctx, cancel := context.WithCancel(context.Background())
	calls = -1000
	_, err = c.WaitRun(ctx, 7, func(*api.Run) { cancel() })
	require.ErrorIs(t, err, context.Canceled)
}

// An archive that breaks off is an error, never a shorter archive.
func TestArchiveBrokenOff(t *testing.T) {
	whole := true
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, []string{"a", "b c"}, r.URL.Query()["path"])
		w.Write(bytes.Repeat([]byte("x"), 100_000))
		if !whole {
			w.(http.Flusher).Flush()
			panic(http.ErrAbortHandler)
		}
	})
	var out bytes.Buffer
	n, err := c.Archive(context.Background(), "v", "latest", "tar", []string{"a", "b c"}, &out)
	require.NoError(t, err)
	require.EqualValues(t, out.Len(), n)
	whole = false
	_, err = c.Archive(context.Background(), "v", "latest", "tar", []string{"a", "b c"}, io.Discard)
	require.ErrorContains(t, err, "is not whole")
}

func TestAddresses(t *testing.T) {
	for _, bad := range []string{"", "larkfield:7310", "ftp://x", "http://", "://"} {
		_, err := New(bad, "")
		require.ErrorContains(t, err, "give unix:DIR/candid.sock or http(s)://host:port", bad)
	}
	c, err := New("unix:"+t.TempDir()+"/none.sock", "")
	require.NoError(t, err)
	began := time.Now()
	err = c.Get(context.Background(), "/site", nil, nil)
	require.ErrorContains(t, err, "no service answers at")
	require.True(t, strings.Contains(err.Error(), "none.sock"))
	require.Less(t, time.Since(began), 5*time.Second)
}
