package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"

	"github.com/stretchr/testify/require"
)

// Every call of the API, by everyone who may ask: each role gets in exactly where it is said
// here. A call that is new is in none of these lists and fails this until someone decided.
func TestEveryCallForEveryRole(t *testing.T) {
	everybody := words("getMe setOwnPassword setOwnTimes getTimeline listTimelines getRun listRuns " +
		"cancelRun browse find findAll listNamesRead " +
		"locate listVersions " +
		"planRestore restore undoRun events archive file")
	records := words(`getSite listCatalogueCopies asOf explain getGroup getPolicy getSnapshot getSpace getStatus getToday
		getUsage getVolume getRoute listAlarms listCaps listGroups listHooks listPlaces listPolicies
		listPolicyVersions listRoutes listIncoming getFirstSteps listPolicyExamples listSites listSnapshots listAllSnapshots
		listVolumes listMounts listFound listClones getClone
		listDisks getDisk listDiskHosts listRecipes getRecipe listTrials listRunLifetimes paceWeek recoveryOrder
		reportObjectives routeTraffic
		checkPolicy diffPolicy previewPolicy planPrune freeing checkRoute calendar policySchema
		listRunbooks getRunbook listRunbookVersions listFailovers getFailover getAuthority listLeftBehind listAway
		listDrills getDrill listOutlets getOutlet`)
	notAuditors := words("browse find findAll listNamesRead locate listVersions " +
		"planRestore restore undoRun cancelRun archive file")
	operators := words(`restoreSnapshots
		browseFound restoreGroup planGroupRestore compare compareText compareDisk diskWrites listCrate
		runOutlet pauseOutlet resumeOutlet
		checkSite checkSiteAddresses
		 takeSnapshot takeSnapshots keepSnapshot recallSnapshot runRoute pauseRoute resumeRoute muteAlarm testAlarm
		verify copyCatalogue sweep prune pauseVolume resumeVolume detachPlace addMount endMount runRecipe
		saveRecipe editRecipe removeRecipe tryRestore makeClone makeClones discardClone snapshotClone openDisk closeDisk
		releaseDisk fillDisk endFillingDisk answerFailover startDrill endDrill`)
	auditors := words("listLedger verifyLedger listPeople listTokens")
	administrators := words(`putRunbook removeRunbook failover failback cancelFailover goOnAuthority removeLeftBehind
		addVolume growDisk shareDisk letHostIn turnHostAway
		confirmSite confirmVolume removeVolume setLabels labelVolumes changeVolume admitSnapshots
		setStandby acceptRules removeSnapshot removeAtOnce changeSnapshot letGoSnapshot
		putGroup editGroup removeGroup putPolicy removePolicy
		putCap removeCap rebuildCatalogue releaseRemoval addToken addSignInLink removeToken addPerson changePerson
		removePerson grantFolders invite pair setUpSites grant revoke setPace rotateKey addRoute editRoute removeRoute
		listDirectory listUncovered protectUncovered setFirstSteps describe
		carryChosen writeCrate loadCrate attachPlace setRecoveryOrder putTrials
		setRunLifetime setSiteAddresses getOutletKey lookAtOutlet
		addOutlet removeOutlet makeCloneVolume setFound takeFound`)

	c, s, _ := open(t)
	tokens := map[string]string{}
	for _, role := range []string{"administrator", "operator", "auditor", "file owner"} {
		uid := uint32(4000)
		name := strings.ReplaceAll(role, " ", "-")
		_, err := s.Access.AddPerson(api.PersonAdd{Name: name, Role: role, Password: "correct horse", UID: &uid,
			GIDs: []uint32{4000}})
		require.NoError(t, err)
		tok, err := s.Access.NewToken(api.TokenAdd{Name: "of-" + name, Person: name})
		require.NoError(t, err)
		tokens[role] = tok.Text
	}
	spec, err := Spec()
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
		} `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(spec, &doc))
	calls := map[string][2]string{"events": {"GET", "/events"}, "archive": {"GET", "/volumes/none/archive"},
		"file": {"GET", "/volumes/none/file"}, "calendar": {"GET", "/calendar"}, "policySchema": {"GET", "/policies/schema"}}
	for path, methods := range doc.Paths {
		for method, op := range methods {
			path := strings.NewReplacer("{name}", "none", "{id}", "17", "{scope}", "volume").Replace(path)
			calls[op.OperationID] = [2]string{strings.ToUpper(method), path}
		}
	}
	for id, call := range calls {
		may := map[string]bool{"administrator": true}
		switch {
		case everybody[id]:
			may = map[string]bool{"administrator": true, "operator": true, "auditor": !notAuditors[id], "file owner": true}
		case records[id]:
			may["operator"], may["auditor"] = true, true
		case operators[id]:
			may["operator"] = true
		case auditors[id]:
			may["auditor"] = true
		case !administrators[id]:
			t.Errorf("%s %s %s: nobody has decided who may call it", call[0], call[1], id)
			continue
		}
		tokens["nobody"] = "cht_0123456789abcdef"
		for role, token := range tokens {
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
			req, err := http.NewRequestWithContext(ctx, call[0], c.url+"/api/v1"+call[1], strings.NewReader("{}"))
			require.NoError(t, err)
			req.Header.Set("Authorization", "Bearer "+token)
			req.Header.Set("Content-Type", "application/json")
			resp, err := http.DefaultClient.Do(req)
			require.NoError(t, err, id)
			resp.Body.Close()
			cancel()
			if role == "nobody" {
				require.Equal(t, http.StatusUnauthorized, resp.StatusCode, id)
				continue
			}
			require.NotEqual(t, http.StatusUnauthorized, resp.StatusCode)
			require.Equal(t, may[role], resp.StatusCode != http.StatusForbidden, fmt.Sprintf("%s %s (%s) by %s: %d", call[0],
				call[1], id, role, resp.StatusCode))
		}
	}
	for _, list := range []map[string]bool{everybody, records, operators, auditors, administrators, notAuditors} {
		for id := range list {
			require.Contains(t, calls, id, "a call that is not there")
		}
	}
	// What was refused is in the ledger too, and the ledger holds.
	refused, err := s.Access.Ledger(catalog.EntryFilter{Who: "file-owner", Text: "rotateKey", Limit: 10})
	require.NoError(t, err)
	require.Equal(t, "refused: the role may not", refused.Items[0].Outcome)
	proof, err := s.Pairing.VerifyLedger(context.Background())
	require.NoError(t, err)
	require.True(t, proof.Whole, proof.Sentence)
}

// People come in by password, not by a wrong one, not by one too many; they are out as soon
// as they are removed or changed, and the ledger never has what lets them in.
func TestSigningIn(t *testing.T) {
	c, s, _ := open(t)
	admin := c.token
	status := c.call("POST", "/people", `{"name":"ines","role":"operator","password":"short"}`, nil, nil)
	require.Equal(t, 422, status)
	require.Equal(t, 201, c.call("POST", "/people", `{"name":"ines","role":"operator","password":"orchids in march"}`, nil,
		nil))
	signIn := func(password string) (int, string) {
		resp, err := http.Post(c.url+"/api/v1/session", "application/json",
			strings.NewReader(fmt.Sprintf(`{"name":"ines","password":%q}`, password)))
		require.NoError(t, err)
		defer resp.Body.Close()
		for _, k := range resp.Cookies() {
			require.True(t, k.HttpOnly && k.SameSite == http.SameSiteStrictMode)
			return resp.StatusCode, k.Value
		}
		return resp.StatusCode, ""
	}
	code, session := signIn("orchids in march")
	require.Equal(t, 200, code)
	c.token = session
	var me api.Me
	require.Equal(t, 200, c.call("GET", "/me", "", nil, &me))
	require.Equal(t, "ines operator", me.Name+" "+me.Role)
	code, _ = signIn("orchids in April")
	require.Equal(t, 401, code)

	// A changed password ends what was begun with the old one.
	require.Equal(t, 200, c.call("PUT", "/me/password", `{"old":"orchids in march","new":"lilies in november"}`, nil, nil))
	require.Equal(t, 401, c.call("GET", "/me", "", nil, nil))
	req, err := http.NewRequest("PROPFIND", c.url+"/dav/", nil)
	require.NoError(t, err)
	req.Header.Set("Depth", "1")
	req.SetBasicAuth("ines", "lilies in november")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	said, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	resp.Body.Close()
	require.Equal(t, 207, resp.StatusCode, string(said))

	for range 4 {
		code, _ = signIn("guessing away")
		require.Equal(t, 401, code)
	}
	signIn("guessing away")
	code, _ = signIn("lilies in november")
	require.Equal(t, http.StatusTooManyRequests, code, "the right one waits as well, or guessing would tell")

	c.token = admin
	require.Equal(t, 409, c.call("POST", "/tokens", `{"name":"ines"}`, nil, nil))
	c.call("POST", "/people", `{"name":"tom","role":"operator","Password":"tulips in may","PASSWORD":"tulips"}`, nil, nil)

	// What is listened to ends with the right to listen.
	var tok api.Token
	require.Equal(t, 201, c.call("POST", "/tokens", `{"name":"desk"}`, nil, &tok))
	req, err = http.NewRequest("GET", c.url+"/api/v1/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+tok.Text)
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancel()
	stream, err := http.DefaultClient.Do(req.WithContext(ctx))
	require.NoError(t, err)
	require.Equal(t, 200, stream.StatusCode)
	require.Equal(t, 200, c.call("DELETE", "/tokens/desk", "", nil, nil))
	require.Equal(t, 202, c.call("POST", "/prune", `{}`, nil, nil)) // something to listen to
	_, err = io.Copy(io.Discard, stream.Body)
	require.NoError(t, err, "it ended")
	stream.Body.Close()
	require.Equal(t, 200, c.call("DELETE", "/people/ines", "", nil, nil))
	all, err := s.Access.Ledger(catalog.EntryFilter{Limit: 100})
	require.NoError(t, err)
	text := fmt.Sprint(all)
	for _, secret := range []string{"orchids", "lilies", "guessing", "tulips", session, admin} {
		require.NotContains(t, text, secret)
	}
	require.Contains(t, text, `/people {"name":"ines","role":"operator"}`)
}
