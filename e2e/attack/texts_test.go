package attack

import (
	"crypto/tls"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/hashicorp/yamux"
	"github.com/stretchr/testify/require"

	"candidharbor/internal/visible"
)

// strangeRequest asks a site for what there is not, with a key that nobody knows, and waits for
// the answer.
func (s *site) strangeRequest(op string) {
	cfg := &tls.Config{InsecureSkipVerify: true, Certificates: []tls.Certificate{someIdentity(s.t)},
		NextProtos: []string{"candid-harbor/1"}}
	conn, err := tls.Dial("tcp", s.peer, cfg)
	require.NoError(s.t, err)
	mux := yamux.DefaultConfig()
	mux.LogOutput = io.Discard
	line, err := yamux.Client(conn, mux)
	require.NoError(s.t, err)
	defer line.Close()
	st, err := line.OpenStream()
	require.NoError(s.t, err)
	body, err := cbor.Marshal(map[int]any{1: 1, 2: op, 3: 0})
	require.NoError(s.t, err)
	_, err = st.Write(frame(frameRequest, body))
	require.NoError(s.t, err)
	_, err = io.ReadAll(st)
	require.NoError(s.t, err)
}

// What others write, in names of files, notes, reasons, labels, names of tokens and names typed
// at sign-in, does nothing to who reads it: not in the answers for people nor in those for
// programs, the log, and the commands that are there to be copied.
func TestTextsOfOthers(t *testing.T) {
	base := openDir(t)
	share := filepath.Join(base, "share")
	require.NoError(t, os.Mkdir(share, 0o755))
	mine := filepath.Join(base, "came-true")
	hostile := []string{"\x1b]0;owned\x07", "page\u009b31m", "photo\u202egpj.exe", "two\nlines", "x; touch " +
		filepath.Base(mine) + ";", "$(touch came-true)", "`touch came-true`",
		"'; touch came-true; '", "--in-place", "line\u2028end", "caf\xe9\x9b"}
	for _, name := range hostile {
		require.NoError(t, os.WriteFile(filepath.Join(share, name), []byte(name), 0o644))
	}
	s := serve(t, filepath.Join(base, "site"), "larkfield", share)
	s.run("volume", "add", "notes", "--path", share)
	all := strings.Join(hostile[:4], " ")
	s.run("snapshot", "take", "notes", "--note", all, "--label", "shelf="+"a\u009bb\u202ec")
	var snaps []struct{ ID string }
	s.json(&snaps, "snapshot", "list", "notes")
	id := snaps[0].ID
	s.run("snapshot", "keep", id, "--reason", all)
	for _, name := range hostile {
		require.NoError(t, os.Remove(filepath.Join(share, name)))
		status, _ := s.call(s.token, "POST", "/api/v1/tokens", map[string]string{"name": name})
		require.Equal(t, http.StatusCreated, status)
		req, err := http.NewRequest("GET", s.url+"/dav/"+url.PathEscape(name)+"/", nil)
		require.NoError(t, err)
		req.SetBasicAuth(name, "a guess")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, http.StatusUnauthorized, res.StatusCode)
		raw, err := json.Marshal(map[string]string{"name": name, "password": "orchids in march"})
		require.NoError(t, err)
		res, err = http.Post(s.url+"/api/v1/session", "application/json", strings.NewReader(string(raw)))
		require.NoError(t, err)
		res.Body.Close()
		require.NotEqual(t, http.StatusOK, res.StatusCode)
	}

	var commands []string
	copied := regexp.MustCompile(`candid (restore|find|browse|versions|compare) .*`)
	for _, args := range [][]string{{"status"}, {"snapshot", "list", "notes"}, {"snapshot", "show", id},
		{"browse", "notes"}, {"find", "notes", "*"}, {"find", "notes", "*", "--deleted"},
		{"compare", "notes", "--from", id[:12]}, {"ledger", "list"}, {"token", "list"}, {"run", "list"}, {"run", "show", "1"},
		{"explain", "notes"}, {"restore", "notes", "--at", id[:12], "--in-place", "--dry-run"},
		{"versions", "notes", "page%C2%9B31m"}, {"versions", "notes", "$(touch came-true)"}, {"versions", "notes", "--",
			"nothing; touch came-true;"}, {"restore", "notes", "nothing`touch came-true`", "--at", id[:12], "--in-place"}} {
		for _, form := range [][]string{nil, {"--json"}} {
			out, _ := s.try(append(form, args...)...)
			for _, r := range out {
				require.False(t, r != '\n' && r != '\t' && visible.Commands(r), "%q of %v", out, args)
			}
			if form != nil && json.Valid([]byte(out)) {
				continue
			}
			commands = append(commands, copied.FindAllString(out, -1)...)
		}
	}
	require.NotEmpty(t, commands)
	for _, line := range commands { // somebody copies them into a shell, at a place where a program of that name is
		cmd := exec.Command("sh", "-c", line)
		cmd.Dir = base
		cmd.Env = []string{"PATH=/nowhere"}
		_ = cmd.Run()
		sh := exec.Command("sh", "-c", "candid() { :; }; "+line)
		sh.Dir = base
		_ = sh.Run()
		require.NoFileExists(t, mine, line)
	}
	s.strangeRequest("\x1b[2J\u009b31m\u202e")
	require.Eventually(t, func() bool {
		return strings.Contains(s.log.String(), "a peer's request failed")
	}, 10*time.Second, 10*time.Millisecond)
	for _, r := range s.log.String() {
		require.False(t, r != '\n' && r != '\t' && visible.Commands(r), "%q", s.log.String())
	}
}
