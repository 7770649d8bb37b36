package httpapi

import (
	"context"

	"candidharbor/api"

	"github.com/danielgtaylor/huma/v2"
)

// registerDrills lists the operations that rehearse runbooks.
func (s *server) registerDrills(a huma.API) {
	huma.Register(a, op("POST", "/runbooks/{name}/drill", "startDrill", "Bring up what a runbook names as clones, apart "+
		"from all else", 202), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body api.DrillAsk
	}) (*body[api.Failover], error) {
		return answerAt(s.site.Failover.StartDrill(in.Name, in.Body, caller(ctx)))
	})
	huma.Register(a, op("GET", "/drills", "listDrills", "Drills, newest first"),
		func(context.Context, *none) (*body[[]api.Failover], error) { return answer(s.site.Failover.Drills()) })
	huma.Register(a, op("GET", "/drills/{name}", "getDrill", "The report of a drill, by its id, or of the last one by a "+
		"runbook"), func(_ context.Context, in *named) (*body[api.Failover], error) {
		return answerAt(s.site.Failover.Drill(in.Name))
	})
	huma.Register(a, op("POST", "/drills/{name}/end", "endDrill", "Take a drill away"),
		func(ctx context.Context, in *named) (*said, error) {
			return sentence(s.site.Failover.EndDrill(in.Name, caller(ctx)))
		})
}
