package httpapi

import (
	"context"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) registerRuns(a huma.API) {
	huma.Register(a, op("GET", "/runs", "listRuns", "Runs, newest first"), func(ctx context.Context, in *struct {
		State   string `query:"state" doc:"states, separated by commas"`
		Kind    string `query:"kind" doc:"such as snapshot, carry or restore"`
		Subject string `query:"subject"`
		Before  int64  `query:"before" doc:"cursor"`
		Limit   int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
	}) (*body[api.Page[api.Run]], error) {
		var states []string
		if in.State != "" {
			states = strings.Split(in.State, ",")
		}
		page, err := s.site.Run.Runs(catalog.RunFilter{States: states, Kind: in.Kind, Subject: in.Subject, Before: in.Before,
			Limit: in.Limit, By: ownName(ctx)})
		page.Items = unnamedRuns(ctx, page.Items)
		return answer(page, err)
	})
	huma.Register(a, op("GET", "/runs/{id}", "getRun", "One run with its log; wait holds the answer until it is over"),
		func(ctx context.Context, in *struct {
			ID   int64 `path:"id"`
			Wait int   `query:"wait" minimum:"0" maximum:"60" doc:"seconds"`
		}) (*body[api.Run], error) {
			if err := s.ownRun(ctx, in.ID); err != nil {
				return nil, fail(err)
			}
			if in.Wait > 0 {
				wctx, cancel := context.WithTimeout(ctx, time.Duration(in.Wait)*time.Second)
				defer cancel()
				if r, err := s.site.Run.Wait(wctx, in.ID); err == nil {
					return answer(unnamed(ctx, r), nil)
				}
			}
			r, err := s.site.Run.Run(in.ID)
			return answer(unnamed(ctx, r), err)
		})
	huma.Register(a, op("POST", "/runs/{id}/cancel", "cancelRun", "End a run at its next safe point"),
		func(ctx context.Context, in *struct {
			ID int64 `path:"id"`
		}) (*said, error) {
			if err := s.ownRun(ctx, in.ID); err != nil {
				return nil, fail(err)
			}
			return sentence("The run ends at its next safe point.", s.site.Run.Cancel(in.ID))
		})
	huma.Register(a, op("GET", "/run-lifetimes", "listRunLifetimes", "How long the records of runs stay, by kind"),
		func(context.Context, *none) (*body[[]api.RunLifetime], error) {
			return answer(s.site.Run.Lifetimes())
		})
	huma.Register(a, op("PUT", "/run-lifetimes", "setRunLifetime", "Say how long the records of a kind of runs stay"),
		func(_ context.Context, in *body[api.RunLifetimeSet]) (*body[api.RunLifetimeTold], error) {
			return answerAt(s.site.Run.SetLifetime(in.Body))
		})
}
