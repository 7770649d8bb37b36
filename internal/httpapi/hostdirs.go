package httpapi

import (
	"context"

	"candidharbor/api"
	"candidharbor/internal/catalog"

	"github.com/danielgtaylor/huma/v2"
)

// registerHost lists what may be looked at of the host's directories.
func (s *server) registerHost(a huma.API) {
	huma.Register(a, op("GET", "/directories", "listDirectory",
		"What lies in a directory of the host, with sizes; without a path: the roots"),
		func(ctx context.Context, in *struct {
			Path string `query:"path"`
		}) (*body[api.HostDirectory], error) {
			return answerAt(s.site.Capture.Directory(ctx, in.Path))
		})
	huma.Register(a, op("GET", "/uncovered", "listUncovered",
		"Directories below the roots, and filesystems of the host, that no volume protects"),
		func(ctx context.Context, _ *none) (*body[api.Uncovered], error) {
			return answerAt(s.site.Capture.Uncovered(ctx))
		})
	huma.Register(a, op("POST", "/uncovered/protect", "protectUncovered",
		"Protect directories that nothing protects, each as a volume named after it"),
		func(ctx context.Context, in *body[api.ProtectUncovered]) (*body[api.UncoveredProtected], error) {
			return answerAt(s.site.Capture.ProtectUncovered(ctx, in.Body))
		})
	huma.Register(a, op("GET", "/first-steps", "getFirstSteps",
		"How far the site is on the way to a file brought back from another one"),
		func(context.Context, *none) (*body[api.FirstSteps], error) {
			return answerAt(s.site.Overview.FirstSteps())
		})
	huma.Register(a, op("PUT", "/first-steps", "setFirstSteps", "Put the first steps away, or show them again"),
		func(_ context.Context, in *body[api.FirstStepsSet]) (*body[api.FirstSteps], error) {
			return answerAt(s.site.Overview.SetFirstSteps(in.Body))
		})
	huma.Register(a, op("PUT", "/descriptions/{kind}/{name}", "describe",
		"Say what a policy, a route, a group or a site is for"), func(_ context.Context, in *struct {
		Kind string `path:"kind" enum:"policy,route,group,site"`
		Name string `path:"name"`
		Body api.Description
	}) (*body[api.Description], error) {
		return answerAt(s.site.Overview.Describe(catalog.Described(in.Kind), in.Name, in.Body))
	})
	huma.Register(a, op("GET", "/policies/examples", "listPolicyExamples",
		"Policies to begin with, written for this site"),
		func(context.Context, *none) (*body[[]api.PolicyExample], error) {
			info, err := s.site.Info()
			if err != nil {
				return nil, fail(err)
			}
			return answer(s.site.Rules.PolicyExamples(info.Zone))
		})
}
