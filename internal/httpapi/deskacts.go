package httpapi

import (
	"fmt"
	"net/http"

	"candidharbor/internal/access"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
)

// operations finds which operation of the API a request is for, also when another site is to do it.
type operations struct {
	routes *chi.Mux
	ids    map[string]string // by method and pattern
}

func operationsOf(doc *huma.OpenAPI) *operations {
	o := &operations{routes: chi.NewRouter(), ids: map[string]string{}}
	for path, item := range doc.Paths {
		for method, op := range map[string]*huma.Operation{http.MethodPut: item.Put, http.MethodPost: item.Post,
			http.MethodDelete: item.Delete, http.MethodPatch: item.Patch} {
			if op != nil {
				o.routes.Method(method, path, http.NotFoundHandler())
				o.ids[method+" "+path] = op.OperationID
			}
		}
	}
	return o
}

func (o *operations) find(method, path string) (id string) {
	match := chi.NewRouteContext()
	if !o.routes.Match(match, method, path) {
		return ""
	}
	return o.ids[method+" "+match.RoutePattern()]
}

// recordAtDesk has the ledger of this site tell what a person here does at another one, whose own tells it too, before
// it is done. The caller gives after the status with which it ended.
func (s *server) recordAtDesk(c *access.Caller, method, site, path string) (after func(status int), err error) {
	id := s.operations.find(method, "/"+path)
	if !rules[id].act {
		return func(int) {}, nil
	}
	n, err := s.site.Access.Record(*c, id, fmt.Sprintf("at %s: /%s", site, path), "")
	return func(status int) {
		if status >= 400 {
			_, _ = s.site.Access.Record(*c, id, fmt.Sprintf("entry %d", n), fmt.Sprintf("refused or failed: %d %s", status,
				http.StatusText(status)))
		}
	}, err
}
