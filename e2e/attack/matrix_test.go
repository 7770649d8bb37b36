package attack

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// secretName is part of the names and contents of all that is not for everyone.
const secretName = "orchid-4711"

// manor is a site with work of all kinds, of which a file owner may see little.
type manor struct {
	*site
	base    string
	tokens  map[string]string
	foreign [2]string           // a snapshot and a run of the volume that is not granted
	words   map[string][]string // what is there, by the field that takes it
}

func openManor(t *testing.T) *manor {
	base := openDir(t)
	share := filepath.Join(base, "share")
	for path, text := range map[string]string{"notes/walks/page.txt": "a walk", "notes/" + secretName +
		"/list.txt": secretName, "vault/" + secretName + ".txt": secretName} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(share, path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(share, path), []byte(text), 0o644))
	}
	require.NoError(t, os.Mkdir(filepath.Join(share, "back"), 0o755))
	m := &manor{site: serve(t, filepath.Join(base, "site"), "larkfield", share), base: base}
	other := serve(t, filepath.Join(base, "other"), "stonewick", filepath.Join(base, "other"))
	for _, v := range []string{"notes", "vault"} {
		m.run("volume", "add", v, "--path", filepath.Join(share, v), "--label", "k="+v)
	}
	m.tokens = map[string]string{"administrator": m.token, "file owner": m.person("ines", 4500, "notes", "walks")}
	for name, role := range map[string]string{"marta": "operator", "tomas": "auditor"} {
		cmd := exec.Command(m.bin, "--site", "unix:"+filepath.Join(m.dir, "candid.sock"), "person", "add", name, "--role",
			role)
		cmd.Stdin = strings.NewReader("orchids in march\n")
		require.NoError(t, cmd.Run())
		var tok struct{ Text string }
		m.json(&tok, "token", "add", "of-"+name, "--person", name)
		m.tokens[role] = tok.Text
	}
	for _, v := range []string{"notes", "vault"} {
		m.run("snapshot", "take", v, "--note", "before the move")
	}
	policy := filepath.Join(base, "policy.yaml")
	require.NoError(t, os.WriteFile(policy, []byte("policy: nightly\nvolumes: {k: vault}\ntake: [daily at "+
		"03:00]\nkeep:\n  larkfield: {daily: 7}\n"), 0o644))
	m.run("policy", "put", policy)
	var inv struct{ Text string }
	m.json(&inv, "site", "invite", "--grant", "offer", "--grant", "see")
	other.run("site", "pair", inv.Text)
	m.run("route", "add", "away", "--to", "stonewick", "--volumes", "k=vault")
	m.run("group", "put", "both", "notes", "vault")
	m.run("recipe", "save", "again", "vault", secretName+".txt", "--to", filepath.Join(share, "back", "again"))
	m.run("restore", "vault", secretName+".txt", "--at", "latest", "--in-place")
	m.run("cap", "put", "volume", "vault", "--snapshots", "50")
	var snaps []struct{ ID string }
	m.json(&snaps, "snapshot", "list", "vault")
	var runs struct{ Items []struct{ ID int64 } }
	_, text := m.call(m.token, "GET", "/api/v1/runs", nil)
	require.NoError(t, json.Unmarshal([]byte(text), &runs))
	ids := []string{}
	for _, r := range runs.Items {
		ids = append(ids, fmt.Sprint(r.ID))
	}
	require.NotEmpty(t, ids)
	m.foreign = [2]string{snaps[0].ID, ids[0]}
	names := []string{"notes", "vault", "nightly", "away", "both", "again", "stonewick", "larkfield", "ines", "marta",
		"of-marta", "first", "gone"}
	paths := []string{"", "walks", "walks/page.txt", secretName, secretName + "/list.txt", secretName + ".txt", "..",
		"../vault", "/etc/passwd"}
	dirs := []string{share, filepath.Join(share, "back"), filepath.Join(share, "back", "new"),
		filepath.Join(share, "notes"), base, "/etc", "/nowhere", "relative"}
	moments := []string{"latest", snaps[0].ID, snaps[0].ID[:12], "2026-03-04T14:05:00Z", "2031-01-01T00:00:00Z",
		strings.Repeat("0", 64)}
	m.words = map[string][]string{
		"": append(append([]string{}, names...), "every 1 hour", "policy: x\nkeep: ["), "name": names,
		"volume": {"notes", "vault", "gone"}, "volumes": {"notes", "vault", "gone"},
		"path": append(paths, dirs...), "paths": paths, "to": append(dirs, moments...), "dir": dirs, "at": moments,
		"from": moments, "snapshot": moments, "snapshots": moments, "after": {"", "page.txt"},
		"pattern":          {"*", secretName + "*", "["},
		"id of /runs/{id}": ids, "id of /runs/{id}/cancel": ids, "id of /runs/{id}/undo": ids,
		"id of /alarms/{id}/mute": {"1", "2"}, "before": {"0", "5"}, "limit": {"1", "1000"}, "wait": {"0"},
		"days":     {"1", "30"},
		"password": {"orchids in march", "x"}, "role": {"operator", "administrator", "file owner", "gardener"},
		"body": {"policy: nightly\nvolumes: {k: vault}\ntake: [daily at 03:00]\nkeep:\n  larkfield: {daily: 9}\n",
			"policy: [", ""},
		"grants": {"offer", "read", "see", "configure", "nothing", "all"}, "address": {"127.0.0.1:1", "nowhere"},
		"form": {"tar", "zip"},
	}
	for _, op := range []string{"volumes", "snapshots", "routes", "clones", "groups", "recipes", "policies", "people",
		"tokens", "sites", "places"} {
		for _, rest := range []string{"", "/runs", "/found", "/browse"} {
			m.words["name of /"+op+"/{name}"+rest] = names
		}
	}
	for _, rest := range []string{"", "/keep", "/let-go", "/recall"} {
		m.words["id of /snapshots/{id}"+rest] = moments
	}
	return m
}

// state is all that an administrator sees of what was decided and what is kept.
func (m *manor) state() string {
	var out strings.Builder
	for _, path := range []string{"/volumes", "/policies", "/people", "/tokens", "/routes", "/sites", "/groups", "/caps",
		"/recipes", "/clones", "/mounts", "/places", "/trials", "/recovery/order",
		"/volumes/notes/snapshots", "/volumes/vault/snapshots", "/runs"} {
		status, text := m.call(m.token, "GET", "/api/v1"+path, nil)
		require.Equal(m.t, 200, status, path)
		var v any
		require.NoError(m.t, json.Unmarshal([]byte(text), &v))
		still(v)
		raw, err := json.Marshal(v)
		require.NoError(m.t, err)
		fmt.Fprintf(&out, "%s %s\n", path, raw)
	}
	return out.String()
}

// settled waits until no run goes on.
func (m *manor) settled() {
	require.Eventually(m.t, func() bool {
		_, text := m.call(m.token, "GET", "/api/v1/runs", nil)
		var runs struct{ Items []struct{ Ended *string } }
		require.NoError(m.t, json.Unmarshal([]byte(text), &runs))
		return !slices.ContainsFunc(runs.Items, func(r struct{ Ended *string }) bool { return r.Ended == nil })
	}, 30*time.Second, 20*time.Millisecond)
}

// moving are the fields that change with time alone.
var moving = map[string]bool{"up": true, "now": true, "sentence": true, "following": true, "lastOk": true, "rate": true,
	"nowBytes": true, "seenUntil": true, "watchedUntil": true}

// still takes out what changes by itself.
func still(v any) {
	switch v := v.(type) {
	case map[string]any:
		for k, one := range v {
			if moving[k] || strings.Contains(strings.ToLower(k), "seconds") {
				delete(v, k)
			} else {
				still(one)
			}
		}
	case []any:
		for _, one := range v {
			still(one)
		}
	}
}

// ofFiles are the calls that name files in volumes.
var ofFiles = map[string]bool{"browse": true, "find": true, "listVersions": true, "planRestore": true, "restore": true,
	"compare": true, "compareText": true, "planGroupRestore": true,
	"restoreGroup": true, "saveRecipe": true, "editRecipe": true, "archive": true, "file": true, "browseFound": true,
	"takeFound": true, "tryRestore": true}

// Every call of the API with bodies that fit it and others, by every role, about what belongs to
// others: what a role may not do changes nothing; what a file owner or an auditor gets has nothing
// of what is not for them; nothing fails in a way that nobody thought of.
func TestEveryCallAgainstOthers(t *testing.T) {
	m := openManor(t)
	a := readSpec(t, m.site)
	a.words = maps.Clone(m.words)
	seed := rand.Uint64()
	a.rng = rand.New(rand.NewPCG(seed, 1))
	t.Logf("seed %d", seed)
	refused := func(status int) bool { return status == http.StatusForbidden || status == http.StatusUnauthorized }
	ask := func(role string, op operation) (int, string, string) {
		for _, field := range []string{"path", "paths", "pattern"} {
			if a.words[field] = m.words[field]; !ofFiles[op.id] { // elsewhere they say where things are, which auditors see
				a.words[field] = []string{"walks", m.base}
			}
		}
		path, body := a.request(op)
		began := time.Now()
		status, answer := m.call(m.tokens[role], op.method, "/api/v1"+path, body)
		raw, _ := json.Marshal(body)
		what := fmt.Sprintf("%s %s %s by %s: %d %.300s", op.method, path, raw, role, status, answer)
		require.NotEqual(t, http.StatusInternalServerError, status, what)
		if took := time.Since(began); took > 5*time.Second {
			t.Logf("%s took %s", what, took)
		}
		return status, answer, what
	}
	rounds := rounds(4)
	may := map[string]map[string]bool{}
	for _, role := range []string{"file owner", "auditor", "operator"} {
		may[role] = map[string]bool{}
		for _, op := range a.ops {
			path := strings.NewReplacer("{name}", "zz", "{id}", "0", "{scope}", "zz").Replace(op.path)
			status, _ := m.call(m.tokens[role], op.method, "/api/v1"+path, "no object")
			may[role][op.id] = !refused(status)
		}
	}
	m.settled()
	before := m.state()
	for role := range may {
		for _, op := range a.ops {
			for n := 0; n < rounds && !may[role][op.id]; n++ {
				status, _, what := ask(role, op)
				require.True(t, refused(status) || status == http.StatusUnprocessableEntity, what)
			}
		}
		after := m.state()
		for i, line := range strings.Split(before, "\n") {
			require.Equal(t, line, strings.Split(after, "\n")[i], "what was refused to the role %s did something", role)
		}
	}
	for _, role := range []string{"file owner", "auditor"} {
		for _, op := range a.ops {
			if !may[role][op.id] || op.id == "setOwnPassword" {
				continue
			}
			for range 6 * rounds {
				_, answer, what := ask(role, op)
				// What was asked for may be said back.
				if !strings.Contains(what[:strings.Index(what, " by "+role)], secretName) {
					at := strings.Index(answer, secretName)
					require.Negative(t, at, "%s: %s", what, answer[max(0, at-200):min(len(answer), max(0, at)+100)])
				}
			}
		}
	}
	// What a file owner may not see is as if it were not there.
	foreign := map[string]string{"vault": "valut", m.foreign[0]: strings.Repeat("7", 64), m.foreign[1]: "98765"}
	for _, op := range a.ops {
		if !may["file owner"][op.id] || op.id == "setOwnPassword" || op.id == "getMe" {
			continue
		}
		for n := range 6 * rounds {
			var said [2]string
			for i := range said {
				a.words = maps.Clone(m.words)
				for key, words := range a.words {
					words = slices.Clone(words)
					for k, w := range words {
						for there, not := range foreign {
							if _, err := strconv.Atoi(w); strings.Contains(w, there) || err == nil && len(there) < 4 &&
								strings.HasPrefix(key, "id of /runs") {
								words[k] = map[int]string{0: there, 1: not}[i]
							}
						}
					}
					a.words[key] = words
				}
				a.rng = rand.New(rand.NewPCG(seed+uint64(n), 2))
				path, body := a.request(op)
				status, answer := m.call(m.tokens["file owner"], op.method, "/api/v1"+path, body)
				for there, not := range foreign {
					for _, name := range []string{there, not, there[:min(12, len(there))], not[:min(12, len(not))]} {
						answer = regexp.MustCompile(`\b`+name+`\b`).ReplaceAllString(answer, "NAME")
					}
				}
				if status == http.StatusAccepted { // each run has its number and its time
					answer = regexp.MustCompile(`"id":\d+|"queued":"[^"]*"`).ReplaceAllString(answer, "")
				}
				raw, _ := json.Marshal(body)
				said[i] = fmt.Sprintf("%d %s", status, answer)
				what := fmt.Sprintf("%s %s %s", op.method, path, raw)
				if i == 1 && said[0] != said[1] {
					assert.Fail(t, "a file owner can tell what is there", "%s\n%s\n%s", what, said[0], said[1])
				}
			}
		}
	}
	a.words, a.rng = maps.Clone(m.words), rand.New(rand.NewPCG(seed, 3))
	m.tokens["administrator"] = func() string { // one that no guess removes
		var tok struct{ Text string }
		m.json(&tok, "token", "add", "kept-for-"+secretName)
		return tok.Text
	}()
	a.odd = 0.1
	for range rounds {
		for _, role := range []string{"operator", "administrator"} {
			for _, i := range a.rng.Perm(len(a.ops)) {
				ask(role, a.ops[i])
			}
		}
	}
	require.NotContains(t, m.log.String(), "panic")
	m.soon("status")
}
