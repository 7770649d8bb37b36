package attack

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Everything that works in directories of others is done again and again while their owner swaps
// them for links to a directory that only root may enter: restores to a target and in place, what
// takes them back, clones, mounts, copies laid out, places attached, crates written and loaded.
// Nothing comes into that directory, nothing out of it, and nothing is mounted over it.
func TestRacesOutOfRoots(t *testing.T) {
	base := openDir(t)
	share := filepath.Join(base, "share")
	own, victim := filepath.Join(share, "own"), filepath.Join(share, "private")
	secret := filepath.Join(victim, "secret")
	require.NoError(t, os.MkdirAll(own, 0o755))
	require.NoError(t, os.Mkdir(victim, 0o700))
	require.NoError(t, os.WriteFile(secret, []byte("root's"), 0o600))
	for _, name := range flipped {
		require.NoError(t, os.Mkdir(filepath.Join(own, name), 0o755))
		require.NoError(t, os.Chown(filepath.Join(own, name), stranger, stranger))
	}
	page := filepath.Join(own, "vol", "secret") // of the name of root's
	require.NoError(t, os.WriteFile(page, []byte("the owner's"), 0o644))
	require.NoError(t, os.Chown(page, stranger, stranger))
	require.NoError(t, os.Chown(own, stranger, stranger))
	far := serve(t, filepath.Join(base, "far"), "larkfield", share)
	s := serve(t, filepath.Join(base, "site"), "stonewick", share)
	notes := filepath.Join(share, "notes")
	require.NoError(t, os.Mkdir(notes, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(notes, "page"), []byte("a page"), 0o644))
	far.run("volume", "add", "maps", "--path", notes, "--label", "k=v")
	far.run("snapshot", "take", "maps")
	var inv struct{ Text string }
	s.json(&inv, "site", "invite")
	far.run("site", "pair", inv.Text)
	far.run("route", "add", "to", "--to", "stonewick", "--volumes", "k=v")
	far.run("route", "run", "to")
	s.run("volume", "add", "notes", "--path", notes)
	s.run("volume", "add", "own", "--path", filepath.Join(own, "vol"))
	s.run("snapshot", "take", "notes")
	s.run("snapshot", "take", "own")
	var shots []struct{ ID string }
	s.json(&shots, "snapshot", "list", "notes")
	id := shots[0].ID
	s.run("crate", "write", filepath.Join(own, "crates", "whole"), "--snapshot", id)

	end := begin(t, as(t, stranger, "flip", own, victim))

	// do reports whether it was done, and the run that did it.
	do := func(method, path string, body any) (bool, int64) {
		status, answer := s.call(s.token, method, "/api/v1"+path, body)
		require.NotEqual(t, http.StatusInternalServerError, status, "%s %s: %s", method, path, answer)
		var run struct {
			ID    int64  `json:"id"`
			State string `json:"state"`
		}
		if json.Unmarshal([]byte(answer), &run) == nil && status == http.StatusAccepted {
			_, answer = s.call(s.token, "GET", fmt.Sprintf("/api/v1/runs/%d?wait=30", run.ID), nil)
			require.NoError(t, json.Unmarshal([]byte(answer), &run))
			return run.State == "done", run.ID
		}
		return status/100 == 2, 0
	}
	at := func(names ...string) string { return filepath.Join(append([]string{own}, names...)...) }
	acts := []struct {
		name string
		do   func(i int) bool
	}{
		{"restore", func(i int) bool {
			ok, _ := do("POST", "/restores", map[string]any{"volume": "notes", "at": "latest", "to": at("out", fmt.Sprint(i))})
			return ok
		}},
		{"restore in place and undo", func(i int) bool {
			ok, run := do("POST", "/restores", map[string]any{"volume": "own", "at": "latest", "inPlace": true})
			if run == 0 {
				return false
			}
			undone, _ := do("POST", fmt.Sprintf("/runs/%d/undo", run), nil)
			return ok && undone
		}},
		{"clone", func(i int) bool {
			ok, _ := do("POST", "/clones", map[string]any{"name": "c", "volume": "notes", "at": id, "dir": at("cln")})
			if ok {
				gone, _ := do("DELETE", "/clones/c?anyway=true", nil)
				require.True(t, gone)
			}
			return ok
		}},
		{"mount", func(i int) bool {
			ok, _ := do("POST", "/mounts", map[string]any{"volume": "notes", "dir": at("mnt")})
			if ok {
				gone, _ := do("DELETE", "/mounts?anyway=true&dir="+url.QueryEscape(at("mnt")), nil)
				require.True(t, gone)
			}
			return ok
		}},
		{"standby", func(i int) bool {
			ok, _ := do("PUT", "/volumes/maps@larkfield/standby", map[string]any{"mode": "exact",
				"dir": at("sby", fmt.Sprint(i))})
			_, _ = do("PUT", "/volumes/maps@larkfield/standby", map[string]any{"mode": "none"})
			return ok
		}},
		{"place", func(i int) bool {
			ok, _ := do("PUT", "/places/disk", map[string]any{"path": at("plc", "disk")})
			if ok {
				_, _ = do("POST", "/places/disk/detach", nil)
			}
			return ok
		}},
		{"crate", func(i int) bool {
			wrote, _ := do("POST", "/crates", map[string]any{"path": at("crates", fmt.Sprint(i)), "snapshots": []string{id}})
			read, _ := do("POST", "/crates/load", map[string]any{"paths": []string{at("crates", "whole")}})
			return wrote || read
		}},
	}
	holds := func(t *testing.T) {
		names, err := os.ReadDir(victim)
		require.NoError(t, err)
		require.Len(t, names, 1, "%v", names)
		var st unix.Stat_t
		require.NoError(t, unix.Stat(secret, &st))
		require.Equal(t, [3]uint32{0, 0, unix.S_IFREG | 0o600}, [3]uint32{st.Uid, st.Gid, st.Mode})
		text, err := os.ReadFile(secret)
		require.NoError(t, err)
		require.Equal(t, "root's", string(text))
		mounts, err := os.ReadFile("/proc/self/mountinfo")
		require.NoError(t, err)
		require.NotContains(t, string(mounts), victim)
	}
	did := map[string]int{}
	for _, act := range acts {
		t.Run(act.name, func(t *testing.T) {
			for i := range rounds(5) {
				if act.do(i) {
					did[act.name]++
				}
				if i%1000 == 999 {
					t.Logf("%d of them, %d done", i+1, did[act.name])
				}
				holds(t)
			}
		})
	}
	require.NoError(t, os.WriteFile(at("end"), nil, 0o644))
	t.Logf("%s; done nevertheless: %v", end(), did)
	for _, row := range s.ownStates(t) {
		require.NotContains(t, row, "root's")
	}
	s.soon("status")
}

// ownStates are the contents of the file "secret" in all snapshots of the volume own.
func (s *site) ownStates(t *testing.T) (texts []string) {
	var shots []struct{ ID string }
	s.json(&shots, "snapshot", "list", "own")
	require.NotEmpty(t, shots)
	for _, shot := range shots {
		_, text := s.call(s.token, "GET", "/api/v1/volumes/own/file?path=secret&at="+shot.ID, nil)
		texts = append(texts, text)
	}
	return texts
}
