// Package rest serves described tables over HTTP: collections, rows and
// relations as JSON, with keyset pages, related rows embedded on request and
// errors that tell what to do.
//
// A generated package makes a Shape of each table, which says how it looks
// from outside, and short handlers over the functions here: ReadList and
// SendList for collections, ReadKey and SendRow for single rows. Writes are
// functions of the generated package on a row within a transaction; Create,
// Replace, Change and Remove turn them into handlers. An API joins the routes,
// turns every error into a problem document, and is an http.Handler.
package rest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"beekeeping/store/gate"
)

// Handler answers a request; an error that it returns is sent as a problem.
type Handler func(w http.ResponseWriter, r *http.Request) error

// Route is a handler with its pattern of net/http, without the base path.
type Route struct {
	pattern string
	handle  Handler
}

// On routes requests for a pattern such as "GET /hives/{key}" to a handler.
func On(pattern string, h Handler) Route { return Route{pattern, h} }

// Resource is what an API knows of a shape apart from its types.
type Resource interface{ resource() *resource }

// Config says how an API is served.
type Config struct {
	Base    string // before all paths, such as /api
	DB      gate.DB
	OpenAPI []byte // the document at /openapi.json
	Open    bool   // may be reached from other machines

	RequireIfMatch bool // PUT, PATCH and DELETE must say which version they mean

	// Origins are those of the pages that may call the service from a browser,
	// such as https://bees.example; CORS is off without any.
	Origins []string
	Limits  Limits

	// Repeats is the table that keeps the answers to requests with an
	// Idempotency-Key: id, request and answer, which are texts, and made_at.
	// Without it the header means nothing.
	Repeats string

	// Identify finds out who sends a request: nil where it brings no
	// credentials, ErrCredentials where they are wrong. Without it anybody may
	// do everything.
	Identify func(r *http.Request) (*Identity, error)
	// Allow says by the paths of resources who may do what; the empty path
	// stands for all that are not named.
	Allow map[string]Allow
}

// Limits bound what requests may cost; zero is the default of each.
type Limits struct {
	Body      int64         // bytes of a body; 8 MiB
	Requests  int           // that are being answered at once; 512
	Statement time.Duration // that a statement may take; 30 seconds
}

func (l Limits) orDefaults() Limits {
	if l.Body <= 0 {
		l.Body = 8 << 20
	}
	if l.Requests <= 0 {
		l.Requests = 512
	}
	if l.Statement <= 0 {
		l.Statement = 30 * time.Second
	}
	return l
}

// API is a service: routes, and what is around them.
type API struct {
	config    Config
	mux       *http.ServeMux
	resources []*resource
	roles     []string // that the configuration speaks of
	sights    sights
	metrics   metrics
	unbounded gate.DB // whose statements take their time
}

// Part is a resource with its routes.
type Part struct {
	resource *resource
	routes   []Route
}

// Mount joins a resource and its routes.
func Mount(r Resource, routes []Route) Part { return Part{r.resource(), routes} }

// New makes a service of its parts.
func New(config Config, parts ...Part) (*API, error) {
	config.Limits = config.Limits.orDefaults()
	unbounded := config.DB
	if config.DB != nil {
		config.DB = gate.WithStatementTimeout(config.DB, config.Limits.Statement)
	}
	a := &API{config: config, unbounded: unbounded, mux: http.NewServeMux(), roles: config.rolesNamed()}
	for _, p := range parts {
		a.resources = append(a.resources, p.resource)
	}
	if err := a.connect(); err != nil {
		return nil, err
	}
	for path := range config.Allow {
		if path != "" && !slices.ContainsFunc(a.resources, func(r *resource) bool { return r.path == path }) {
			return nil, fmt.Errorf("access is configured for %s, which is no resource", path)
		}
	}
	for _, p := range parts {
		for _, r := range p.routes {
			if err := a.add(p.resource, r); err != nil {
				return nil, err
			}
		}
	}
	if err := a.add(nil, On("POST /batch", a.serveBatch)); err != nil {
		return nil, err
	}
	a.mux.HandleFunc("GET /openapi.json", a.serveOpenAPI)
	a.mux.HandleFunc("GET /health/live", func(w http.ResponseWriter, _ *http.Request) { sendHealth(w) })
	a.mux.HandleFunc("GET /health/ready", a.serveReady)
	a.mux.HandleFunc("GET /metrics", a.serveMetrics)
	return a, nil
}

// db is where a request reads and writes: within the transaction that it is part
// of, or the database.
func (a *API) db(ctx context.Context) gate.DB {
	if tx, ok := ctx.Value(txKey{}).(gate.DB); ok {
		return tx
	}
	return a.config.DB
}

// exportDB is db for what takes as long as whoever listens.
func (a *API) exportDB(ctx context.Context) gate.DB {
	if tx, ok := ctx.Value(txKey{}).(gate.DB); ok {
		return tx
	}
	return a.unbounded
}

// txKey finds the transaction of a context.
type txKey struct{}

// connect finds for each relation the resource that it leads to.
func (a *API) connect() error {
	for _, r := range a.resources {
		r.api = a
		for i := range r.relations {
			rel := &r.relations[i]
			at := slices.IndexFunc(a.resources, func(other *resource) bool { return other.info == rel.target })
			if at < 0 {
				return fmt.Errorf("relation %s of %s leads to table %s, which is no resource", rel.name, r.path, rel.target.Name)
			}
			rel.to = a.resources[at]
			if rel.referring {
				r.referredBy = append(r.referredBy, rel.to.path)
			}
		}
	}
	return nil
}

// add registers a route. A pattern that clashes with another makes net/http
// panic; the caller is told by an error.
func (a *API) add(res *resource, r Route) (err error) {
	defer func() {
		if clash := recover(); clash != nil {
			err = fmt.Errorf("route %q: %v", r.pattern, clash)
		}
	}()
	method, path, _ := strings.Cut(r.pattern, " ")
	a.mux.HandleFunc(method+" "+a.config.Base+path, func(w http.ResponseWriter, req *http.Request) {
		req.Body = http.MaxBytesReader(w, req.Body, a.config.Limits.Body)
		req, err := a.identify(req)
		if err == nil {
			err = a.once(w, req, r.handle)
		}
		if err != nil {
			a.problemOf(req.Context(), res, err).send(w, req)
		}
	})
	return nil
}

// ServeHTTP implements http.Handler.
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	start := time.Now()
	w.Header().Set("X-Content-Type-Options", "nosniff")
	if a.allowOrigin(w, r) {
		return
	}
	r = withTrace(r)
	out := &routed{ResponseWriter: w, request: r, api: a}
	defer func() {
		a.metrics.inFlight.Add(-1)
		a.metrics.add(r.Pattern, out.sent(), time.Since(start))
	}()
	if a.metrics.inFlight.Add(1) > int64(a.config.Limits.Requests) && strings.HasPrefix(r.URL.Path, a.config.Base+"/") {
		a.metrics.refused.Add(1)
		p := NewProblem(http.StatusServiceUnavailable, "too many requests are being answered just now; try again soon")
		p.retryAfter = "1"
		p.send(out, r)
		return
	}
	a.mux.ServeHTTP(out, r)
}

// routed is the answer to a request. What net/http itself says where no route
// matches is said as a problem.
type routed struct {
	http.ResponseWriter
	request *http.Request
	api     *API
	dropped bool
	status  int
}

// sent is the status that was sent.
func (w *routed) sent() int {
	if w.status == 0 {
		return http.StatusOK
	}
	return w.status
}

func (w *routed) WriteHeader(status int) {
	if w.status == 0 {
		w.status = status
	}
	if w.request.Pattern != "" || status != http.StatusNotFound && status != http.StatusMethodNotAllowed {
		w.ResponseWriter.WriteHeader(status)
		return
	}
	w.dropped = true
	w.Header().Del("Content-Type")
	w.api.serveUnrouted(w.ResponseWriter, w.request, status)
}

func (w *routed) Write(b []byte) (int, error) {
	if w.dropped {
		return len(b), nil
	}
	return w.ResponseWriter.Write(b)
}

// Unwrap is for http.ResponseController.
func (w *routed) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// serveUnrouted answers what no route matches: another path or another verb.
// Only net/http knows which verbs a path has; it writes them into Allow.
func (a *API) serveUnrouted(w http.ResponseWriter, r *http.Request, status int) {
	allow := w.Header().Get("Allow")
	switch {
	case status == http.StatusMethodNotAllowed && r.Method == http.MethodOptions:
		w.Header().Set("Allow", allow+", OPTIONS")
		w.WriteHeader(http.StatusNoContent)
	case status == http.StatusMethodNotAllowed:
		NewProblem(http.StatusMethodNotAllowed, "%s is not possible here; possible are %s", r.Method, allow).send(w, r)
	default:
		NewProblem(http.StatusNotFound, "%s", a.unknownPath(r.URL.Path)).send(w, r)
	}
}

func (a *API) unknownPath(path string) string {
	word, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(path, a.config.Base), "/"), "/")
	var known []string
	for _, r := range a.resources {
		if r.path == word {
			return "there is nothing at this path; /openapi.json lists the paths of " + word
		}
		known = append(known, r.path)
	}
	if len(known) > 20 {
		return "there is nothing at this path; /openapi.json lists all paths"
	}
	return "there is nothing at this path; below " + a.config.Base + "/ are " + strings.Join(known, ", ")
}

func (a *API) serveOpenAPI(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(a.config.OpenAPI))
}

func sendHealth(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "application/json")
	w.Write([]byte("{\"status\":\"ok\"}\n"))
}

func (a *API) serveReady(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := a.config.DB.Ping(ctx); err != nil {
		a.problemOf(ctx, nil, fmt.Errorf("%w: %w", gate.ErrUnavailable, err)).send(w, r)
		return
	}
	sendHealth(w)
}

// ListenAndServe serves the API at address, such as 127.0.0.1:8080, until ctx
// ends; requests that run then are finished. Unless the API is open it refuses
// an address that other machines can reach.
func (a *API) ListenAndServe(ctx context.Context, address string) error {
	if err := a.checkAddress(address); err != nil {
		return err
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("listening on %s: %w", address, err)
	}
	server := &http.Server{
		Handler:           a.forAddress(),
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       time.Minute,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
	}
	fmt.Fprintf(os.Stderr, "serving http://%s%s\n", listener.Addr(), a.config.Base)
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	select {
	case err := <-ended:
		return fmt.Errorf("serving: %w", err)
	case <-ctx.Done():
	}
	slog.Info("shutting down")
	grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if err := server.Shutdown(grace); err != nil {
		return errors.Join(fmt.Errorf("shutting down: %w", err), server.Close())
	}
	return nil
}

// forAddress is the API behind a check of the Host header, unless it is open: a
// page of another origin must not reach it under a name that leads here.
func (a *API) forAddress() http.Handler {
	if a.config.Open || a.config.Identify != nil {
		return a
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !isLoopback(r.Host) {
			NewProblem(http.StatusMisdirectedRequest, "this service answers only as localhost").send(w, r)
			return
		}
		a.ServeHTTP(w, r)
	})
}

// isLoopback reports whether a host, with or without a port, is this machine.
func isLoopback(host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// checkAddress keeps a service to which access is not configured from other
// machines.
func (a *API) checkAddress(address string) error {
	if a.config.Open || a.config.Identify != nil {
		return nil
	}
	if _, _, err := net.SplitHostPort(address); err != nil {
		return fmt.Errorf("the address %q should look like 127.0.0.1:8080: %w", address, err)
	}
	if isLoopback(address) {
		return nil
	}
	return fmt.Errorf("the address %s can be reached from other machines and anybody could read and write; use 127.0.0.1, or write `api: {access: open}` into widegate.yaml and run `widegate write`", address)
}
