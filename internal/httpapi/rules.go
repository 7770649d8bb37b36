package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"candidharbor/internal/access"

	"github.com/danielgtaylor/huma/v2"
)

// rule says who may call an operation besides administrators, who may call everything, and
// whether it is an act, which the ledger has.
type rule struct {
	operator, auditor, owner bool
	act                      bool
}

var (
	looks    = rule{operator: true, auditor: true}          // records, without contents of files
	reads    = rule{operator: true}                         // names and contents of files
	readsOwn = rule{operator: true, owner: true}            // the same; of a file owner what that one may see
	fetches  = rule{operator: true, owner: true, act: true} // takes contents away, or brings them back
	// what keeps the daily work going; nothing that is kept goes sooner by it
	keepsUp   = rule{operator: true, act: true}
	plans     = rule{operator: true, auditor: true}              // computes, and changes nothing
	decides   = rule{act: true}                                  // for administrators alone
	everybody = rule{operator: true, auditor: true, owner: true} // about who asks alone
)

// rules has every operation of the API, and the calls that are not in its document.
var rules = map[string]rule{
	"getSite": looks, "listCatalogueCopies": looks, "getMe": everybody, "setOwnPassword": {true, true, true, true},
	"setOwnTimes": {true, true, true, true},

	"asOf": looks, "explain": looks, "getGroup": looks, "getPolicy": looks, "getSnapshot": looks, "getSpace": looks,
	"getStatus": looks, "getToday": looks, "getUsage": looks, "getVolume": looks, "getRoute": looks,
	"listAlarms": looks, "listCaps": looks, "listGroups": looks, "listHooks": looks, "listPlaces": looks,
	"listIncoming": looks, "getFirstSteps": looks, "listPolicyExamples": looks,
	"listPolicies": looks, "listPolicyVersions": looks, "listRoutes": looks, "listSites": looks,
	"listSnapshots": looks, "listAllSnapshots": looks,
	"listVolumes": looks, "listMounts": looks, "listFound": looks, "listClones": looks,
	"getClone": looks, "listRecipes": looks, "getRecipe": looks, "listTrials": looks, "paceWeek": looks,
	"recoveryOrder": looks, "reportObjectives": looks, "routeTraffic": looks, "calendar": looks, "desk": looks,
	"listLedger": {auditor: true}, "verifyLedger": {auditor: true}, "listPeople": {auditor: true},
	"listTokens": {auditor: true},

	"checkPolicy": plans, "diffPolicy": plans, "previewPolicy": plans, "planPrune": plans, "freeing": plans,
	"checkRoute": plans, "policySchema": plans,
	"listOutlets": looks, "getOutlet": looks, "getOutletKey": decides, "addOutlet": decides, "lookAtOutlet": decides,
	"removeOutlet": decides,
	"runOutlet":    keepsUp, "pauseOutlet": keepsUp, "resumeOutlet": keepsUp,
	"checkSite": {operator: true}, "checkSiteAddresses": {operator: true},

	"listCrate": reads, "compare": reads, "compareText": reads, "compareDisk": reads, "diskWrites": reads,
	"planGroupRestore": reads, "browseFound": reads,
	"browse": readsOwn, "find": readsOwn, "findAll": readsOwn, "locate": readsOwn,
	"listVersions": readsOwn, "planRestore": readsOwn, "listNamesRead": readsOwn,
	"listRunLifetimes": looks, "getTimeline": everybody, "listTimelines": everybody,
	"getRun": everybody, "listRuns": everybody, "events": everybody,
	"archive": fetches, "file": fetches, "restore": fetches, "undoRun": fetches, "cancelRun": fetches, "dav": readsOwn,

	"takeSnapshots": keepsUp,
	"takeSnapshot":  keepsUp, "keepSnapshot": keepsUp, "recallSnapshot": keepsUp, "runRoute": keepsUp,
	"pauseRoute": keepsUp, "resumeRoute": keepsUp, "muteAlarm": keepsUp, "testAlarm": keepsUp,
	"verify": keepsUp, "copyCatalogue": keepsUp, "sweep": keepsUp, "prune": keepsUp, "pauseVolume": keepsUp,
	"resumeVolume": keepsUp, "detachPlace": keepsUp, "addMount": keepsUp, "endMount": keepsUp, "runRecipe": keepsUp,
	"saveRecipe": keepsUp, "editRecipe": keepsUp, "removeRecipe": keepsUp, "tryRestore": keepsUp, "restoreGroup": keepsUp,
	"restoreSnapshots": keepsUp,
	"makeClone":        keepsUp, "makeClones": keepsUp, "discardClone": keepsUp, "snapshotClone": keepsUp,

	"listDisks": looks, "getDisk": looks, "openDisk": keepsUp, "closeDisk": keepsUp, "releaseDisk": keepsUp,
	"fillDisk": keepsUp, "endFillingDisk": keepsUp,
	"growDisk": decides, "shareDisk": decides, "listDiskHosts": looks, "letHostIn": decides, "turnHostAway": decides,

	"listRunbooks": looks, "getRunbook": looks, "listRunbookVersions": looks, "putRunbook": decides,
	"removeRunbook": decides, "failover": decides, "failback": decides, "listFailovers": looks, "getFailover": looks,
	"answerFailover": keepsUp, "cancelFailover": decides, "getAuthority": looks, "goOnAuthority": decides,
	"listDrills": looks, "getDrill": looks, "startDrill": keepsUp, "endDrill": keepsUp,
	"listLeftBehind": looks, "listAway": looks, "removeLeftBehind": decides,

	"addVolume": decides, "confirmVolume": decides, "removeVolume": decides, "setLabels": decides,
	"labelVolumes": decides, "changeVolume": decides,
	"admitSnapshots": decides, "setStandby": decides, "acceptRules": decides, "removeSnapshot": decides,
	"removeAtOnce": decides, "changeSnapshot": decides,
	"letGoSnapshot": decides,
	"putGroup":      decides, "editGroup": decides, "removeGroup": decides, "putPolicy": decides, "removePolicy": decides,
	"putCap": decides, "removeCap": decides, "rebuildCatalogue": decides, "releaseRemoval": decides,
	"addToken": decides, "addSignInLink": decides, "removeToken": decides,
	"addPerson": decides, "changePerson": decides, "removePerson": decides,
	"grantFolders": decides,
	"invite":       decides, "confirmSite": decides, "pair": decides, "setUpSites": decides, "grant": decides,
	"revoke":  decides,
	"setPace": decides, "rotateKey": decides, "addRoute": decides, "editRoute": decides, "removeRoute": decides,
	"writeCrate": decides, "carryChosen": decides, "loadCrate": decides, "setRecoveryOrder": decides,
	"attachPlace": decides, "putTrials": decides, "setRunLifetime": decides, "setSiteAddresses": decides,
	"protectUncovered": decides,
	"setFirstSteps":    decides, "describe": decides,
	"makeCloneVolume": decides, "setFound": decides, "takeFound": decides,
}

// may tells whether a role may call an operation. One without a rule is for administrators
// alone.
func may(role, operation string) bool {
	r, known := rules[operation]
	switch role {
	case access.Administrator:
		return true
	case access.Operator:
		return known && r.operator
	case access.Auditor:
		return known && r.auditor
	case access.FileOwner:
		return known && r.owner
	}
	return false
}

func refusalWords(c *access.Caller, operation string) string {
	var others []string
	for _, role := range []string{access.Operator, access.Auditor, access.FileOwner} {
		if may(role, operation) {
			others = append(others, role+"s")
		}
	}
	return fmt.Sprintf("%s may not do this in the role %s: it is for %s", c.Name, c.Role,
		strings.Join(append([]string{"administrators"}, others...), ", "))
}

// judge lets through what the caller's role may, and records acts before they are done.
func (s *server) judge(a huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		id := ctx.Operation().OperationID
		after, refused, err := s.admit(ctx.Context(), id, about(ctx.Context(), ctx.URL().Path, ctx.URL().RawQuery))
		if refused != "" {
			huma.WriteErr(a, ctx, http.StatusForbidden, refused)
			return
		}
		if err != nil {
			huma.WriteErr(a, ctx, http.StatusInsufficientStorage, err.Error())
			return
		}
		next(ctx)
		after(ctx.Status())
	}
}

// guard is judge for calls that are not in the document.
func (s *server) guard(id string, next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		after, refused, err := s.admit(r.Context(), id, about(r.Context(), r.URL.Path, r.URL.RawQuery))
		if refused != "" {
			problem(w, http.StatusForbidden, refused)
			return
		}
		if err != nil {
			problem(w, http.StatusInsufficientStorage, err.Error())
			return
		}
		watched := &statusWriter{ResponseWriter: w}
		next(watched, r)
		after(watched.status)
	}
}

type statusWriter struct {
	http.ResponseWriter
	status int
}

func (w *statusWriter) WriteHeader(status int) {
	if w.status == 0 {
		w.status = status
	}
	w.ResponseWriter.WriteHeader(status)
}

func (w *statusWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// admit decides on a call. The caller gives after the status with which the call ended.
func (s *server) admit(ctx context.Context, id, what string) (after func(status int), refused string, err error) {
	c := callerIn(ctx)
	if !may(c.Role, id) {
		refused = refusalWords(c, id)
		outcome, tell := s.refusals.tell(payer(ctx) + " " + id)
		if !tell {
			return nil, refused, nil
		}
		_, err := s.site.Access.Record(*c, id, what[:min(len(what), mostRefused)], outcome)
		return nil, refused, err
	}
	if !rules[id].act {
		return func(int) {}, "", nil
	}
	n, err := s.site.Access.Record(*c, id, what, "")
	return func(status int) {
		if status >= 400 {
			_, _ = s.site.Access.Record(*c, id, fmt.Sprintf("entry %d", n), fmt.Sprintf("refused or failed: %d %s", status,
				http.StatusText(status)))
		}
	}, "", err
}

// mostRefused bounds what the ledger has of a refused request.
const mostRefused = 200

// refusals counts what was refused, so that who is refused again and again fills no ledger:
// it records the first of each act of each caller, then the tenth, the hundredth and so on.
type refusals struct {
	mu sync.Mutex
	n  map[string]int
}

func (r *refusals) tell(key string) (outcome string, tell bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.n == nil || len(r.n) > 10_000 {
		r.n = map[string]int{}
	}
	r.n[key]++
	n := r.n[key]
	for next := 1; next <= n; next *= 10 {
		if next == n {
			tell = true
		}
	}
	outcome = "refused: the role may not"
	if n > 1 {
		outcome += fmt.Sprintf(", %d times since the service started", n)
	}
	return outcome, tell
}

type bodyKey struct{}

// mostBody bounds what a request may bring.
const mostBody = 4 << 20

// readSoon reads a body that is to be there within half a minute: who sends it byte by byte
// holds nothing open.
func readSoon(w http.ResponseWriter, r *http.Request, most int64) ([]byte, error) {
	c := http.NewResponseController(w)
	_ = c.SetReadDeadline(time.Now().Add(bodyWithin)) // where a connection has none, such as in a test
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, most))
	if err != nil { // the rest is not waited for either
		w.Header().Set("Connection", "close")
		return nil, err
	}
	_ = c.SetReadDeadline(time.Time{})
	return raw, nil
}

const bodyWithin = 30 * time.Second

// withBody keeps the body of a write for the ledger.
func withBody(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Body != nil {
			raw, err := readSoon(w, r, mostBody)
			var large *http.MaxBytesError
			if errors.As(err, &large) {
				problem(w, http.StatusRequestEntityTooLarge, "the request has more than 4 MiB")
				return
			}
			if err != nil {
				problem(w, http.StatusRequestTimeout, "the request did not come whole within half a minute")
				return
			}
			r.Body = io.NopCloser(bytes.NewReader(raw))
			r = r.WithContext(context.WithValue(r.Context(), bodyKey{}, raw))
		}
		next.ServeHTTP(w, r)
	})
}

// secrets are the fields that the ledger must not have.
var secrets = []string{"password", "old", "new", "invitation", "invitations", "token"}

// about tells what a call is about: its path, its query and its body but for secrets.
func about(ctx context.Context, path, query string) string {
	out := strings.TrimPrefix(path, "/api/v1")
	if query != "" {
		out += "?" + query
	}
	raw, _ := ctx.Value(bodyKey{}).([]byte)
	var fields map[string]any
	if len(raw) == 0 || json.Unmarshal(raw, &fields) != nil {
		return out
	}
	maps.DeleteFunc(fields, func(k string, v any) bool {
		return slices.Contains(secrets, strings.ToLower(k)) || v == nil // JSON fields are matched whatever their case
	})
	if text, err := json.Marshal(fields); err == nil && len(fields) > 0 {
		out += " " + string(text)
	}
	return out
}
