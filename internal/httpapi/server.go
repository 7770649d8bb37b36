package httpapi

import (
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"candidharbor/internal/limit"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/site"
	"candidharbor/internal/views"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
)

//go:embed all:web
var web embed.FS

type contextKey int

const (
	localKey contextKey = iota
	callerKey
)

// LocalConn marks connections of a unix socket; give it to http.Server.ConnContext.
func LocalConn(ctx context.Context, c net.Conn) context.Context {
	if _, ok := c.(*net.UnixConn); ok {
		return context.WithValue(ctx, localKey, true)
	}
	return ctx
}

const cookieName = "candid_session"

// New returns the handler of a site.
func New(s *site.Site) http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, headers)
	srv := &server{site: s, costs: newCosts(1, costlyAtOnce, costlyWaiting),
		listings: newCosts(listingsAtOnce, 0, sendingWaiting), downloads: newCosts(downloadsAtOnce, 0, sendingWaiting),
		streams: limit.Places{Each: mostStreams}}
	r.Route("/api/v1", func(r chi.Router) {
		r.Use(times)
		r.Post("/session", srv.signIn)
		r.Delete("/session", srv.signOut)
		r.Group(func(r chi.Router) {
			r.Use(srv.auth)
			r.HandleFunc("/sites/{name}/desk/*", srv.guard("desk", srv.desk))
		})
		r.Group(func(r chi.Router) {
			r.Use(srv.auth, withBody, srv.idempotent)
			config := huma.DefaultConfig("Candid Harbor", "1")
			config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/openapi", "", ""
			config.CreateHooks = nil
			config.Servers = []*huma.Server{{URL: "/api/v1"}}
			a := humachi.New(r, config)
			a.UseMiddleware(srv.judge(a), srv.inTurn(a))
			srv.register(a)
			srv.operations = operationsOf(a.OpenAPI())
			r.Get("/events", srv.guard("events", srv.events))
			r.Get("/volumes/{name}/archive", srv.guard("archive", srv.sends(srv.downloads, srv.archive)))
			r.Get("/volumes/{name}/file", srv.guard("file", srv.sends(srv.downloads, srv.file)))
			r.Get("/calendar", srv.guard("calendar", srv.calendar))
			r.Get("/policies/schema", srv.guard("policySchema", func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", "application/schema+json")
				w.Write(policy.Schema)
			}))
		})
		r.NotFound(func(w http.ResponseWriter, r *http.Request) {
			problem(w, http.StatusNotFound, fmt.Sprintf("there is nothing at %s; /api/v1/openapi.json lists what there is",
				r.URL.Path))
		})
	})
	r.NotFound(console())
	shown := func(w http.ResponseWriter, r *http.Request) {
		views.DAV(srv.eyes(r.Context()).Views(), davPrefix, slog.Default()).ServeHTTP(w, r)
	}
	listing, chosenRun := srv.sends(srv.listings, shown), srv.sends(srv.downloads, shown)
	dav := headers(srv.auth(srv.recordDAV(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "PROPFIND" {
			listing(w, r)
		} else {
			chosenRun(w, r)
		}
	}))))
	return fromOutside(s, http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.URL.Path == davPrefix || strings.HasPrefix(q.URL.Path, davPrefix+"/") { // has methods that chi does not know
			dav.ServeHTTP(w, q)
			return
		}
		r.ServeHTTP(w, q)
	}))
}

// davPrefix is where WebDAV shows snapshots.
const davPrefix = "/dav"

// Spec returns the OpenAPI document as JSON, for generating clients.
func Spec() ([]byte, error) {
	config := huma.DefaultConfig("Candid Harbor", "1")
	config.CreateHooks = nil
	config.Servers = []*huma.Server{{URL: "/api/v1"}}
	api := humachi.New(chi.NewRouter(), config)
	(&server{}).register(api)
	return json.MarshalIndent(api.OpenAPI(), "", "  ")
}

func headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
			"frame-ancestors 'none'")
		next.ServeHTTP(w, r)
	})
}

func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]any{"status": status, "title": http.StatusText(status), "detail": detail})
}

type server struct {
	site                *site.Site
	operations          *operations
	turns               turns
	costs               *costs
	listings, downloads *costs
	streams             limit.Places
	refusals            refusals
	wrong               rateLimiter // wrong passwords
	davSeen             rateLimiter // moments read by WebDAV
}

// secret is the Cache-Control of answers that hold a token or an invitation. They are
// not kept for a repeated request: nothing of them is stored but a hash.
const secret = "no-store"

// turns lets requests with one key in one after the other.
type turns struct {
	mu   sync.Mutex
	busy map[string]chan struct{}
}

func (t *turns) take(key string) (done func()) {
	for {
		t.mu.Lock()
		ch, taken := t.busy[key]
		if !taken {
			if t.busy == nil {
				t.busy = map[string]chan struct{}{}
			}
			ch = make(chan struct{})
			t.busy[key] = ch
			t.mu.Unlock()
			return func() {
				t.mu.Lock()
				delete(t.busy, key)
				t.mu.Unlock()
				close(ch)
			}
		}
		t.mu.Unlock()
		<-ch
	}
}

type recorder struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (r *recorder) WriteHeader(status int) { r.status = status; r.ResponseWriter.WriteHeader(status) }
func (r *recorder) Write(b []byte) (int, error) {
	if r.status == 0 {
		r.status = http.StatusOK
	}
	r.body.Write(b)
	return r.ResponseWriter.Write(b)
}

// idempotent answers a repeated write with the answer it gave the first time.
func (s *server) idempotent(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get("Idempotency-Key")
		if key == "" || r.Method == http.MethodGet {
			next.ServeHTTP(w, r)
			return
		}
		if len(key) > 200 {
			problem(w, http.StatusBadRequest, "the idempotency key is longer than 200 characters")
			return
		}
		key = r.Method + " " + r.URL.Path + " " + caller(r.Context()) + " " + key
		turn := s.turns.take(key)
		defer turn()
		if old, err := s.site.Answer(key); err == nil && old != nil {
			w.Header().Set("Content-Type", old.Kind)
			w.WriteHeader(old.Status)
			w.Write(old.Body)
			return
		}
		rec := &recorder{ResponseWriter: w}
		next.ServeHTTP(rec, r)
		if rec.status < 500 && w.Header().Get("Cache-Control") != secret {
			_ = s.site.KeepAnswer(key, rec.status, w.Header().Get("Content-Type"), rec.body.Bytes())
		}
	})
}

// mostStreams is how many streams of events one caller may have; each page of the console that is
// open takes one.
const mostStreams = 24

// events streams changes as Server-Sent Events (WHATWG HTML §9.2).
func (s *server) events(w http.ResponseWriter, r *http.Request) {
	rc := http.NewResponseController(w)
	leave, ok := s.streams.Enter(payer(r.Context()))
	if !ok {
		problem(w, http.StatusTooManyRequests, fmt.Sprintf("%s has %d streams of events open already: close some of them",
			caller(r.Context()), mostStreams))
		return
	}
	defer leave()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	ch, end := s.site.Run.Subscribe()
	defer end()
	fmt.Fprint(w, ": connected\n\n")
	if rc.Flush() != nil {
		return
	}
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		select {
		case e := <-ch:
			if !s.stillIn(r) {
				return
			}
			if owner := callerIn(r.Context()).Owner; owner != nil && e.Run != nil && e.Run.AskedBy != owner.Name {
				continue
			}
			if e.Run != nil {
				one := unnamed(r.Context(), *e.Run)
				e.Run = &one
			}
			b, err := json.Marshal(e)
			if err != nil {
				return
			}
			fmt.Fprintf(w, "event: %s\ndata: %s\n\n", e.Topic, b)
		case <-beat.C:
			if !s.stillIn(r) {
				return
			}
			fmt.Fprint(w, ": still here\n\n")
		case <-r.Context().Done():
			return
		}
		if rc.Flush() != nil {
			return
		}
	}
}

// stillIn reports whether who was let in would be now: the person, the token or the session
// may have ended.
func (s *server) stillIn(r *http.Request) bool {
	c, _, err := s.who(r)
	return err == nil && c != nil
}

// calendar is the feed of coming snapshots and expiries for calendar programs.
func (s *server) calendar(w http.ResponseWriter, r *http.Request) {
	days := 30
	if text := r.URL.Query().Get("days"); text != "" {
		var err error
		if days, err = strconv.Atoi(text); err != nil {
			problem(w, http.StatusUnprocessableEntity, fmt.Sprintf("%q is not a number of days", text))
			return
		}
	}
	text, err := s.site.Overview.Calendar(days)
	if err != nil {
		problem(w, statusOf(err), err.Error())
		return
	}
	w.Header().Set("Content-Type", "text/calendar; charset=utf-8")
	io.WriteString(w, text)
}

func statusOf(err error) int {
	if errors.Is(err, context.Canceled) { // nobody waits for it any more
		return http.StatusRequestTimeout
	}
	switch refusal.ClassOf(err) {
	case refusal.Misuse:
		return http.StatusUnprocessableEntity
	case refusal.Missing:
		return http.StatusNotFound
	case refusal.Conflict:
		return http.StatusConflict
	case refusal.Full:
		return http.StatusInsufficientStorage
	case refusal.Elsewhere:
		return http.StatusBadGateway
	case refusal.Refused:
		return http.StatusForbidden
	case refusal.Busy:
		return http.StatusTooManyRequests
	}
	return http.StatusInternalServerError
}

// Answers that refuse a request do not repeat what was in it: it may hold a password, and be
// written down wherever answers are.
func init() {
	plain := huma.NewError
	huma.NewError = func(status int, msg string, errs ...error) huma.StatusError {
		for i, err := range errs {
			var d *huma.ErrorDetail
			if errors.As(err, &d) {
				errs[i] = &huma.ErrorDetail{Message: d.Message, Location: d.Location}
			}
		}
		return plain(status, msg, errs...)
	}
}

// fail turns an error of the site into a problem (RFC 9457).
func fail(err error) error {
	if err == nil {
		return nil
	}
	var ps policy.Problems
	if errors.As(err, &ps) {
		details := make([]error, len(ps))
		for i, p := range ps {
			details[i] = &huma.ErrorDetail{Message: p.What, Location: fmt.Sprintf("line %d, column %d", p.Line, p.Column)}
		}
		return huma.NewError(statusOf(err), err.Error(), details...)
	}
	return huma.NewError(statusOf(err), err.Error())
}

// console serves the built console; every path that is no file is one of its pages.
func console() http.HandlerFunc {
	files, err := fs.Sub(web, "web")
	if err != nil {
		panic(err)
	}
	serve := http.FileServerFS(files)
	return func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(r.URL.Path, "/")
		if st, err := fs.Stat(files, name); name != "" && err == nil && !st.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			serve.ServeHTTP(w, r)
			return
		}
		index, err := fs.ReadFile(files, "index.html")
		if err != nil {
			http.Error(w, "The console was not built into this program: run make build.", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		w.Write(index)
	}
}
