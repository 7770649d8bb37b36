package attack

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// person lets a file owner in and returns a token of that one.
func (s *site) person(name string, uid uint32, volume string, paths ...string) (token string) {
	s.t.Helper()
	cmd := exec.Command(s.bin, "--site", "unix:"+filepath.Join(s.dir, "candid.sock"), "person", "add", name, "--role",
		"file owner", "--uid", uintText(uid), "--gid", uintText(uid))
	cmd.Stdin = strings.NewReader("orchids in march\n")
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, string(out))
	s.run(append([]string{"person", "grant", name, volume}, paths...)...)
	var tok struct {
		Text string `json:"text"`
	}
	s.json(&tok, "token", "add", name+"-shell", "--person", name)
	require.NotEmpty(s.t, tok.Text)
	return tok.Text
}

func uintText(n uint32) string { raw, _ := json.Marshal(n); return string(raw) }

// restore brings something back as somebody, and returns the run's outcome.
func (s *site) restore(token string, ask map[string]any) string {
	s.t.Helper()
	status, answer := s.call(token, "POST", "/api/v1/restores", ask)
	require.Equal(s.t, 202, status, answer)
	var run struct {
		ID      int64           `json:"id"`
		State   string          `json:"state"`
		Outcome string          `json:"outcome"`
		Result  json.RawMessage `json:"result"`
	}
	require.NoError(s.t, json.Unmarshal([]byte(answer), &run))
	_, answer = s.call(token, "GET", "/api/v1/runs/"+uintText(uint32(run.ID))+"?wait=30", nil)
	require.NoError(s.t, json.Unmarshal([]byte(answer), &run))
	require.Contains(s.t, run.State, "done", answer)
	return answer
}

// What a file owner brings back gains no rights that the file owner could not give: another's
// set-user-id program does not become one of the file owner's, and neither file capabilities
// nor attributes of the system's come back.
func TestOwnerGainsNoRights(t *testing.T) {
	base := openDir(t)
	share := filepath.Join(base, "share")
	own := filepath.Join(share, "own")
	require.NoError(t, os.MkdirAll(own, 0o777))
	require.NoError(t, os.Chmod(own, 0o777))
	s := serve(t, filepath.Join(base, "site"), "larkfield", share)
	helper, tool := filepath.Join(own, "helper"), filepath.Join(own, "tool")
	for path, uid := range map[string]int{helper: stranger + 1, tool: stranger} {
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/true\n"), 0o755))
		require.NoError(t, os.Chown(path, uid, uid))
	}
	require.NoError(t, unix.Chmod(helper, 0o6755))
	// set-user-id, permitted and effective
	capability := []byte{1, 0, 0, 2, 128, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}
	if err := unix.Setxattr(tool, "security.capability", capability, 0); err != nil {
		t.Skipf("this filesystem holds no capabilities: %v", err)
	}
	require.NoError(t, unix.Setxattr(tool, "trusted.mark", []byte("1"), 0))
	require.NoError(t, os.Chown(own, stranger, stranger))
	// What cannot be opened for reading comes back whole too.
	long, link := time.Unix(1_700_000_000, 0), filepath.Join(own, "link")
	require.NoError(t, os.Symlink("tool", link))
	require.NoError(t, os.Lchown(link, stranger, stranger))
	at := unix.Timespec{Sec: long.Unix()}
	require.NoError(t, unix.UtimesNanoAt(unix.AT_FDCWD, link, []unix.Timespec{at, at}, unix.AT_SYMLINK_NOFOLLOW))
	s.run("volume", "add", "notes", "--path", share)
	token := s.person("ines", stranger, "notes", "own")
	s.run("snapshot", "take", "notes")
	require.NoError(t, os.Remove(link))
	var taken []struct{ ID string }
	s.json(&taken, "snapshot", "list", "notes")
	require.NoError(t, os.Remove(helper))
	require.NoError(t, unix.Removexattr(tool, "security.capability"))
	require.NoError(t, unix.Removexattr(tool, "trusted.mark"))

	answer := s.restore(token, map[string]any{"volume": "notes", "at": "latest", "inPlace": true,
		"paths": []string{"own"}})
	st, err := os.Stat(helper)
	require.NoError(t, err)
	require.Zero(t, st.Mode()&(os.ModeSetuid|os.ModeSetgid), "%s", st.Mode())
	st, err = os.Lstat(link)
	require.NoError(t, err, answer)
	require.True(t, st.ModTime().Equal(long), "%s", st.ModTime())
	for _, name := range []string{"security.capability", "trusted.mark"} {
		_, err := unix.Getxattr(tool, name, make([]byte, 64))
		require.ErrorIs(t, err, unix.ENODATA, name)
	}
	// The service itself may.
	s.run("restore", "notes", "own", "--at", taken[0].ID, "--in-place")
	var is unix.Stat_t
	require.NoError(t, unix.Stat(helper, &is))
	require.EqualValues(t, stranger+1, is.Uid)
	require.EqualValues(t, 0o6755, is.Mode&0o7777)
	_, err = unix.Getxattr(tool, "security.capability", make([]byte, 64))
	require.NoError(t, err)
}

// A file owner takes back a restore of theirs after others went on working there: what others
// changed, made and took away since stays as they left it, and what the file owner has no
// grant for any more stays as well.
func TestUndoLeavesOthersWork(t *testing.T) {
	base := openDir(t)
	share := filepath.Join(base, "share")
	team := filepath.Join(share, "team")
	require.NoError(t, os.MkdirAll(team, 0o755))
	require.NoError(t, os.Chmod(team, 0o777))
	s := serve(t, filepath.Join(base, "site"), "larkfield", share)
	write := func(name, text string) {
		p := filepath.Join(team, name)
		require.NoError(t, os.WriteFile(p, []byte(text), 0o666))
		require.NoError(t, os.Chmod(p, 0o666))
	}
	for _, n := range []string{"report", "plan", "gone"} {
		write(n, "first")
		require.NoError(t, os.Chown(filepath.Join(team, n), stranger, stranger))
	}
	s.run("volume", "add", "notes", "--path", share)
	token := s.person("ines", stranger, "notes", "team")
	s.run("snapshot", "take", "notes")
	for _, n := range []string{"report", "plan", "gone"} {
		write(n, "spoilt by mistake")
	}
	answer := s.restore(token, map[string]any{"volume": "notes", "at": "latest", "inPlace": true,
		"paths": []string{"team"}})
	var run struct {
		ID int64 `json:"id"`
	}
	require.NoError(t, json.Unmarshal([]byte(answer), &run))
	// Others go on.
	write("report", "a day of others' work")
	write("new", "made by others")
	require.NoError(t, os.Remove(filepath.Join(team, "gone")))
	require.NoError(t, os.WriteFile(filepath.Join(team, "locked"), []byte("root's"), 0o600))

	status, answer := s.call(token, "POST", "/api/v1/runs/"+uintText(uint32(run.ID))+"/undo", nil)
	require.Equal(t, 202, status, answer)
	require.NoError(t, json.Unmarshal([]byte(answer), &run))
	_, answer = s.call(token, "GET", "/api/v1/runs/"+uintText(uint32(run.ID))+"?wait=30", nil)
	require.Contains(t, answer, "somebody else changed it since")
	require.Contains(t, answer, "paths that others changed since")
	read := func(name string) string {
		raw, err := os.ReadFile(filepath.Join(team, name))
		require.NoError(t, err)
		return string(raw)
	}
	require.Equal(t, "a day of others' work", read("report"))
	require.Equal(t, "made by others", read("new"))
	require.Equal(t, "root's", read("locked"))
	require.Equal(t, "spoilt by mistake", read("plan"), "what nobody touched is taken back")
	require.NoFileExists(t, filepath.Join(team, "gone"))

	// Without a grant nothing is taken back any more.
	s.run("person", "grant", "ines", "notes", "team", "--end")
	status, answer = s.call(token, "POST", "/api/v1/runs/"+uintText(uint32(run.ID))+"/undo", nil)
	require.GreaterOrEqual(t, status, 400, answer)
	require.Equal(t, "spoilt by mistake", read("plan"))
}
