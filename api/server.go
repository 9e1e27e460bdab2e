// Package api serves the HTTP API, the proxies' endpoints, the live stream and
// the console.
package api

import (
	"cmp"
	"context"
	"crypto/tls"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control"
	"nightjar/control/fleet"
	"nightjar/control/members"
	"nightjar/control/people"
	"nightjar/control/problem"
	"nightjar/control/upgrades"
	"nightjar/core/release"
	"nightjar/identity"
	"nightjar/store"
)

const (
	maxBody = 24 << 20 // of a set of rule files as JSON
)

// Server is the HTTP side of the service.
type Server struct {
	control  *control.Control
	console  fs.FS
	log      *slog.Logger
	proxies  places     // of streams of snapshots
	people   places     // of all other streams
	watches  places     // of those who watch single requests
	echo     *echo.Echo // what people reach
	members  *echo.Echo // what proxies reach
	port     string     // where people reach it; see cookieName
	shown    func() (*tls.Certificate, error)
	liveMesh liveMesh
	lives    teamLives
	origins  http.CrossOriginProtection
	sample   atomic.Pointer[StandIns]

	// See SetTokens.
	reachable func(said string) (string, error)
	token     func(address, secret string) identity.Token
}

// StandIns are the stand-ins of a sample mesh.
type StandIns interface {
	List() []model.StandIn
	// Change changes an instance, or all of SERVICE~VERSION (or SERVICE/VERSION), and
	// returns all stand-ins.
	Change(ctx context.Context, which string, c model.StandInChange) ([]model.StandIn, error)
}

// noStandIns are those of a service without a sample mesh.
type noStandIns struct{}

func (noStandIns) List() []model.StandIn { return []model.StandIn{} }
func (noStandIns) Change(context.Context, string, model.StandInChange) ([]model.StandIn, error) {
	return nil, problem.Invalid("this service has no stand-ins: \"nightjar demo\" starts some")
}

// SetTokens names who makes join tokens of secrets. reachable is HOST:PORT where a proxy
// reaches the service; what a person says comes first.
func (s *Server) SetTokens(
	reachable func(said string) (string, error),
	token func(address, secret string) identity.Token,
) {
	s.reachable, s.token = reachable, token
}

// SetStandIns names the stand-ins that the API shows.
func (s *Server) SetStandIns(all StandIns) { s.sample.Store(&all) }

func (s *Server) standIns() StandIns {
	if all := s.sample.Load(); all != nil {
		return *all
	}
	return noStandIns{}
}

// document is the OpenAPI document, made from the operations by "make types".
//
//go:embed openapi.json
var document []byte

// New makes a server that people reach at an address; console holds the built console,
// with index.html.
func New(c *control.Control, console fs.FS, at net.Addr, log *slog.Logger) *Server {
	s := &Server{control: c, console: console, log: log, echo: echo.New()}
	s.liveMesh.source = func(ctx context.Context) (model.Mesh, error) { return c.Views.Mesh(ctx, liveWindow, 0, "") }
	s.proxies.most, s.people.most, s.people.each = maxProxyStreams, maxPeopleStreams, streamsEach
	s.watches.most, s.watches.each = maxPeopleStreams, watchesEach
	if tcp, isTCP := at.(*net.TCPAddr); isTCP {
		s.port = strconv.Itoa(tcp.Port)
	}
	s.echo.Logger = log
	s.echo.HTTPErrorHandler = s.fail
	s.echo.Use(s.guard)
	for _, op := range s.operations() {
		s.echo.Add(op.Method, "/api/v1"+op.Path, s.allow(op.ID, op.Needs, op.IsForTeams, op.handle))
	}
	s.echo.GET("/api/v1/openapi.json", func(c *echo.Context) error { return c.JSONBlob(http.StatusOK, document) })
	s.echo.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	s.echo.GET("/readyz", s.ready)
	s.echo.GET("/metrics", s.allow("metrics", people.Viewer, false, echo.WrapHandler(s.metrics())))
	s.echo.POST("/hooks/:secret", s.allow("hook", people.Anyone, true, s.hook))
	s.signOnPages()
	s.members = s.newMembers()
	s.echo.GET("/*", s.page, middleware.GzipWithConfig(middleware.GzipConfig{
		MinLength: 1024,
		Skipper: func(c *echo.Context) bool {
			path := c.Request().URL.Path // fonts are compressed already, and a part of a file is a part of the plain one
			return strings.HasSuffix(path, ".woff2") || c.Request().Header.Get("Range") != ""
		},
	}))
	return s
}

// readyTime is how long the check for /readyz may take.
const readyTime = 5 * time.Second

// ready tells whether the service can keep what it is told.
func (s *Server) ready(c *echo.Context) error {
	ctx, stop := context.WithTimeout(c.Request().Context(), readyTime)
	defer stop()
	if err := s.control.Ready(ctx); err != nil {
		return c.String(http.StatusServiceUnavailable, "not ready: "+err.Error()+"\n")
	}
	return c.String(http.StatusOK, "ready\n")
}

// Serve answers on l until ctx is done; then it ends streams and lets other
// requests finish, for drain at most. People connect by TLS, and on a loopback address
// without it too; proxies connect there by TLS.
func (s *Server) Serve(ctx context.Context, l net.Listener, drain time.Duration) error {
	both := newSplit(l)
	var serving sync.WaitGroup
	var plain, secure error
	open := http.Handler(s.echo)
	if !isLoopback(l.Addr()) {
		open = http.HandlerFunc(toSecure)
	}
	serving.Go(func() { plain = s.serve(ctx, open, both.plain, nil, drain) })
	serving.Go(func() { secure = s.serve(ctx, http.HandlerFunc(s.secure), both.secure, s.bothTLS(), drain) })
	err := both.run()
	serving.Wait()
	return errors.Join(err, plain, secure)
}

// ServeLocal answers on the socket of this machine, which Local made, as Serve does.
func (s *Server) ServeLocal(ctx context.Context, l net.Listener, drain time.Duration) error {
	return s.serve(ctx, s.echo, l, nil, drain)
}

// serve is Serve for one handler; secure is its TLS, nil: none.
func (s *Server) serve(
	ctx context.Context,
	h http.Handler,
	l net.Listener,
	secure *tls.Config,
	drain time.Duration,
) error {
	ending, begin := context.WithCancel(context.Background())
	defer begin()
	base, end := context.WithCancel(context.WithValue(context.Background(), endingKey{}, ending))
	defer end()
	srv := &http.Server{
		Handler:           h,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		BaseContext:       func(net.Listener) context.Context { return base },
		ConnContext:       withLocal,
		ErrorLog:          slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
	}
	failed := make(chan error, 1)
	go func() {
		if srv.TLSConfig = secure; secure != nil {
			failed <- srv.ServeTLS(l, "", "")
			return
		}
		failed <- srv.Serve(l)
	}()
	select {
	case err := <-failed:
		if errors.Is(err, net.ErrClosed) && ctx.Err() != nil {
			break // the listener that it shares with others is closed
		}
		return err
	case <-ctx.Done():
	}
	begin() // streams watch it
	limit, stop := context.WithTimeout(context.Background(), drain)
	defer stop()
	// Whoever still waits then, for proxies say, is told what there is to tell.
	defer time.AfterFunc(drain*3/4, end).Stop()
	if srv.Shutdown(limit) != nil {
		return srv.Close()
	}
	return nil
}

// guard refuses what a page of another site could make a browser send, bounds
// bodies, and sets the headers that every answer has.
func (s *Server) guard(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r, h := c.Request(), c.Response().Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set(
			"Content-Security-Policy",
			"default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
				"font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'",
		)
		host := r.Host
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		ip := net.ParseIP(strings.Trim(host, "[]"))
		if host != "localhost" && (ip == nil || !ip.IsLoopback()) && r.TLS == nil && localName(r) == "" {
			return failed(
				http.StatusMisdirectedRequest,
				"wrong-host",
				"this service answers for 127.0.0.1 and localhost, not for %s",
				r.Host,
			)
		}
		if s.origins.Check(r) != nil || isForeign(r) {
			return failed(
				http.StatusForbidden,
				"wrong-origin",
				"a page of %s may not read or change anything here: use the console of this service",
				cmp.Or(r.Header.Get("Origin"), "another site"),
			)
		}
		most := int64(maxBody)
		if r.URL.Path == "/api/v1"+programsPath {
			most = upgrades.MaxProgram // its handler knows who may send one
		}
		bound(c, most)
		return next(c)
	}
}

// isForeign tells whether a page of another site lets a browser call the API. Pages of
// the console may be linked to from anywhere.
func isForeign(r *http.Request) bool {
	if path := r.URL.Path; !strings.HasPrefix(path, "/api/") && path != "/metrics" {
		return false
	}
	switch r.Header.Get("Sec-Fetch-Site") {
	case "same-origin", "none": // none: somebody typed the address
		return false
	case "":
		from := r.Header.Get("Origin")
		return from != "" && from != "http://"+r.Host && from != "https://"+r.Host
	}
	return true
}

// failure is an error with its answer.
type failure struct{ model.Problem }

func (f *failure) Error() string { return f.Detail }

func failed(status int, code, format string, args ...any) *failure {
	return &failure{
		model.Problem{
			Type:   "about:blank",
			Title:  http.StatusText(status),
			Status: status,
			Code:   code,
			Detail: fmt.Sprintf(format, args...),
		},
	}
}

// asProblem turns any error of a handler into its answer.
func asProblem(err error) *failure {
	var (
		f        *failure
		rejected problem.RulesRejected
		conflict problem.RevisionConflict
		invalid  problem.InvalidRequest
		missing  problem.NotFound
		busy     problem.Busy
		taken    fleet.NameTaken
		unknown  fleet.NotRegistered
		refused  release.Refused
		stranger members.Refused
		refuses  problem.RefusesUsedLinks
		large    *http.MaxBytesError
		gone     store.FilesGone
		later    problem.NotReady
		status   echo.HTTPStatusCoder
	)
	answer := func(status int, code string) *failure { return failed(status, code, "%s", err.Error()) }
	if f := peopleProblem(err); f != nil {
		return f
	}
	switch {
	case errors.As(err, &f):
		return f
	case errors.As(err, &rejected):
		f = answer(http.StatusUnprocessableEntity, "rules-rejected")
		f.Findings = from.Findings(rejected.Findings)
		return f
	case errors.Is(err, store.ErrDraftChanged):
		return failed(
			http.StatusPreconditionFailed,
			"draft-changed",
			"the draft was changed elsewhere meanwhile, and stays as it is: read it again",
		)
	case errors.As(err, &conflict):
		return answer(http.StatusPreconditionFailed, "revision-conflict")
	case errors.As(err, &invalid):
		return answer(http.StatusUnprocessableEntity, "invalid")
	case errors.As(err, &missing), errors.Is(err, store.ErrNotFound):
		return answer(http.StatusNotFound, "not-found")
	case errors.As(err, &busy):
		return answer(http.StatusConflict, "busy")
	case errors.As(err, &refused):
		return answer(http.StatusConflict, "not-now")
	case errors.As(err, &taken):
		return answer(http.StatusConflict, "name-taken")
	case errors.As(err, &refuses):
		f = answer(http.StatusConflict, "refuses-used-links")
		f.Findings = from.Findings(refuses.Findings)
		return f
	case errors.As(err, &stranger):
		return answer(http.StatusForbidden, "not-yours")
	case errors.As(err, &unknown):
		return answer(http.StatusNotFound, "not-registered")
	case errors.As(err, &later):
		return answer(http.StatusServiceUnavailable, "not-ready")
	case errors.As(err, &gone), errors.Is(err, store.ErrDisk):
		return answer(http.StatusServiceUnavailable, "records")
	case errors.As(err, &large):
		return failed(
			http.StatusRequestEntityTooLarge,
			"too-large",
			"the body has more than %d bytes: send less",
			large.Limit,
		)
	case errors.As(err, &status) && status.StatusCode() < 500:
		return failed(
			status.StatusCode(),
			"request",
			"%s: see /api/v1/openapi.json",
			http.StatusText(status.StatusCode()),
		)
	}
	return failed(
		http.StatusInternalServerError,
		"internal",
		"the service could not do this because of a fault of its own: its log says more",
	)
}

func (s *Server) fail(c *echo.Context, err error) {
	f := asProblem(err)
	switch {
	case f.Code == tooManyStreams:
		// Its connection is wanted by others. Nobody reads a log line for each of a flood.
		c.Response().Header().Set("Connection", "close")
	case f.Status == http.StatusUnauthorized:
		c.Response().Header().Set("WWW-Authenticate", "Bearer realm=\"nightjar\"") // RFC 6750, section 3
	case f.Status == http.StatusTooManyRequests:
		c.Response().Header().Set("Retry-After", "60")
	case f.Status >= 500:
		s.log.Error("request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "error", err)
	}
	if r, _ := echo.UnwrapResponse(c.Response()); r != nil && r.Committed {
		return
	}
	b, _ := json.Marshal(f.Problem)
	c.Response().Header().Set("Content-Type", "application/problem+json")
	c.Response().WriteHeader(f.Status)
	c.Response().Write(append(b, '\n'))
}

// page serves the console: its files by name, and index.html for every path
// that is a page of it.
func (s *Server) page(c *echo.Context) error {
	path := strings.TrimPrefix(c.Request().URL.Path, "/")
	if strings.HasPrefix(path, "api/") || strings.HasPrefix(path, "mesh/v1/") {
		return failed(http.StatusNotFound, "not-found", "there is nothing at /%s: see /api/v1/openapi.json", path)
	}
	if info, err := fs.Stat(s.console, path); err == nil && !info.IsDir() {
		if strings.HasPrefix(path, "assets/") {
			c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		http.ServeFileFS(c.Response(), c.Request(), s.console, path)
		return nil
	}
	if slices.Contains([]string{"assets", "favicon.ico"}, strings.Split(path, "/")[0]) {
		return failed(http.StatusNotFound, "not-found", "there is nothing at /%s", path)
	}
	if _, err := fs.Stat(s.console, "index.html"); err != nil {
		return failed(http.StatusNotFound, "no-console", "this binary was built without the console: run make build")
	}
	c.Response().Header().Set("Cache-Control", "no-cache")
	http.ServeFileFS(c.Response(), c.Request(), s.console, "index.html")
	return nil
}
