package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/recovery"
	"candidharbor/internal/refusal"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) registerPeople(a huma.API) {
	huma.Register(a, op("GET", "/me", "getMe", "Who asks, and what that one may see"), func(ctx context.Context,
		_ *none) (*body[api.Me], error) {
		info, err := s.site.Info()
		if err != nil {
			return nil, fail(err)
		}
		c := callerIn(ctx)
		me := api.Me{Name: c.Name, Role: c.Role, Person: c.Person != "", Grants: []api.FolderGrant{}, Site: info.Name,
			Now: info.Now}
		if me.Times, err = s.site.Access.Times(c); err != nil {
			return nil, fail(err)
		}
		if c.Owner != nil {
			for volume, paths := range c.Owner.Grants {
				me.Grants = append(me.Grants, api.FolderGrant{Volume: volume, Paths: paths})
			}
			slices.SortFunc(me.Grants, func(a, b api.FolderGrant) int { return strings.Compare(a.Volume, b.Volume) })
		}
		return answer(me, nil)
	})
	huma.Register(a, op("PUT", "/me/times", "setOwnTimes", "Choose the zone and the form in which times are shown to who "+
		"asks"), func(ctx context.Context, in *body[api.Times]) (*body[api.Times], error) {
		c := callerIn(ctx)
		return answer(in.Body, s.site.Access.SetTimes(c, in.Body))
	})
	huma.Register(a, op("PUT", "/me/password", "setOwnPassword", "Change the password of who asks; signs out everywhere"),
		func(ctx context.Context, in *body[api.OwnPassword]) (*said, error) {
			c := callerIn(ctx)
			if c.Person == "" {
				return nil, huma.Error409Conflict("who asks is no person with a password")
			}
			return sentence("The password is changed. Sign in with it.", s.site.Access.SetOwnPassword(c.Person, in.Body.Old,
				in.Body.New, "me"))
		})
	huma.Register(a, op("GET", "/people", "listPeople", "Who may sign in"),
		func(context.Context, *none) (*body[[]api.Person], error) {
			return answer(s.site.Access.People())
		})
	huma.Register(a, op("POST", "/people", "addPerson", "Let someone sign in", 201),
		func(_ context.Context, in *body[api.PersonAdd]) (*body[api.Person], error) {
			return answerAt(s.site.Access.AddPerson(in.Body))
		})
	huma.Register(a, op("PATCH", "/people/{name}", "changePerson", "Change a person's role, password or ids"),
		func(_ context.Context, in *struct {
			Name string `path:"name"`
			Body api.PersonChange
		}) (*body[api.Person], error) {
			return answerAt(s.site.Access.ChangePerson(in.Name, in.Body))
		})
	huma.Register(a, op("POST", "/people/{name}/folders", "grantFolders",
		"Let a file owner see folders of a volume, or no longer"), func(_ context.Context, in *struct {
		Name string `path:"name"`
		Body api.FolderGrantAsk
	}) (*body[api.Person], error) {
		return answerAt(s.site.Access.GrantFolders(in.Name, in.Body))
	})
	huma.Register(a, op("DELETE", "/people/{name}", "removePerson", "Let someone sign in no more"),
		func(_ context.Context, in *named) (*said, error) {
			return sentence(in.Name+" is let in no more; the person's tokens and sessions have ended.",
				s.site.Access.RemovePerson(in.Name))
		})
	huma.Register(a, op("GET", "/ledger", "listLedger", "Who did what, newest first"), func(ctx context.Context,
		in *struct {
			Who    string `query:"who"`
			Text   string `query:"text" doc:"part of the act or of what it was about"`
			Before int64  `query:"before" doc:"cursor"`
			Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[api.Page[api.LedgerEntry]], error) {
		page, err := s.site.Access.Ledger(catalog.EntryFilter{Who: in.Who, Text: in.Text, Before: in.Before, Limit: in.Limit})
		if !seesNames(ctx) {
			for i := range page.Items {
				page.Items[i].About = unnamedAct(page.Items[i].Act, page.Items[i].About)
			}
			// What was found by a name that is not shown would tell of it.
			page.Items = slices.DeleteFunc(page.Items, func(e api.LedgerEntry) bool {
				return !strings.Contains(strings.ToLower(e.Act+"\x00"+e.About), strings.ToLower(in.Text))
			})
		}
		return answer(page, err)
	})
	huma.Register(a, op("POST", "/ledger/verify", "verifyLedger", "Whether the ledger is as it was written"),
		func(ctx context.Context, _ *none) (*body[api.LedgerProof], error) {
			return answerAt(s.site.Pairing.VerifyLedger(ctx))
		})
}

// callerIn is who asks; whoever came past auth is known.
func callerIn(ctx context.Context) *access.Caller {
	if c, ok := ctx.Value(callerKey).(*access.Caller); ok {
		return c
	}
	return &access.Caller{Name: "nobody"}
}

func caller(ctx context.Context) string { return callerIn(ctx).Name }

// eyes see what who asks may see.
func (s *server) eyes(ctx context.Context) *recovery.Viewer {
	return s.site.Recovery.ViewerFor(callerIn(ctx).Owner)
}

// who finds out who asks. An error says why that one is not let in.
func (s *server) who(r *http.Request) (*access.Caller, int, error) {
	if from, ok := pairing.RemoteCallerOf(r.Context()); ok {
		return deskCaller(from, s.site.Name(), r)
	}
	if r.Context().Value(localKey) != nil {
		return &access.Caller{Name: "the host's administrator", Role: access.Administrator, Via: "socket"}, 0, nil
	}
	if text, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return s.site.Access.ByText(text), 0, nil
	}
	if name, text, ok := r.BasicAuth(); ok { // what calendar programs and file managers can send
		if c := s.site.Access.ByText(text); c != nil || name == "" {
			return c, 0, nil
		}
		c, err := s.site.Access.ByPassword(name, text, addressOf(r))
		if err != nil && refusal.ClassOf(err) != refusal.Refused {
			return nil, statusOf(err), err
		}
		if err != nil {
			s.recordWrong(name)
		}
		return c, 0, nil
	}
	// sessions alone: they can be ended
	if c, err := r.Cookie(cookieName); err == nil && strings.HasPrefix(c.Value, "chs_") {
		return s.site.Access.ByText(c.Value), 0, nil
	}
	return nil, 0, nil
}

// deskCaller is a person at another site, who may there and here what both let.
func deskCaller(from pairing.RemoteCaller, here string, r *http.Request) (*access.Caller, int, error) {
	if why := deskRefuses(from, here, r); why != "" {
		return nil, http.StatusForbidden, errors.New(why)
	}
	c := &access.Caller{Name: from.Site, Role: r.Header.Get(pairing.RemoteRoleHeader), Via: "line"}
	if person := r.Header.Get(pairing.RemoteHeader); person != "" && len(person) < 200 {
		c.Name = person + " at " + from.Site
	}
	switch c.Role {
	case access.Administrator, access.Operator, access.Auditor:
		return c, 0, nil
	}
	return nil, http.StatusForbidden, fmt.Errorf("%s did not say in which role its person asks", from.Site)
}

func addressOf(r *http.Request) string {
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	return host
}

// auth lets in who comes by the socket or the line of a paired site, or shows a token, a
// session or a password.
func (s *server) auth(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, status, err := s.who(r)
		if err != nil {
			problem(w, status, err.Error())
			return
		}
		if c == nil {
			w.Header().Set("WWW-Authenticate", "Bearer")
			if strings.HasPrefix(r.URL.Path, davPrefix) {
				w.Header().Set("WWW-Authenticate", `Basic realm="Candid Harbor: your name and password, or any name and a token"`)
			}
			problem(w, http.StatusUnauthorized, "the token or password is missing or wrong: set CANDID_TOKEN to a token that "+
				"candid token add printed on the site's host")
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey, c)))
	})
}

func (s *server) signIn(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Token    string `json:"token"`
		Link     string `json:"link"`
		Name     string `json:"name"`
		Password string `json:"password"`
	}
	raw, err := readSoon(w, r, 4096)
	if err == nil {
		err = json.Unmarshal(raw, &in)
	}
	if err != nil {
		problem(w, http.StatusBadRequest, "the request is not JSON with a token, a link, or a name and a password")
		return
	}
	if _, desk := pairing.RemoteCallerOf(r.Context()); desk {
		problem(w, http.StatusForbidden, "people sign in at their own site")
		return
	}
	var text string
	var c *access.Caller
	if in.Name != "" {
		if text, c, err = s.site.Access.SignIn(in.Name, in.Password, addressOf(r)); err != nil {
			status := statusOf(err)
			if refusal.ClassOf(err) == refusal.Refused {
				status = http.StatusUnauthorized
				s.recordWrong(in.Name)
			}
			problem(w, status, err.Error())
			return
		}
	} else if in.Link != "" {
		if text, c, err = s.site.Access.SignInByLink(strings.TrimSpace(in.Link)); err != nil {
			problem(w, statusOf(err), err.Error())
			return
		} else if c == nil {
			problem(w, http.StatusUnauthorized, "This link was used already, or its time is over. On the site's host, candid "+
				"token link prints a new one.")
			return
		}
	} else if text, c, err = s.site.Access.SignInByToken(strings.TrimSpace(in.Token)); err != nil {
		problem(w, statusOf(err), err.Error())
		return
	} else if c == nil {
		problem(w, http.StatusUnauthorized, "This token is not one of this site. On the site's host, candid token add "+
			"NAME prints a new one.")
		return
	}
	if _, err := s.site.Access.Record(*c, "sign in", addressOf(r), ""); err != nil {
		problem(w, http.StatusInsufficientStorage, err.Error())
		return
	}
	http.SetCookie(w, &http.Cookie{Name: cookieName, Value: text, Path: "/", HttpOnly: true, Secure: r.TLS != nil,
		SameSite: http.SameSiteStrictMode, MaxAge: 14 * 24 * 3600})
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(map[string]string{"name": c.Name, "role": c.Role})
}

func (s *server) signOut(w http.ResponseWriter, r *http.Request) {
	if c, err := r.Cookie(cookieName); err == nil {
		if err := s.site.Access.SignOut(c.Value); err != nil {
			problem(w, http.StatusInternalServerError, err.Error())
			return
		}
	}
	http.SetCookie(w, &http.Cookie{Name: cookieName, Path: "/", HttpOnly: true, MaxAge: -1})
	w.WriteHeader(http.StatusNoContent)
}

// rateLimiter lets one thing of a kind through in a while: what a stranger can cause any number
// of times must not fill the ledger.
type rateLimiter struct {
	mu   sync.Mutex
	last map[string]time.Time
}

func (l *rateLimiter) first(key string, every time.Duration) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	if at, ok := l.last[key]; ok && now.Sub(at) < every {
		return false
	}
	if l.last == nil || len(l.last) > 10_000 {
		l.last = map[string]time.Time{}
	}
	l.last[key] = now
	return true
}

// recordWrong notes a wrong password, of names that nobody has once a minute for all.
func (s *server) recordWrong(name string) {
	key, every := "", time.Minute
	people, err := s.site.Access.People()
	if err == nil && slices.ContainsFunc(people, func(p api.Person) bool { return p.Name == name }) {
		key, every = name, time.Second
	}
	if s.wrong.first(key, every) {
		_, _ = s.site.Access.Record(access.Caller{Name: name, Via: "console"}, "sign in", "",
			"refused: the name or the password is wrong")
	}
}

// recordDAV notes that someone reads a moment by WebDAV, once an hour.
func (s *server) recordDAV(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := callerIn(r.Context())
		if !may(c.Role, "dav") {
			problem(w, http.StatusForbidden, refusalWords(c, "dav"))
			return
		}
		if parts := strings.SplitN(strings.TrimPrefix(r.URL.Path, davPrefix+"/"), "/", 3); r.Method == http.MethodGet &&
			len(parts) == 3 {
			what := davPrefix + "/" + parts[0] + "/" + parts[1]
			if s.davSeen.first(c.Name+" "+what, time.Hour) {
				if _, err := s.site.Access.Record(*c, "read by WebDAV", what, ""); err != nil {
					problem(w, http.StatusInsufficientStorage, err.Error())
					return
				}
			}
		}
		next.ServeHTTP(w, r)
	})
}

// ownName bounds lists of runs to those of a file owner; empty: all.
func ownName(ctx context.Context) string {
	if o := callerIn(ctx).Owner; o != nil {
		return o.Name
	}
	return ""
}

// ownRun refuses a file owner the runs of others.
func (s *server) ownRun(ctx context.Context, id int64) error {
	name := ownName(ctx)
	if name == "" {
		return nil
	}
	r, err := s.site.Run.Run(id)
	if refusal.ClassOf(err) == refusal.Missing || err == nil && r.AskedBy != name {
		return recovery.NoRun(id)
	}
	return err
}
