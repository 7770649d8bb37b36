package httpapi

import (
	"context"

	"candidharbor/api"

	"github.com/danielgtaylor/huma/v2"
)

// registerFailover lists the operations that are about which site is active.
func (s *server) registerFailover(a huma.API) {
	huma.Register(a, op("GET", "/runbooks", "listRunbooks", "Runbooks of this site, and whether they would work now"),
		func(context.Context, *none) (*body[[]api.Runbook], error) { return answer(s.site.Failover.Runbooks()) })
	huma.Register(a, op("PUT", "/runbooks", "putRunbook", "Store a runbook"),
		func(ctx context.Context, in *body[api.RunbookPut]) (*body[api.Runbook], error) {
			return answerAt(s.site.Failover.PutRunbook(in.Body.Body, caller(ctx)))
		})
	huma.Register(a, op("GET", "/runbooks/{name}", "getRunbook", "One runbook, and whether it would work now"),
		func(_ context.Context, in *named) (*body[api.Runbook], error) {
			return answerAt(s.site.Failover.Runbook(in.Name))
		})
	huma.Register(a, op("GET", "/runbooks/{name}/versions", "listRunbookVersions",
		"All versions of a runbook, newest first"),
		func(_ context.Context, in *named) (*body[[]api.Runbook], error) {
			return answer(s.site.Failover.RunbookHistory(in.Name))
		})
	huma.Register(a, op("DELETE", "/runbooks/{name}", "removeRunbook", "Forget a runbook; its versions stay"),
		func(ctx context.Context, in *named) (*said, error) {
			return sentence(s.site.Failover.RemoveRunbook(in.Name, caller(ctx)))
		})
	huma.Register(a, op("POST", "/runbooks/{name}/failover", "failover", "Take over what a runbook names, or tell what "+
		"that would mean", 202), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body api.FailoverAsk
	}) (*body[api.Failover], error) {
		return answerAt(s.site.Failover.Failover(ctx, in.Name, in.Body, caller(ctx)))
	})
	huma.Register(a, op("POST", "/runbooks/{name}/failback", "failback",
		"Bring home what was taken over by a runbook", 202),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.FailoverAsk
		}) (*body[api.Failover], error) {
			return answerAt(s.site.Failover.Failback(ctx, in.Name, in.Body, caller(ctx)))
		})
	huma.Register(a, op("GET", "/away", "listAway", "What of this site others took over, and could come home"),
		func(context.Context, *none) (*body[[]api.Away], error) { return answer(s.site.Failover.Away()) })
	huma.Register(a, op("GET", "/failovers", "listFailovers", "Moves of the active side, newest first"),
		func(context.Context, *none) (*body[[]api.Failover], error) {
			return answer(s.site.Failover.Failovers())
		})
	huma.Register(a, op("GET", "/failovers/{name}", "getFailover", "One move, by its id, or the last one by a runbook"),
		func(_ context.Context, in *named) (*body[api.Failover], error) {
			return answerAt(s.site.Failover.Show(in.Name))
		})
	huma.Register(a, op("POST", "/failovers/{name}/answer", "answerFailover",
		"Say that what a failover waits for is done"),
		func(ctx context.Context, in *named) (*said, error) {
			return sentence(s.site.Failover.Answer(in.Name, callerIn(ctx).Role, caller(ctx)))
		})
	huma.Register(a, op("DELETE", "/failovers/{name}", "cancelFailover", "Give up a failover that has moved nothing yet"),
		func(_ context.Context, in *named) (*said, error) { return sentence(s.site.Failover.Cancel(in.Name)) })
	s.registerDrills(a)
	huma.Register(a, op("GET", "/volumes/{name}/authority", "getAuthority", "Which site is active of a volume, and why"),
		func(_ context.Context, in *named) (*body[api.Authority], error) {
			return answerAt(s.site.Failover.Authority(in.Name))
		})
	huma.Register(a, op("POST", "/volumes/{name}/authority", "goOnAuthority",
		"Say that this site is the active one, where "+
			"that is in doubt"), func(ctx context.Context, in *named) (*body[api.Authority], error) {
		return answerAt(s.site.Failover.GoOn(in.Name, caller(ctx)))
	})
	huma.Register(a, op("GET", "/left-behind", "listLeftBehind", "Snapshots here without which another site took over"),
		func(_ context.Context, in *struct {
			Volume string `query:"volume" doc:"of one volume; none: of all"`
		}) (*body[[]api.LeftBehind], error) {
			return answer(s.site.Failover.LeftBehind(in.Volume))
		})
	huma.Register(a, op("DELETE", "/left-behind/{name}", "removeLeftBehind",
		"Keep a snapshot that was left behind no longer"),
		func(_ context.Context, in *named) (*said, error) {
			return sentence(s.site.Failover.LetLeftGo(in.Name))
		})
}
