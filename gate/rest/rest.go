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
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"widegate/gate"
)

// Handler answers a request; an error that it returns is sent as a problem.
type Handler = func(w http.ResponseWriter, r *http.Request) error

// Repeatable is a handler that gives the answer of before where its request is made
// again; it stores nothing then, and looks at access as it always does.
type Repeatable func(w http.ResponseWriter, r *http.Request) error

// Route is a handler with its pattern of net/http, without the base path.
type Route struct {
	pattern   string
	handle    Handler
	operation json.RawMessage // for the document

	may     func(ctx context.Context) error // whether who sends a request may make it
	call    bool                            // of a named query or routine
	repeats bool                            // it gives the answer of before itself where a request is made again
}

// On routes requests for a pattern such as "GET /hives/{key}" to a handler.
func On[H ~func(w http.ResponseWriter, r *http.Request) error](pattern string, h H) Route {
	_, repeats := any(h).(Repeatable)
	return Route{pattern: pattern, handle: Handler(h), repeats: repeats}
}

// Resource is what an API knows of a shape apart from its types.
type Resource interface{ resource() *resource }

// Config says how an API is served.
type Config struct {
	Base    string // before all paths, such as /api
	DB      gate.DB
	Replica gate.DB // a copy of DB for requests that only read; it may lag behind
	OpenAPI []byte  // the document at /openapi.json
	Docs    bool    // a page tells of it, at /docs
	// Document says who sees the document, its page and the metrics: ToAnybody,
	// ToNobody, or where it is empty, those who may use what they tell of.
	Document string
	Open     bool // may be reached from other machines

	Camel          bool // properties are called keeperId where columns are called keeper_id
	RequireIfMatch bool // PUT, PATCH and DELETE must say which version they mean

	// Origins are those of the pages that may call the service from a browser,
	// such as https://bees.example; CORS is off without any.
	Origins []string
	Limits  Limits

	// Repeats is the table that keeps the answers to requests with an
	// Idempotency-Key: id, request and answer, which are texts, and made_at.
	// Without it the header means nothing.
	Repeats string

	// Gather puts requests together where many come at once: single rows are read by
	// one statement, and single rows stored by one. It goes unused where hooks, rules
	// for rows or related rows are to be seen to, and where the database is in the
	// process of the service.
	Gather bool

	// Identify finds out who sends a request: nil where it brings no
	// credentials, ErrCredentials where they are wrong. Without it anybody may
	// do everything.
	Identify func(r *http.Request) (*Identity, error)
	KeysOnly bool // credentials are API keys, and no tokens are taken
	// Allow says by the paths of resources who may do what; the empty path
	// stands for all that are not named.
	Allow map[string]Allow
	// Calls says which roles may call a named query or routine, by its path.
	Calls map[string][]string

	// Versions are the earlier ones that are answered still.
	Versions []Version
}

// Limits bound what requests may cost; zero is the default of each.
type Limits struct {
	Body      int64         // bytes of a body; 8 MiB
	Requests  int           // that are being answered at once; 512
	Statement time.Duration // that a statement may take; 30 seconds
	Page      int           // rows of a page, where a request does not say; 50
	Rows      int           // the most rows of a page; 1,000
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
	if l.Rows <= 0 {
		l.Rows = 1000
	}
	if l.Page <= 0 {
		l.Page = 50
	}
	l.Page = min(l.Page, l.Rows)
	return l
}

// API is a service: routes, and what is around them.
type API struct {
	config    Config
	mux       *http.ServeMux
	patterns  map[string]bool // of the routes, without the base
	offered   map[string]bool // the same, as the parts give them
	resources []*resource
	roles     []string // that the configuration speaks of
	whole     *view    // of those who may do everything
	views     views
	metrics   metrics
	intake    intake
	origins   *http.CrossOriginProtection
	reads     gate.DB // for requests that only read
	unbounded gate.DB // the same, and statements take their time
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
	if config.Replica == nil {
		config.Replica = config.DB
	}
	unbounded := config.Replica
	if config.DB != nil {
		config.DB = gate.WithStatementTimeout(config.DB, config.Limits.Statement)
		config.Replica = gate.WithStatementTimeout(config.Replica, config.Limits.Statement)
	}
	origins, err := protection(config.Origins)
	if err != nil {
		return nil, fmt.Errorf("the origins of CORS: %w", err)
	}
	a := &API{config: config, origins: origins, reads: config.Replica, unbounded: unbounded, mux: http.NewServeMux(), patterns: map[string]bool{}, offered: map[string]bool{}, roles: config.rolesNamed()}
	for _, p := range parts {
		if p.resource != nil {
			a.resources = append(a.resources, p.resource)
		}
		for _, r := range p.routes {
			a.offered[r.pattern] = true
		}
	}
	for _, r := range a.resources {
		if r.fault != nil {
			return nil, r.fault
		}
	}
	if err := a.connect(); err != nil {
		return nil, err
	}
	if err := errors.Join(a.checkConfig(), a.checkCalls(parts), checkDescribed(parts)); err != nil {
		return nil, err
	}
	a.whole = a.newView(nil, nil)
	if err := a.addRoutes(nil, parts); err != nil {
		return nil, err
	}
	for i := range config.Versions {
		v := &config.Versions[i]
		if err := a.addRoutes(v, parts); err != nil {
			return nil, err
		}
		document, err := a.newDocuments(v.OpenAPI, v, parts)
		if err != nil {
			return nil, err
		}
		a.mux.Handle("GET "+v.Base+"/openapi.json", document)
	}
	document, err := a.newDocuments(config.OpenAPI, nil, parts)
	if err != nil {
		return nil, err
	}
	a.mux.Handle("GET /openapi.json", document)
	if config.Docs {
		a.mux.HandleFunc("GET /docs", document.page)
	}
	a.mux.HandleFunc("GET /health/live", func(w http.ResponseWriter, _ *http.Request) { sendHealth(w) })
	a.mux.HandleFunc("GET /health/ready", a.serveReady)
	a.mux.HandleFunc("GET /metrics", a.serveMetrics)
	return a, nil
}

// Handle serves what is no part of the API at a pattern of net/http, such as
// /desk/. It is for use before the API is.
func (a *API) Handle(pattern string, h http.Handler) { a.mux.Handle(pattern, h) }

// checkConfig holds the configuration to the resources that there are.
func (a *API) checkConfig() error {
	for path, allow := range a.config.Allow {
		if path == "" {
			continue
		}
		r := resourceAt(a.resources, path)
		if r == nil {
			return fmt.Errorf("access is configured for %s, which is no resource", path)
		}
		for name := range allow.Columns {
			if _, ok := r.places[name]; !ok {
				return fmt.Errorf("access is configured for the column %s of %s, which is not there", name, path)
			}
		}
		if err := r.addRules(allow.Rows); err != nil {
			return err
		}
	}
	for i := range a.config.Versions {
		if err := a.config.Versions[i].check(a.resources); err != nil {
			return err
		}
	}
	return nil
}

// addRoutes registers all routes, in a version or as they are today.
func (a *API) addRoutes(v *Version, parts []Part) error {
	for _, p := range parts {
		for _, r := range p.routes {
			r.may, r.call = a.mayUse(p.resource, r.pattern), p.resource == nil
			if err := a.add(v, p.resource, r); err != nil {
				return err
			}
		}
	}
	return a.add(v, nil, On("POST /batch", Repeatable(a.serveBatch)))
}

// mayUse is the check of who may use a route, by the roles for its resource or
// call.
func (a *API) mayUse(r *resource, pattern string) func(ctx context.Context) error {
	if r == nil {
		return func(ctx context.Context) error { return a.mayCall(ctx, pattern) }
	}
	method, _, _ := strings.Cut(pattern, " ")
	return func(ctx context.Context) error {
		_, err := r.in(ctx, verbOf(method))
		return err
	}
}

// db is where a request reads and writes: within the transaction that it is part
// of, or the database.
func (a *API) db(ctx context.Context) gate.DB {
	if tx, ok := ctx.Value(txKey{}).(gate.DB); ok {
		return tx
	}
	return a.config.DB
}

// readDB is where a request reads that stores nothing: the replica, if there is
// one, unless it is part of a transaction.
func (a *API) readDB(ctx context.Context) gate.DB {
	if tx, ok := ctx.Value(txKey{}).(gate.DB); ok {
		return tx
	}
	return a.reads
}

// exportDB is readDB for what takes as long as whoever listens.
func (a *API) exportDB(ctx context.Context) gate.DB {
	if tx, ok := ctx.Value(txKey{}).(gate.DB); ok {
		return tx
	}
	return a.unbounded
}

// engine is that of the database.
func (a *API) engine() *gate.Engine {
	if a.config.DB == nil {
		return nil
	}
	return a.config.DB.Engine()
}

// txKey finds the transaction of a context.
type txKey struct{}

// connect finds for each relation the resource that it leads to.
func (a *API) connect() error {
	for _, r := range a.resources {
		r.api, r.base = a, a.config.Base
		r.gather()
		for i := range r.relations {
			rel := &r.relations[i]
			at := slices.IndexFunc(a.resources, func(other *resource) bool { return other.info == rel.target })
			if at < 0 {
				return fmt.Errorf("relation %s of %s leads to table %s, which is no resource", rel.name, r.path, rel.target.Name)
			}
			rel.at = a.resources[at]
			if rel.referring {
				r.referredBy = append(r.referredBy, rel.at)
			}
		}
	}
	return nil
}

// add registers a route. A pattern that clashes with another makes net/http
// panic; the caller is told by an error.
func (a *API) add(v *Version, res *resource, r Route) (err error) {
	defer func() {
		if clash := recover(); clash != nil {
			err = fmt.Errorf("route %q: %v", r.pattern, clash)
		}
	}()
	pattern := a.patternIn(v, res, r.pattern)
	if pattern == "" {
		return nil
	}
	a.patterns[r.pattern] = true
	a.mux.HandleFunc(pattern, func(w http.ResponseWriter, req *http.Request) {
		req.Body = http.MaxBytesReader(w, req.Body, a.config.Limits.Body)
		w.Header().Add("Vary", "Accept")
		if v != nil {
			v.announce(w.Header(), a.config.Base)
			req = req.WithContext(context.WithValue(req.Context(), versionKey{}, v))
		}
		req, err := a.identify(req)
		if err == nil {
			err = a.answer(w, req, r)
		}
		if err != nil {
			p := a.problemOf(req.Context(), res, err)
			if p.Status == http.StatusUnprocessableEntity && verbOf(req.Method) == toRead && res != nil { // what is wrong stands in the URL
				p = &Problem{Type: p.Type, Title: http.StatusText(http.StatusBadRequest), Status: http.StatusBadRequest, Detail: p.Detail}
			}
			p.send(w, req)
		}
	})
	return nil
}

// answer answers a request whose sender is known: once its body is there, and
// there is a slot for it.
func (a *API) answer(w http.ResponseWriter, r *http.Request, route Route) error {
	if repeatedAnswer(r.Context()) != nil {
		return a.again(w, r, route)
	}
	if err := a.takeIn(w, r); err != nil {
		return err
	}
	release, err := a.takeSlot(r)
	if err != nil {
		return err
	}
	defer release()
	return a.once(w, r, route)
}

// do does what a request asks for, if its sender may. The handlers of resources
// find that out themselves.
func (r Route) do(w http.ResponseWriter, req *http.Request) error {
	if r.call {
		if err := r.may(req.Context()); err != nil {
			return err
		}
	}
	return r.handle(w, req)
}

// patternIn is the whole pattern of a route, in a version or as it is today;
// there is none where the version does not have it.
func (a *API) patternIn(v *Version, res *resource, pattern string) string {
	if v == nil {
		method, path, _ := strings.Cut(pattern, " ")
		return method + " " + a.config.Base + path
	}
	whole, there := v.pattern(res, pattern)
	if !there {
		return ""
	}
	return whole
}

// ServeHTTP implements http.Handler.
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	start := time.Now()
	w.Header().Set("X-Content-Type-Options", "nosniff")
	if a.allowOrigin(w, r) {
		return
	}
	ctx, odd := gate.WithOdd(withTrace(r), a.engine())
	r = r.WithContext(ctx)
	r.URL = markSlashes(r.URL)
	out := &routed{ResponseWriter: w, request: r, api: a, odd: odd}
	a.metrics.inFlight.Add(1)
	defer func() {
		a.metrics.inFlight.Add(-1)
		a.metrics.add(r.Pattern, out.sent(), time.Since(start))
		if list := odd.Columns(); list != nil {
			slog.Warn("stored values do not fit their columns", "columns", strings.Join(list, ", "), "trace", TraceOf(ctx))
		}
	}()
	if p := a.foreign(r); p != nil {
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
	odd     *gate.Odd // values that were read and do not fit
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
		if list := w.api.mistyped(w.odd); list != "" {
			w.Header().Set("Mistyped-Values", list)
		}
	}
	switch {
	case status == http.StatusRequestedRangeNotSatisfiable:
		w.dropped = true
		NewProblem(status, "there is less than Range asks for; Content-Range says how much there is").send(w.ResponseWriter, w.request)
	case w.request.Pattern != "" || status != http.StatusNotFound && status != http.StatusMethodNotAllowed:
		w.ResponseWriter.WriteHeader(status)
	default:
		w.dropped = true
		w.Header().Del("Content-Type")
		w.api.serveUnrouted(w.ResponseWriter, w.request, status)
	}
}

func (w *routed) Write(b []byte) (int, error) {
	if w.status == 0 {
		w.WriteHeader(http.StatusOK)
	}
	if w.dropped {
		return len(b), nil
	}
	return w.ResponseWriter.Write(b)
}

// Unwrap is for http.ResponseController.
func (w *routed) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// mistyped names the columns in which stored values were found that do not fit,
// as far as everybody may know of them.
func (a *API) mistyped(odd *gate.Odd) string {
	var names []string
	for _, name := range odd.Columns() {
		for _, r := range a.resources {
			column, own := strings.CutPrefix(name, r.info.Name+".")
			i, ok := r.info.Find(column)
			if own && ok && !r.facets[i].hidden && a.config.allowOf(r.path).Columns[column].Read == nil {
				names = append(names, r.path+"."+column)
			}
		}
	}
	return strings.Join(names, ", ")
}

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
		NewProblem(http.StatusNotFound, "%s", a.unknownPath(r)).send(w, r)
	}
}

// unknownPath says what there is in place of a path, for who asks.
func (a *API) unknownPath(req *http.Request) string {
	word, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(req.URL.Path, a.config.Base), "/"), "/")
	var known []string
	if who, err := a.identify(req); err == nil {
		req = who
	}
	for _, r := range a.resources {
		if !r.maySee(req.Context(), toRead) {
			continue
		}
		if r.path == word {
			return "there is nothing at this path; /openapi.json lists the paths of " + word
		}
		known = append(known, r.path)
	}
	if len(known) == 0 {
		return "there is nothing at this path"
	}
	if len(known) > 20 {
		return "there is nothing at this path; /openapi.json lists all paths"
	}
	return "there is nothing at this path; below " + a.config.Base + "/ are " + strings.Join(known, ", ")
}

func serveText(w http.ResponseWriter, r *http.Request, media string, text []byte) {
	w.Header().Set("Content-Type", media)
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(text))
}

func sendHealth(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "application/json")
	w.Write([]byte("{\"status\":\"ok\"}\n"))
}

func (a *API) serveReady(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	err := a.config.DB.Ping(ctx)
	if err == nil && a.config.Replica != a.config.DB {
		err = a.config.Replica.Ping(ctx)
	}
	if err != nil {
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
		return unheard(address, err)
	}
	defer listener.Close()
	if err := a.checkTables(ctx); err != nil {
		return err
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

// unheard explains why an address cannot be listened on.
func unheard(address string, err error) error {
	const other = "take another address, as in -address 127.0.0.1:8081"
	_, port, _ := net.SplitHostPort(address)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return gate.Advise(err, "stop the program that uses it, or "+other, "port %s is in use by another program", port)
	case errors.Is(err, syscall.EACCES):
		return gate.Advise(err, other, "port %s may not be used by this user", port)
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return gate.Advise(err, other, "%s is no address of this machine", address)
	}
	return gate.Advise(err, other, "listening on %s", address)
}

// shownLacks is how much of what a database lacks is listed.
const shownLacks = 5

// checkTables refuses a database that has none of the tables, and warns of one
// that lacks some of them.
func (a *API) checkTables(ctx context.Context) error {
	if a.config.DB == nil {
		return nil
	}
	var tables []*gate.Info
	for _, r := range a.resources {
		if !slices.Contains(tables, r.info) {
			tables = append(tables, r.info)
		}
	}
	lacks, err := gate.Lacking(ctx, a.config.DB, tables...)
	if ctx.Err() != nil {
		return nil // it ends before it begins
	}
	if err != nil || len(lacks) == 0 {
		return err
	}
	list := strings.Join(lacks[:min(len(lacks), shownLacks)], ", ")
	if more := len(lacks) - shownLacks; more > 0 {
		list += fmt.Sprintf(" and %d more", more)
	}
	const next = "bring it up to date, by `widegate apply` where it is made from scripts, or name another database"
	for _, t := range tables {
		if !slices.Contains(lacks, t.Name) {
			slog.Warn("the database is behind the code: requests for what it lacks fail", "lacks", list, "next", next)
			return nil
		}
	}
	return gate.Advise(nil, next, "the database has none of the tables: %s", list)
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
		return gate.Advise(err, "write it as in -address 127.0.0.1:8080", "%q is no address to listen on", address)
	}
	if isLoopback(address) {
		return nil
	}
	return gate.Advise(nil, "use 127.0.0.1; or say in widegate.yaml who may do what, or `api: {access: open}`, and run `widegate write`", "the address %s can be reached from other machines, and anybody could read and write", address)
}
