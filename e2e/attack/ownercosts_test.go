package attack

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A file owner asks for all that costs, thirty times each at once, with bodies of any size, and
// takes the answers slowly or not at all: the service takes little memory for it, and others are
// answered.
func TestOwnersAskForMuch(t *testing.T) {
	base := openDir(t)
	share := filepath.Join(base, "share")
	own := filepath.Join(share, "own")
	require.NoError(t, os.MkdirAll(own, 0o755))
	for i := range 20_000 {
		path := filepath.Join(own, fmt.Sprintf("a page with a long name that takes some room %06d.txt", i))
		require.NoError(t, os.WriteFile(path, []byte(fmt.Sprint("page ", i)), 0o644))
	}
	s := serve(t, filepath.Join(base, "site"), "larkfield", share)
	s.run("volume", "add", "notes", "--path", share)
	s.run("snapshot", "take", "notes")
	ines := s.person("ines", stranger, "notes", "own")
	idle := resident(t, s.cmd.Process.Pid)

	ctx, leave := context.WithTimeout(t.Context(), 8*time.Second)
	defer leave()
	huge := func() io.Reader { // as much as is read
		part := strings.Repeat("<p>x</p>", 8<<10)
		return io.MultiReader(strings.NewReader(`<?xml version="1.0"?><propfind xmlns="DAV:"><prop>`),
			io.LimitReader(&repeated{text: part}, 300<<20))
	}
	ask := func(method, path, depth string, body io.Reader, slow bool) int {
		req, err := http.NewRequestWithContext(ctx, method, s.url+path, body)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+ines)
		if depth != "" {
			req.Header.Set("Depth", depth)
		}
		if method == "POST" {
			req.Header.Set("Content-Type", "application/json")
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return 0
		}
		defer res.Body.Close()
		if slow { // a little, and then no more
			_, _ = io.CopyN(io.Discard, res.Body, 1000)
			<-ctx.Done()
		}
		text, _ := io.ReadAll(io.LimitReader(res.Body, 1000))
		_, _ = io.Copy(io.Discard, res.Body)
		assert.NotEqual(t, http.StatusInternalServerError, res.StatusCode, "%s %s: %s", method, path, text)
		return res.StatusCode
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	got := map[string]map[int]int{}
	for _, one := range []struct {
		what, method, path, depth string
		body                      func() io.Reader
		slow                      bool
	}{
		{"huge property request", "PROPFIND", "/dav/notes/latest/own/", "1", huge, false},
		{"listing", "PROPFIND", "/dav/notes/latest/own/", "1", nil, false},
		{"listing, slowly", "PROPFIND", "/dav/notes/latest/own/", "1", nil, true},
		{"listing of all", "PROPFIND", "/dav/", "infinity", nil, false},
		{"find", "GET", "/api/v1/volumes/notes/find?pattern=*&limit=1000", "", nil, false},
		{"browse", "GET", "/api/v1/volumes/notes/browse?path=own", "", nil, false},
		{"tar, slowly", "GET", "/api/v1/volumes/notes/archive?form=tar&path=own", "", nil, true},
		{"zip", "GET", "/api/v1/volumes/notes/archive?form=zip&path=own", "", nil, false},
		{"plan", "POST", "/api/v1/restores/plan", "", func() io.Reader {
			return strings.NewReader(`{"volume":"notes","paths":["own"],"at":"latest","inPlace":true}`)
		}, false},
		{"huge body", "POST", "/api/v1/restores/plan", "", huge, false},
		{"timeline", "GET", "/api/v1/volumes/notes/timeline?from=1970-01-01T00:00:00Z&to=2100-01-01T00:00:00Z", "", nil,
			false},
	} {
		got[one.what] = map[int]int{}
		for range 30 {
			all.Go(func() {
				var body io.Reader
				if one.body != nil {
					body = one.body()
				}
				status := ask(one.method, one.path, one.depth, body, one.slow)
				mu.Lock()
				defer mu.Unlock()
				got[one.what][status]++
			})
		}
	}
	s.run("status")
	s.run("snapshot", "take", "notes")
	all.Wait()
	more := resident(t, s.cmd.Process.Pid) - idle
	t.Logf("%d MiB above idle; %v", more>>20, got)
	require.Less(t, more, int64(mostMore))
	require.Positive(t, got["browse"][http.StatusOK])
	s.run("status")
}

// repeated is a text again and again.
type repeated struct {
	text string
	at   int
}

func (r *repeated) Read(b []byte) (int, error) {
	n := copy(b, r.text[r.at:])
	r.at = (r.at + n) % len(r.text)
	return n, nil
}
