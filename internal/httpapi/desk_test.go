package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"

	"candidharbor/internal/pairing"

	"github.com/stretchr/testify/require"
)

// Every call of the API is judged for sites that may see and for those that may configure:
// a call that is new fails this until someone has decided.
func TestWhatOtherSitesMayAsk(t *testing.T) {
	// Refused to whoever may only see, although they change nothing.
	contents := words("listFound browseFound listRecipes getRecipe browse find findAll listNamesRead locate " +
		"listVersions compare " +
		"compareText compareDisk diskWrites listCrate")
	// Refused to both.
	own := words("listDirectory listUncovered protectUncovered " +
		"confirmSite setSiteAddresses listOutlets getOutlet lookAtOutlet addOutlet removeOutlet getOutletKey " +
		"runOutlet pauseOutlet resumeOutlet " +
		"listDisks getDisk growDisk fillDisk endFillingDisk openDisk closeDisk releaseDisk " +
		"shareDisk listDiskHosts letHostIn turnHostAway " +
		"listClones makeClone makeClones getClone discardClone snapshotClone makeCloneVolume getMe " +
		"setOwnPassword setOwnTimes " +
		"listPeople addPerson changePerson removePerson grantFolders listLedger verifyLedger recoveryOrder " +
		"removeAtOnce " +
		"setRecoveryOrder addToken addSignInLink listTokens removeToken rotateKey invite pair grant revoke listMounts " +
		"addMount endMount setUpSites")
	// Nothing but these is seen; the rest changes something.
	seen := words(`listTrials listRunLifetimes listCatalogueCopies asOf explain getGroup getPolicy getRoute getRun getSite
		getSnapshot getSpace getStatus
		getTimeline listTimelines getToday getUsage getVolume listAlarms listCaps listGroups listHooks listIncoming
		getFirstSteps listPolicyExamples
		listPlaces listPolicies listPolicyVersions listRoutes listRuns listSites listSnapshots listAllSnapshots
		listVolumes paceWeek
		reportObjectives routeTraffic listRunbooks getRunbook listRunbookVersions listFailovers getFailover listDrills
		getDrill
		getAuthority listLeftBehind listAway`)
	spec, err := Spec()
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
		} `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(spec, &doc))
	var told []string
	for path, methods := range doc.Paths {
		for method, op := range methods {
			path := strings.NewReplacer("{name}", "find", "{id}", "17", "{policy}", "p", "{peer}", "p", "{place}", "p", "{kind}",
				"volume", "{what}", "x").Replace(path)
			r := httptest.NewRequest(strings.ToUpper(method), "/api/v1"+path, nil)
			sees, configures := deskRefuses(pairing.RemoteCaller{Site: "far"}, "here", r) == "",
				deskRefuses(pairing.RemoteCaller{Site: "far", Configure: true}, "here", r) == ""
			id := op.OperationID
			want := [2]bool{false, true}
			switch {
			case own[id]:
				want = [2]bool{false, false}
			case contents[id]:
			case method == "get" && seen[id]:
				want = [2]bool{true, true}
			case method == "get":
				told = append(told, fmt.Sprintf("%s %s %s is in no list: %v %v", method, path, id, sees, configures))
				continue
			}
			if want != [2]bool{sees, configures} {
				told = append(told, fmt.Sprintf("%s %s %s: sees %v, configures %v", method, path, id, sees, configures))
			}
		}
	}
	require.Empty(t, told)
	for _, list := range []map[string]bool{contents, own, seen} {
		for id := range list {
			require.Contains(t, string(spec), fmt.Sprintf("%q", id), "a call that is not there")
		}
	}
	for _, path := range []string{"/dav/", "/dav/notes/latest/a", "/", "/api/v1", "/api/v1/volumes/notes/archive",
		"/api/v1/volumes/notes/file"} {
		require.NotEmpty(t, deskRefuses(pairing.RemoteCaller{Site: "far"}, "here", httptest.NewRequest("GET", path, nil)),
			path)
	}
	require.NotEmpty(t, deskRefuses(pairing.RemoteCaller{Site: "far", Configure: true}, "here",
		httptest.NewRequest("PROPFIND", "/dav/", nil)))
}

func words(s string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(s) {
		out[w] = true
	}
	return out
}
