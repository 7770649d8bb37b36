package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/pairing"
	"candidharbor/internal/refusal"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
)

func (s *server) registerPeers(a huma.API) {
	huma.Register(a, op("GET", "/sites", "listSites", "Paired sites"), func(ctx context.Context,
		_ *none) (*body[[]api.Peer], error) {
		return answer(s.site.Pairing.Peers())
	})
	huma.Register(a, op("POST", "/sites/invitations", "invite", "Make an invitation for one other site", 201),
		func(ctx context.Context, in *struct {
			Body *api.InviteAsk
		}) (*secretBody[api.Invitation], error) {
			if in.Body == nil {
				in.Body = &api.InviteAsk{}
			}
			return answerSecret(s.site.Pairing.Invite(in.Body.Grants))
		})
	huma.Register(a, op("POST", "/sites", "pair", "Pair by an invitation", 201), func(ctx context.Context,
		in *body[api.PairAsk]) (*body[api.Peer], error) {
		return answerAt(s.site.Pairing.Pair(ctx, in.Body.Invitation, in.Body.Grants))
	})
	huma.Register(a, op("POST", "/sites/setup", "setUpSites", "Pair with several sites and open routes to them in one go"),
		func(ctx context.Context, in *body[api.SetUp]) (*body[api.SetUpResult], error) {
			return answerAt(s.site.SetUp(ctx, in.Body))
		})
	huma.Register(a, op("POST", "/sites/{name}/check", "checkSite", "Test a paired site"), func(ctx context.Context,
		in *named) (*body[api.PeerCheck], error) {
		return answerAt(s.site.Pairing.CheckPeer(ctx, in.Name))
	})
	huma.Register(a, op("POST", "/sites/{name}/addresses/check", "checkSiteAddresses",
		"Try every address of a paired site"), func(ctx context.Context, in *named) (*body[[]api.SiteAddress], error) {
		return answer(s.site.Pairing.AddressesOf(ctx, in.Name))
	})
	huma.Register(a, op("PUT", "/sites/{name}/addresses", "setSiteAddresses",
		"Say where a paired site is reached, beside what it says of itself"), func(_ context.Context, in *struct {
		Name string `path:"name"`
		Body api.SiteAddressesSet
	}) (*said, error) {
		return sentence(s.site.Pairing.SetAddresses(in.Name, in.Body.Addresses))
	})
	huma.Register(a, op("POST", "/sites/{name}/confirm", "confirmSite",
		"Say that of two sites with one key only one is left"), func(ctx context.Context, in *named) (*said, error) {
		return sentence(s.site.Pairing.ConfirmPeer(in.Name))
	})
	huma.Register(a, op("POST", "/sites/{name}/grants", "grant", "Let a paired site do more here"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.GrantAsk
		}) (*body[api.Peer], error) {
			return answerAt(s.site.Pairing.Grant(ctx, in.Name, in.Body))
		})
	huma.Register(a, op("POST", "/sites/{name}/revoke", "revoke",
		"Take grants back, or end the pairing when none is named"), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body api.RevokeAsk
	}) (*said, error) {
		return sentence(s.site.Pairing.Revoke(ctx, in.Name, in.Body.Grants))
	})
	huma.Register(a, op("GET", "/sites/{name}/pace", "paceWeek", "The limit towards a site at each hour of a week"),
		func(ctx context.Context, in *named) (*body[api.PaceWeek], error) {
			return answerAt(s.site.Pairing.PaceWeek(in.Name))
		})
	huma.Register(a, op("PUT", "/sites/{name}/pace", "setPace", "Replace the weekly calendar of limits towards a site"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.PaceSet
		}) (*body[api.Peer], error) {
			return answerAt(s.site.Pairing.SetPace(in.Name, in.Body))
		})
	huma.Register(a, op("POST", "/site/rotate", "rotateKey", "Give this site a new key, which paired sites learn first"),
		func(ctx context.Context, in *struct {
			Force bool `query:"force" doc:"also when a paired site cannot be told; it must be paired anew"`
		}) (*said, error) {
			return sentence(s.site.Pairing.Rotate(ctx, in.Force))
		})
	huma.Register(a, op("GET", "/routes", "listRoutes", "All routes"), func(ctx context.Context,
		_ *none) (*body[[]api.Route], error) {
		return answer(s.site.Routes.Routes())
	})
	huma.Register(a, op("POST", "/routes", "addRoute", "Open a route", 201), func(ctx context.Context,
		in *body[api.RouteAdd]) (*body[api.Route], error) {
		return answerAt(s.site.Routes.AddRoute(in.Body))
	})
	huma.Register(a, op("POST", "/routes/check", "checkRoute", "What a route would do, before it is opened"),
		func(ctx context.Context, in *body[api.RouteAdd]) (*body[api.RouteCheck], error) {
			return answerAt(s.site.Routes.CheckRoute(ctx, in.Body))
		})
	huma.Register(a, op("GET", "/routes/{name}", "getRoute", "One route"), func(ctx context.Context,
		in *named) (*body[api.Route], error) {
		return answerAt(s.site.Routes.Route(in.Name))
	})
	huma.Register(a, op("PATCH", "/routes/{name}", "editRoute", "Change what a route chooses, or its terms"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.RouteEdit
		}) (*body[api.Route], error) {
			return answerAt(s.site.Routes.EditRoute(in.Name, in.Body))
		})
	huma.Register(a, op("POST", "/routes/{name}/pause", "pauseRoute", "Stop a route; what it wants stays owed"),
		func(ctx context.Context, in *named) (*said, error) {
			return sentence(s.site.Routes.PauseRoute(in.Name))
		})
	huma.Register(a, op("POST", "/routes/{name}/resume", "resumeRoute", "Let a paused route go on"),
		func(ctx context.Context, in *named) (*said, error) {
			return sentence(s.site.Routes.ResumeRoute(in.Name))
		})
	huma.Register(a, op("GET", "/routes/{name}/traffic", "routeTraffic", "How a route went, oldest first"),
		func(ctx context.Context, in *struct {
			Name  string    `path:"name"`
			Since time.Time `query:"since" doc:"7 days ago when not given"`
		}) (*body[[]api.Traffic], error) {
			return answer(s.site.Routes.Traffic(in.Name, in.Since))
		})
	huma.Register(a, op("DELETE", "/routes/{name}", "removeRoute", "Close a route; what it carried stays"),
		func(ctx context.Context, in *named) (*said, error) {
			return sentence(s.site.Routes.RemoveRoute(in.Name))
		})
	huma.Register(a, op("POST", "/routes/{name}/runs", "runRoute", "Carry now", 202), func(ctx context.Context,
		in *named) (*body[api.Run], error) {
		return answer(s.site.Routes.RunRoute(in.Name, caller(ctx)))
	})
}

func (s *server) registerChosen(a huma.API) {
	huma.Register(a, op("POST", "/snapshots/carry", "carryChosen", "Carry chosen snapshots to another site, once", 202),
		func(ctx context.Context, in *body[api.CarryChosen]) (*body[api.Run], error) {
			return answer(s.site.Routes.CarryChosen(in.Body, caller(ctx)))
		})
	huma.Register(a, op("GET", "/incoming", "listIncoming", "What other sites bring here, by volume"),
		func(ctx context.Context, _ *none) (*body[[]api.Incoming], error) {
			return answer(s.site.Routes.Incoming())
		})
}

func (s *server) registerPlaces(a huma.API) {
	huma.Register(a, op("GET", "/places", "listPlaces", "Further places of this site, such as disks that come and go"),
		func(ctx context.Context, _ *none) (*body[[]api.Place], error) {
			return answer(s.site.Pairing.Places())
		})
	huma.Register(a, op("PUT", "/places/{name}", "attachPlace", "Open a further place in a directory of the host"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.PlaceAttach
		}) (*said, error) {
			return sentence(s.site.Pairing.Attach(in.Name, in.Body.Path))
		})
	huma.Register(a, op("POST", "/places/{name}/detach", "detachPlace",
		"Close a place so that its disk can be taken away"), func(ctx context.Context, in *named) (*said, error) {
		return sentence(s.site.Pairing.Detach(in.Name))
	})
}

func (s *server) registerCrates(a huma.API) {
	huma.Register(a, op("POST", "/crates", "writeCrate", "Write snapshots into a file on the site's host", 202),
		func(ctx context.Context, in *body[api.CrateWrite]) (*body[api.Run], error) {
			return answer(s.site.Routes.WriteCrate(in.Body, caller(ctx)))
		})
	huma.Register(a, op("GET", "/crates", "listCrate", "What is in a file of a crate"), func(ctx context.Context,
		in *struct {
			Path string `query:"path" required:"true"`
		}) (*body[api.Crate], error) {
		return answerAt(s.site.Routes.ListCrate(in.Path))
	})
	huma.Register(a, op("POST", "/crates/load", "loadCrate", "Take in the parts of a crate", 202),
		func(ctx context.Context, in *body[api.CrateLoad]) (*body[api.Run], error) {
			return answer(s.site.Routes.LoadCrate(in.Body, caller(ctx)))
		})
}

// deskRefuses says why another site may not ask for something; empty when it may. Even one
// that may configure makes no tokens, pairings and grants: those would outlive its own.
func deskRefuses(from pairing.RemoteCaller, here string, r *http.Request) string {
	path, ok := strings.CutPrefix(r.URL.Path, "/api/v1/")
	if !ok {
		return "another site may ask the API alone"
	}
	path = "/" + path
	for _, own := range []string{"/tokens", "/session", "/site/rotate", "/sites/invitations", "/mounts", "/clones",
		"/disks", "/disk-hosts", "/directories", "/uncovered", "/people", "/ledger", "/me", "/recovery",
		"/snapshots/remove-at-once", "/outlet"} {
		if strings.HasPrefix(path, own) {
			return "this is for people of this site alone"
		}
	}
	if strings.HasPrefix(path, "/sites") && r.Method != http.MethodGet && !strings.HasSuffix(path, "/pace") &&
		!strings.HasSuffix(path, "/check") || strings.Contains(path, "/desk/") {
		return "pairing and grants are for people of this site alone"
	}
	if from.Configure {
		return ""
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		return fmt.Sprintf("%s may look at %s, and not change anything there: a person there can let it, with candid site "+
			"grant %s configure", from.Site, here, from.Site)
	}
	if parts := strings.Split(path, "/"); len(parts) >= 4 && parts[1] == "volumes" && contents[parts[3]] ||
		slices.ContainsFunc([]string{"/crates", "/recipes", "/find", "/paths"}, func(p string) bool {
			return strings.HasPrefix(path, p)
		}) {
		return fmt.Sprintf("%s may look at everything of %s but contents: a person there can let it, with candid site "+
			"grant %s configure", from.Site, here, from.Site)
	}
	return ""
}

// contents are the ends of calls that show names or contents of files.
var contents = map[string]bool{"browse": true, "archive": true, "file": true, "find": true, "versions": true,
	"comparison": true, "ranges": true, "writes": true, "text-difference": true, "found": true}

// desk passes a request on to a paired site, which answers it within what it granted.
func (s *server) desk(w http.ResponseWriter, r *http.Request) {
	name := chi.URLParam(r, "name")
	rest := chi.URLParam(r, "*")
	if plain, err := url.PathUnescape(rest); err == nil && r.URL.RawPath != "" {
		rest = plain
	}
	person := callerIn(r.Context())
	after, err := s.recordAtDesk(person, r.Method, name, rest)
	if err != nil {
		problem(w, http.StatusInsufficientStorage, err.Error())
		return
	}
	watched := &statusWriter{ResponseWriter: w}
	defer func() { after(watched.status) }()
	tr := &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return s.site.Pairing.DialRemote(ctx, name)
	}}
	p := &httputil.ReverseProxy{Transport: tr, FlushInterval: -1,
		Rewrite: func(out *httputil.ProxyRequest) {
			out.Out.URL.Scheme, out.Out.URL.Host, out.Out.Host = "http", "desk", "desk"
			out.Out.URL.Path, out.Out.URL.RawPath = "/api/v1/"+rest, ""
			for _, h := range []string{"Authorization", "Cookie"} {
				out.Out.Header.Del(h)
			}
			out.Out.Header.Set(pairing.RemoteHeader, person.Name)
			out.Out.Header.Set(pairing.RemoteRoleHeader, person.Role)
		},
		ModifyResponse: func(resp *http.Response) error {
			resp.Header.Del("Set-Cookie")
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			var told *refusal.Error
			if errors.As(err, &told) {
				problem(w, statusOf(told), told.Error())
				return
			}
			problem(w, http.StatusBadGateway, fmt.Sprintf("site %s: %v", name, err))
		}}
	p.ServeHTTP(watched, r)
}
