// Package server gives the browser its interface and the API behind it.
//
// It listens on loopback and answers only to its own name: a request whose
// Host is not a loopback name, or that another page sends (its Origin is not
// this server), is refused, so that no other web page and no name that
// resolves to 127.0.0.1 can drive it. Pages carry a strict
// Content-Security-Policy, and no secret is ever sent.
//
// Rule: No other page drives Mill Gate.
package server

import (
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"path"
	"regexp"
	"strings"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"millgate/app"
	"millgate/app/fault"
	"millgate/app/view"
	"millgate/server/contract"
)

//go:embed all:dist
var dist embed.FS

// Server is the HTTP side of a workspace.
type Server struct {
	app  *app.App
	demo func() error // opens the demo
	log  *slog.Logger
}

// New makes a server. demo opens the demo declaration; it may be nil.
func New(a *app.App, demo func() error, log *slog.Logger) *Server {
	return &Server{app: a, demo: demo, log: log}
}

const policy = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; font-src 'self'; img-src " +
	"'self' data:; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"

// Handler is the whole server.
func (s *Server) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(s.recover, guard, headers)
	r.Get("/api/events", s.events)
	r.Group(func(r chi.Router) {
		r.Use(middleware.Compress(5))
		strict := contract.NewStrictHandlerWithOptions(s, nil, contract.StrictHTTPServerOptions{
			RequestErrorHandlerFunc: func(w http.ResponseWriter, _ *http.Request, err error) {
				problem(w, unreadable, http.StatusBadRequest, "the request cannot be read: "+err.Error())
			},
			ResponseErrorHandlerFunc: s.fail,
		})
		contract.HandlerWithOptions(strict, contract.ChiServerOptions{BaseRouter: r,
			ErrorHandlerFunc: func(w http.ResponseWriter, _ *http.Request, err error) {
				problem(w, unreadable, http.StatusBadRequest, err.Error())
			}})
		r.NotFound(s.static)
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, _ *http.Request) {
		problem(w, method, http.StatusMethodNotAllowed, "this method is not served here")
	})
	return r
}

func (s *Server) recover(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() { //nolint:contextcheck // it hands on the request's
			if v := recover(); v != nil {
				s.log.ErrorContext(r.Context(), "a request failed", "path", r.URL.Path, "why", fmt.Sprint(v))
				problem(w, internal, http.StatusInternalServerError,
					"an error in Mill Gate itself; nothing that was kept is "+
						"lost, and the log has the details")
			}
		}()
		next.ServeHTTP(w, r)
	})
}

func loopback(host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	host = strings.Trim(host, "[]")
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// guard lets only this server's own pages, and programs, in.
func guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		origin := r.Header.Get("Origin")
		site := r.Header.Get("Sec-Fetch-Site")
		switch {
		case !loopback(r.Host):
			problem(w, refused, http.StatusMisdirectedRequest, "this server answers to a loopback address only")
			return
		case origin != "" && origin != "http://"+r.Host, site == "cross-site", site == "same-site":
			problem(w, refused, http.StatusForbidden, "another page may not use this server")
			return
		}
		limit := int64(32 << 20)
		if r.URL.Path == "/api/tokens/audit" { // it is read as a stream
			limit = 8 << 30
		}
		r.Body = http.MaxBytesReader(w, r.Body, limit)
		next.ServeHTTP(w, r)
	})
}

func headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", policy)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// What goes wrong, by its type (RFC 9457). docs/api.md says what each means.
const (
	unreadable  = contract.ProblemTypeUrnMillgateProblemUnreadable
	notFound    = contract.ProblemTypeUrnMillgateProblemNotFound
	invalid     = contract.ProblemTypeUrnMillgateProblemInvalid
	input       = contract.ProblemTypeUrnMillgateProblemInput
	busy        = contract.ProblemTypeUrnMillgateProblemBusy
	unreachable = contract.ProblemTypeUrnMillgateProblemUnreachable
	refused     = contract.ProblemTypeUrnMillgateProblemRefused
	method      = contract.ProblemTypeUrnMillgateProblemMethod
	internal    = contract.ProblemTypeUrnMillgateProblemInternal
)

func problem(w http.ResponseWriter, of contract.ProblemType, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	// nobody is left to tell
	_ = json.NewEncoder(w).Encode(contract.Problem{Type: of, Title: http.StatusText(status), Status: status,
		Detail: detail})
}

// problems says which problem an error is, the first that it wraps.
var problems = []struct {
	err    error
	of     contract.ProblemType
	status int
}{
	{fault.ErrNotFound, notFound, http.StatusNotFound},
	{view.ErrNoProbe, notFound, http.StatusNotFound},
	{fault.ErrBusy, busy, http.StatusConflict},
	{fault.ErrInvalid, invalid, http.StatusUnprocessableEntity},
	{fault.ErrInput, input, http.StatusUnprocessableEntity},
	{fault.ErrUnreachable, unreachable, http.StatusBadGateway},
}

func (s *Server) fail(w http.ResponseWriter, r *http.Request, err error) {
	for _, p := range problems {
		if errors.Is(err, p.err) {
			problem(w, p.of, p.status, plain(err))
			return
		}
	}
	s.log.Error("a request failed", "path", r.URL.Path, "why", err.Error())
	problem(w, internal, http.StatusInternalServerError, plain(err))
}

// plain drops the sentinel's words where a sentence of its own follows.
func plain(err error) string {
	text := err.Error()
	for _, e := range []error{fault.ErrNotFound, fault.ErrInput, fault.ErrInvalid} {
		text = strings.TrimPrefix(text, e.Error()+": ")
	}
	return text
}

// compared is the place of two sweeps, whose dots are no ending of a file.
var compared = regexp.MustCompile(`^/sweeps/\d+\.\.\d+$`)

// static serves the web build; every place of the interface is its one page.
func (s *Server) static(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/api/") {
		problem(w, notFound, http.StatusNotFound, "there is nothing here")
		return
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		problem(w, method, http.StatusMethodNotAllowed, "this method is not served here")
		return
	}
	name := "dist" + path.Clean("/"+r.URL.Path)
	if r.URL.Path == "/" {
		name = "dist/index.html"
	}
	b, err := fs.ReadFile(dist, name)
	if err != nil {
		if path.Ext(name) != "" && !compared.MatchString(r.URL.Path) {
			problem(w, notFound, http.StatusNotFound, "there is nothing here")
			return
		}
		name = "dist/index.html"
		if b, err = fs.ReadFile(dist, name); err != nil {
			http.Error(w, "The interface is not built into this program. Build it with make build.",
				http.StatusNotFound)
			return
		}
	}
	if t := mime.TypeByExtension(path.Ext(name)); t != "" {
		w.Header().Set("Content-Type", t)
	}
	if strings.HasPrefix(name, "dist/assets/") {
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		w.Header().Set("Cache-Control", "no-cache")
	}
	_, _ = w.Write(b) // a browser that went away is not an error here
}
