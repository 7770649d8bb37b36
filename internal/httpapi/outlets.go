package httpapi

import (
	"context"

	"candidharbor/api"

	"github.com/danielgtaylor/huma/v2"
)

// registerOutlets has the calls about machines that do not run the service, where newest states lie as plain files.
func (s *server) registerOutlets(a huma.API) {
	huma.Register(a, op("GET", "/outlets", "listOutlets", "Directories of other machines with newest states"),
		func(context.Context, *none) (*body[[]api.Outlet], error) { return answer(s.site.Outlets.Outlets()) })
	huma.Register(a, op("POST", "/outlets", "addOutlet", "Lay newest states out at another machine, by SFTP", 201),
		func(ctx context.Context, in *body[api.OutletAdd]) (*body[api.Outlet], error) {
			return answerAt(s.site.Outlets.Add(ctx, in.Body))
		})
	huma.Register(a, op("GET", "/outlet-key", "getOutletKey", "What lets this site in at other machines"),
		func(context.Context, *none) (*body[api.OutletKey], error) { return answerAt(s.site.Outlets.Key()) })
	huma.Register(a, op("POST", "/outlet-host-key", "lookAtOutlet", "Which key a machine shows; nothing is sent to it"),
		func(ctx context.Context, in *body[api.OutletLook]) (*body[api.OutletHostKey], error) {
			return answerAt(s.site.Outlets.HostKey(ctx, in.Body))
		})
	huma.Register(a, op("GET", "/outlets/{name}", "getOutlet", "One outlet"),
		func(_ context.Context, in *named) (*body[api.Outlet], error) {
			return answerAt(s.site.Outlets.Outlet(in.Name))
		})
	huma.Register(a, op("DELETE", "/outlets/{name}", "removeOutlet", "Lay nothing more out there; what lies there stays"),
		func(_ context.Context, in *named) (*said, error) { return sentence(s.site.Outlets.Remove(in.Name)) })
	huma.Register(a, op("POST", "/outlets/{name}/runs", "runOutlet", "Bring an outlet up to date now", 202),
		func(ctx context.Context, in *struct {
			Name   string `path:"name"`
			Verify bool   `query:"verify" doc:"read back all that lies there, and put right what differs"`
		}) (*body[api.Run], error) {
			return answer(s.site.Outlets.Run(in.Name, caller(ctx), in.Verify))
		})
	huma.Register(a, op("POST", "/outlets/{name}/pause", "pauseOutlet", "Lay nothing out there until it is resumed"),
		func(_ context.Context, in *named) (*said, error) {
			return sentence(s.site.Outlets.Pause(in.Name, true))
		})
	huma.Register(a, op("POST", "/outlets/{name}/resume", "resumeOutlet", "Go on laying out"),
		func(_ context.Context, in *named) (*said, error) {
			return sentence(s.site.Outlets.Pause(in.Name, false))
		})
}
