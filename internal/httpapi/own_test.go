package httpapi

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/pairing"

	"github.com/stretchr/testify/require"
)

// What file owners get over HTTP is theirs alone: volumes by WebDAV, runs, answers to repeated
// requests; and no header or path gives them more.
func TestOwnersKeepApart(t *testing.T) {
	c, s, share := open(t)
	for dir, uid := range map[string]int{"ines": 1500, "rosa": 1600} {
		require.NoError(t, os.MkdirAll(filepath.Join(share, dir), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(share, dir, "own"), []byte(dir), 0o600))
		if os.Geteuid() == 0 {
			require.NoError(t, os.Chown(filepath.Join(share, dir), uid, uid))
			require.NoError(t, os.Chown(filepath.Join(share, dir, "own"), uid, uid))
		}
	}
	admin := c.token
	require.Equal(t, 201, c.call("POST", "/volumes", fmt.Sprintf(`{"name":"notes","path":%q}`, share), nil, nil))
	other := share + "-other"
	require.NoError(t, os.Mkdir(other, 0o755))
	require.Equal(t, 201, c.call("POST", "/volumes", fmt.Sprintf(`{"name":"other","path":%q}`, other), nil, nil))
	var run api.Run
	require.Equal(t, 202, c.call("POST", "/volumes/notes/snapshots", `{}`, nil, &run))
	_, err := s.Run.Wait(t.Context(), run.ID)
	require.NoError(t, err)
	tokens := map[string]string{}
	for name, uid := range map[string]uint32{"ines": 1500, "rosa": 1600} {
		if os.Geteuid() != 0 {
			uid = uint32(os.Geteuid())
		}
		_, err := s.Access.AddPerson(api.PersonAdd{Name: name, Role: access.FileOwner, Password: "correct horse " + name,
			UID: &uid, GIDs: []uint32{uid}})
		require.NoError(t, err)
		_, err = s.Access.GrantFolders(name, api.FolderGrantAsk{Volume: "notes", Paths: []string{name}})
		require.NoError(t, err)
		tok, err := s.Access.NewToken(api.TokenAdd{Name: "of-" + name, Person: name})
		require.NoError(t, err)
		tokens[name] = tok.Text
	}
	dav := func(method, path, name, password string) (int, string) {
		req, err := http.NewRequest(method, c.url+path, nil)
		require.NoError(t, err)
		req.SetBasicAuth(name, password)
		req.Header.Set("Depth", "1")
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(raw)
	}
	status, text := dav("PROPFIND", "/dav/notes/latest/", "ines", "correct horse ines")
	require.Equal(t, 207, status)
	require.Contains(t, text, "latest/ines/")
	require.NotContains(t, text, "rosa")
	status, text = dav("GET", "/dav/notes/latest/ines/own", "ines", "correct horse ines")
	require.Equal(t, "200 ines", fmt.Sprint(status, " ", text))
	for _, path := range []string{"/dav/notes/latest/rosa/own", "/dav/notes/latest/ines/../rosa/own",
		"/dav/notes/latest/ines/%2e%2e/rosa/own"} {
		status, text = dav("GET", path, "ines", "correct horse ines")
		require.NotContains(t, text, "rosa own")
		require.NotEqual(t, 200, status, path)
	}
	status, _ = dav("PROPFIND", "/dav/notes/latest/", "ines", "correct horse rosa")
	require.Equal(t, 401, status)

	// One person's key for repeating a request is not another's.
	ask := func(path string) string {
		return fmt.Sprintf(`{"volume":"notes","paths":[%q],"at":"latest","inPlace":true}`, path)
	}
	key := map[string]string{"Idempotency-Key": "the same"}
	c.token = tokens["ines"]
	var first, second api.Run
	require.Equal(t, 202, c.call("POST", "/restores", ask("ines"), key, &first))
	require.Equal(t, 202, c.call("POST", "/restores", ask("ines"), key, &second))
	require.Equal(t, first.ID, second.ID)
	c.token = tokens["rosa"]
	require.Equal(t, 404, c.call("POST", "/restores", ask("ines"), key, nil))
	require.Equal(t, 404, c.call("GET", fmt.Sprintf("/runs/%d", first.ID), "", nil, nil))
	require.Equal(t, 404, c.call("POST", fmt.Sprintf("/runs/%d/cancel", first.ID), "", nil, nil))
	require.Equal(t, 404, c.call("POST", fmt.Sprintf("/runs/%d/undo", first.ID), "", nil, nil))
	var runs api.Page[api.Run]
	require.Equal(t, 200, c.call("GET", "/runs", "", nil, &runs))
	require.Empty(t, runs.Items)
	var line api.Timeline
	require.Equal(t, 200, c.call("GET", "/volumes/notes/timeline?from=2026-01-01T00:00:00Z&to="+
		time.Now().Add(time.Hour).UTC().Format(time.RFC3339), "", nil, &line))
	require.Len(t, line.Lanes, 1)
	for _, m := range line.Lanes[0].Marks {
		require.Empty(t, m.Why)
	}
	var several api.Page[api.Timeline]
	require.Equal(t, 200, c.call("GET", "/timelines?name=other&name=notes&name=none&from=2026-01-01T00:00:00Z&to="+
		line.To.Format(time.RFC3339), "", nil, &several))
	require.Equal(t, []api.Timeline{line}, several.Items, "of the others they learn nothing")
	_, err = s.Run.Wait(t.Context(), first.ID)
	require.NoError(t, err)
	c.token = tokens["ines"]
	require.Equal(t, 200, c.call("GET", fmt.Sprintf("/runs/%d", first.ID), "", nil, nil))

	// A grant that is taken back holds at once, also for who is signed in.
	_, err = s.Access.GrantFolders("ines", api.FolderGrantAsk{Volume: "notes", Paths: []string{"ines"}, End: true})
	require.NoError(t, err)
	require.Equal(t, 404, c.call("GET", "/volumes/notes/browse?path=ines", "", nil, nil))
	c.token = admin
	require.Equal(t, 200, c.call("GET", "/volumes/notes/browse?path=ines", "", nil, nil))
}

// Over the desk a person has the role of home: less than the site may is less here too, and
// who says no role, or one that stays at home, is not let in.
func TestRolesOverTheDesk(t *testing.T) {
	from := pairing.RemoteCaller{Site: "larkfield", Configure: true}
	for role, lets := range map[string]map[string]bool{
		access.Administrator: {"putPolicy": true, "takeSnapshot": true, "getStatus": true, "browse": true},
		access.Operator:      {"putPolicy": false, "takeSnapshot": true, "getStatus": true, "browse": true},
		access.Auditor:       {"putPolicy": false, "takeSnapshot": false, "getStatus": true, "browse": false},
		access.FileOwner:     nil, "": nil, "root": nil,
	} {
		r := httptest.NewRequest("GET", "/api/v1/status", nil)
		r.Header.Set(pairing.RemoteHeader, "marta")
		r.Header.Set(pairing.RemoteRoleHeader, role)
		c, status, err := deskCaller(from, "here", r)
		if lets == nil {
			require.Equal(t, http.StatusForbidden, status, role)
			require.ErrorContains(t, err, "did not say in which role")
			continue
		}
		require.NoError(t, err)
		require.Equal(t, "marta at larkfield", c.Name)
		require.Nil(t, c.Owner)
		for op, want := range lets {
			require.Equal(t, want, may(c.Role, op), "%s %s", role, op)
		}
	}
}
