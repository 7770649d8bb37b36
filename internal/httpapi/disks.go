package httpapi

import (
	"context"

	"candidharbor/api"

	"github.com/danielgtaylor/huma/v2"
)

// registerDisks lists the operations on disks.
func (s *server) registerDisks(a huma.API) {
	huma.Register(a, op("GET", "/disks", "listDisks", "Disks that this site serves"),
		func(context.Context, *none) (*body[[]api.Disk], error) { return answer(s.site.Disks.Disks()) })
	huma.Register(a, op("GET", "/disks/{name}", "getDisk", "One disk, and who has it open"),
		func(_ context.Context, in *named) (*body[api.Disk], error) {
			return answerAt(s.site.Disks.Show(in.Name))
		})
	huma.Register(a, op("PUT", "/disks/{name}/size", "growDisk", "Make a disk larger"), func(ctx context.Context,
		in *struct {
			Name string `path:"name"`
			Body api.DiskGrow
		}) (*body[api.Disk], error) {
		return answerAt(s.site.Disks.Grow(ctx, in.Name, in.Body.SizeBytes))
	})
	huma.Register(a, op("POST", "/disks/{name}/fill", "fillDisk", "Bring what a disk reads from a snapshot into its image",
		202), func(ctx context.Context, in *named) (*body[api.Run], error) {
		return answer(s.site.Disks.Fill(in.Name, caller(ctx)))
	})
	huma.Register(a, op("DELETE", "/disks/{name}/fill", "endFillingDisk", "Take a copy's image away again"),
		func(ctx context.Context, in *named) (*body[api.Disk], error) {
			if err := s.site.Disks.EndFilling(ctx, in.Name); err != nil {
				return nil, fail(err)
			}
			return answerAt(s.site.Disks.Show(in.Name))
		})
	huma.Register(a, op("GET", "/volumes/{name}/writes", "diskWrites",
		"Where a disk was written from one snapshot to the next, the newest first"), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Last int    `query:"last" default:"24" minimum:"1" maximum:"200" doc:"as many snapshots"`
	}) (*body[[]api.DiskWrites], error) {
		return answer(s.site.Recovery.DiskWrites(ctx, in.Name, in.Last))
	})
	huma.Register(a, op("GET", "/volumes/{name}/ranges", "compareDisk",
		"In which bytes two moments of a disk differ, or a moment and now"), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		From string `query:"from" required:"true" doc:"RFC 3339, latest, or a snapshot's id"`
		To   string `query:"to" default:"now" doc:"the same, or now"`
	}) (*body[api.DiskComparison], error) {
		return answerAt(s.site.Recovery.CompareDisk(ctx, in.Name, in.From, in.To))
	})
	huma.Register(a, op("POST", "/disks/{name}/open", "openDisk", "Let clients open a disk"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body *api.DiskOpen
		}) (*body[api.Disk], error) {
			return answerAt(s.site.Disks.OpenDisk(ctx, in.Name, in.Body != nil && in.Body.Moved))
		})
	huma.Register(a, op("POST", "/disks/{name}/close", "closeDisk", "Keep clients from opening a disk"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.DiskClose
		}) (*body[api.Disk], error) {
			return answerAt(s.site.Disks.CloseDisk(ctx, in.Name, in.Body.Disconnect))
		})
	huma.Register(a, op("PUT", "/disks/{name}/shared", "shareDisk", "Let several clients write to a disk, or one alone"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.DiskShare
		}) (*body[api.Disk], error) {
			return answerAt(s.site.Disks.Share(ctx, in.Name, in.Body.Shared))
		})
	huma.Register(a, op("GET", "/disk-hosts", "listDiskHosts", "Hosts that open disks over the network"),
		func(context.Context, *none) (*body[[]api.DiskHost], error) { return answer(s.site.Disks.Hosts()) })
	huma.Register(a, op("PUT", "/disk-hosts/{name}", "letHostIn", "Let a host open disks over the network"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.DiskAccess
		}) (*secretBody[*api.DiskAccessGiven], error) {
			return answerSecret(s.site.Disks.LetIn(in.Name, in.Body, caller(ctx)))
		})
	huma.Register(a, op("DELETE", "/disk-hosts/{name}", "turnHostAway", "Let a host open disks no more"),
		func(_ context.Context, in *named) (*said, error) { return sentence(s.site.Disks.TurnAway(in.Name)) })
	huma.Register(a, op("POST", "/disks/{name}/release", "releaseDisk",
		"End the hold of a client that does not come back"),
		func(ctx context.Context, in *named) (*body[api.Disk], error) {
			return answerAt(s.site.Disks.Release(ctx, in.Name))
		})
}
