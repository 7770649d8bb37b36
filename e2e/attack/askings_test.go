package attack

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"slices"
	"sort"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// schema is what matters here of a JSON schema.
type schema struct {
	Ref        string             `json:"$ref"`
	Type       any                `json:"type"`
	Format     string             `json:"format"`
	Enum       []any              `json:"enum"`
	Properties map[string]*schema `json:"properties"`
	Additional any                `json:"additionalProperties"`
	Required   []string           `json:"required"`
	Items      *schema            `json:"items"`
}

type operation struct {
	id, method, path string
	Parameters       []struct {
		Name, In string
		Required bool
		Schema   *schema
	}
	RequestBody struct {
		Content map[string]struct{ Schema *schema }
	}
}

// asker makes requests out of the API's own document, with names of what is there and is not.
type asker struct {
	ops     []operation
	schemas map[string]*schema
	words   map[string][]string // by the name of a parameter or field; "" for all others
	rng     *rand.Rand
	odd     float64 // how often something does not fit
}

func readSpec(t testing.TB, s *site) *asker {
	_, text := s.call(s.token, "GET", "/api/v1/openapi.json", nil)
	var doc struct {
		Paths      map[string]map[string]json.RawMessage
		Components struct{ Schemas map[string]*schema }
	}
	require.NoError(t, json.Unmarshal([]byte(text), &doc))
	a := &asker{schemas: doc.Components.Schemas}
	for path, methods := range doc.Paths {
		for method, raw := range methods {
			op := operation{method: strings.ToUpper(method), path: path}
			require.NoError(t, json.Unmarshal(raw, &op))
			var id struct{ OperationID string }
			require.NoError(t, json.Unmarshal(raw, &id))
			op.id = id.OperationID
			a.ops = append(a.ops, op)
		}
	}
	for _, form := range []string{"archive", "file"} { // which the document does not have
		var op operation
		require.NoError(t, json.Unmarshal([]byte(`{"parameters":[{"name":"name","in":"path"},
			{"name":"at","in":"query"},{"name":"path","in":"query"},{"name":"form","in":"query"}]}`), &op))
		op.id, op.method, op.path = form, "GET", "/volumes/{name}/"+form
		for i := range op.Parameters {
			op.Parameters[i].Schema = &schema{Type: "string"}
		}
		a.ops = append(a.ops, op)
	}
	sort.Slice(a.ops, func(i, k int) bool { return a.ops[i].id < a.ops[k].id })
	require.Greater(t, len(a.ops), 100)
	return a
}

// request is one that fits an operation, but for what is odd in it.
func (a *asker) request(op operation) (path string, body any) {
	path = op.path
	query := url.Values{}
	for _, p := range op.Parameters {
		switch {
		case p.In == "path":
			path = strings.ReplaceAll(path, "{"+p.Name+"}",
				url.PathEscape(fmt.Sprint(a.value(p.Name+" of "+op.path, p.Schema, 0))))
		case p.In == "query" && (p.Required || a.rng.IntN(2) == 0):
			v := a.value(p.Name, p.Schema, 0)
			if list, ok := v.([]any); ok {
				for _, one := range list {
					query.Add(p.Name, fmt.Sprint(one))
				}
			} else {
				query.Set(p.Name, fmt.Sprint(v))
			}
		}
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	for _, c := range op.RequestBody.Content {
		body = a.value("", c.Schema, 0)
	}
	return path, body
}

func (a *asker) value(name string, s *schema, depth int) any {
	if s == nil || depth > 6 {
		return nil
	}
	if s.Ref != "" {
		return a.value(name, a.schemas[s.Ref[strings.LastIndexByte(s.Ref, '/')+1:]], depth+1)
	}
	if a.rng.Float64() < a.odd {
		odd := []any{nil, true, -1, 1e300, "", strings.Repeat("x", 5000), []any{}, map[string]any{}, "\x00\u202e",
			"../../etc", int64(1) << 62}
		return odd[a.rng.IntN(len(odd))]
	}
	if len(s.Enum) > 0 {
		return s.Enum[a.rng.IntN(len(s.Enum))]
	}
	kind := fmt.Sprint(s.Type)
	switch {
	case strings.Contains(kind, "array"):
		out := []any{}
		for range a.rng.IntN(3) {
			out = append(out, a.value(name, s.Items, depth+1))
		}
		return out
	case strings.Contains(kind, "object"):
		out := map[string]any{}
		for _, k := range slices.Sorted(maps.Keys(s.Properties)) {
			if k != "$schema" && (slices.Contains(s.Required, k) || a.rng.IntN(2) == 0) {
				out[k] = a.value(k, s.Properties[k], depth+1)
			}
		}
		if len(s.Properties) == 0 && a.rng.IntN(2) == 0 {
			out["collection"] = "herbarium"
		}
		return out
	case strings.Contains(kind, "integer"), strings.Contains(kind, "number"):
		if w := a.words[name]; len(w) > 0 {
			if _, err := strconv.Atoi(w[0]); err == nil {
				return json.Number(w[a.rng.IntN(len(w))])
			}
		}
		return []int64{0, 1, 2, 7, 60, 3600, 1 << 31}[a.rng.IntN(7)]
	case strings.Contains(kind, "boolean"):
		return a.rng.IntN(2) == 0
	case s.Format == "date-time":
		return []string{"2026-03-04T14:05:00Z", "2031-01-01T00:00:00Z", "1900-01-01T00:00:00Z"}[a.rng.IntN(3)]
	}
	w := a.words[name]
	if len(w) == 0 {
		w = a.words[""]
	}
	return w[a.rng.IntN(len(w))]
}
