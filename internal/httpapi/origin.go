package httpapi

import (
	"errors"
	"fmt"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"strings"

	"candidharbor/internal/pairing"
	"candidharbor/internal/site"
)

// fromOutside refuses what a page of somebody else's makes a browser send: requests that
// change something and come from another origin, and any that name a host which is not this
// site's. What comes by the socket or the line of a paired site is no browser's.
func fromOutside(s *site.Site, next http.Handler) http.Handler {
	origins := http.NewCrossOriginProtection()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, desk := pairing.RemoteCallerOf(r.Context()); desk || r.Context().Value(localKey) != nil {
			next.ServeHTTP(w, r)
			return
		}
		if !isHost(s, r.Host) {
			problem(w, http.StatusMisdirectedRequest, fmt.Sprintf("this site is not known as %q: where it is to be, add the "+
				"name to hosts: in site.yaml", r.Host))
			return
		}
		if err := origins.Check(r); err != nil {
			problem(w, http.StatusForbidden, "this was sent by a page of another origin; changes are taken from the site's "+
				"own console, and from programs")
			return
		}
		if err := jsonOnly(r); err != nil {
			problem(w, http.StatusUnsupportedMediaType, err.Error())
			return
		}
		next.ServeHTTP(w, r)
	})
}

// isHost reports whether a name is one of the site's. An address is always: nobody can make a
// browser believe that theirs is another.
func isHost(s *site.Site, host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.ToLower(strings.Trim(host, "[]"))
	if _, err := netip.ParseAddr(host); err == nil {
		return true
	}
	return s.IsHost(strings.TrimSuffix(host, "."))
}

var errNotJSON = errors.New("the body is to be JSON: send Content-Type: application/json")

// jsonOnly refuses bodies of the API that a form of any page could send.
func jsonOnly(r *http.Request) error {
	if r.Method == http.MethodGet || r.Method == http.MethodHead || r.ContentLength == 0 || !strings.HasPrefix(r.URL.Path,
		"/api/") {
		return nil
	}
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || kind != "application/json" && !strings.HasSuffix(kind, "+json") {
		return errNotJSON
	}
	return nil
}
