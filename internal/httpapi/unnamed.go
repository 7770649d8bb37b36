package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/pairing"
)

// seesNames reports whether who asks may be told the names of files. Auditors see what was done
// and by whom, and sites that may look at this one how it stands.
func seesNames(ctx context.Context) bool {
	if from, desk := pairing.RemoteCallerOf(ctx); desk && !from.Configure {
		return false
	}
	return callerIn(ctx).Role != access.Auditor
}

const unsaid = "what is said of it can name files, and is for operators"

// namesFiles are the kinds of runs whose outcome names files or directories that were chosen.
var namesFiles = []string{"restore", "undo", "recipe", "make volume", "settle", "take over", "trial"}

// unnamed takes out of a run what can name files.
func unnamed(ctx context.Context, r api.Run) api.Run {
	if seesNames(ctx) {
		return r
	}
	r.Log = nil
	if r.Kind != "prune" && r.Kind != "sweep" {
		r.Result = nil
	}
	if r.Outcome != "" && (!r.Worked() || slices.Contains(namesFiles, r.Kind)) {
		r.Outcome = unsaid
	}
	return r
}

func unnamedRuns(ctx context.Context, runs []api.Run) []api.Run {
	out := make([]api.Run, len(runs))
	for i, r := range runs {
		out[i] = unnamed(ctx, r)
	}
	return out
}

// unnamedRecipe takes out of a saved restore which files it brings back.
func unnamedRecipe(ctx context.Context, r *api.Recipe) {
	r.Runs = unnamedRuns(ctx, r.Runs)
	if !seesNames(ctx) && len(r.Restore.Paths) > 0 {
		r.Restore.Paths, r.Sentence = []string{howMany(len(r.Restore.Paths))}, unsaid
	}
}

// fileFields are the parts of requests that name files.
var fileFields = []string{"path", "paths", "pattern", "names"}

const notNamed = "(not shown)"

func howMany(n int) string { return fmt.Sprintf("(%d not shown)", n) }

// namesNone are acts whose paths and names are of volumes, folders that are granted, and places
// on the host, which auditors see elsewhere too.
var namesNone = map[string]bool{"addVolume": true, "setFound": true, "grantFolders": true, "grant": true,
	"addRoute": true, "editRoute": true, "putGroup": true, "editGroup": true,
	"attachPlace": true, "addMount": true, "makeClone": true, "setStandby": true, "writeCrate": true, "loadCrate": true}

// unnamedAct takes the names of files out of what an act was about.
func unnamedAct(act, about string) string {
	if namesNone[act] {
		return about
	}
	head, body, hasBody := strings.Cut(about, " {")
	where, query, hasQuery := strings.Cut(head, "?")
	if hasQuery {
		q, err := url.ParseQuery(query)
		if err != nil {
			q = url.Values{notNamed: nil}
		}
		for _, f := range fileFields {
			if q.Has(f) {
				q.Set(f, howMany(len(q[f])))
			}
		}
		where += "?" + q.Encode()
	}
	if !hasBody {
		return where
	}
	var fields map[string]any
	if json.Unmarshal([]byte("{"+body), &fields) != nil { // it was too long to be kept whole
		return where + " " + notNamed
	}
	unnamedFields(fields)
	text, err := json.Marshal(fields)
	if err != nil {
		return where + " " + notNamed
	}
	return where + " " + string(text)
}

func unnamedFields(fields map[string]any) {
	for k, v := range fields {
		if inner, ok := v.(map[string]any); ok {
			unnamedFields(inner)
		} else if slices.Contains(fileFields, strings.ToLower(k)) {
			n := 1
			if list, ok := v.([]any); ok {
				n = len(list)
			}
			fields[k] = howMany(n)
		}
	}
}
