// Package assist offers the endpoints of a service as functions for assistants, by the
// Model Context Protocol: over standard input and output, or over HTTP.
//
// The functions are made of the OpenAPI document of the service, as the caller at hand
// sees it, and a call is a request to the service in the same process. So what roles
// allow, rules for rows, validation, limits, logs and traces are those of the endpoints.
// Values of rows are returned as data, with a mark that says so.
package assist

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
)

// Form says how functions are cut.
type Form string

// The forms. Where none is given, it is Plain for up to 30 functions, and else Compact.
const (
	Plain   Form = "plain"   // one for each thing that can be done with each resource
	Compact Form = "compact" // a handful, with the resource as an argument
)

// Options say what is offered; the zero value reads only.
type Options struct {
	Title string // of the service
	Base  string // where the paths of the service begin, such as /api
	Write bool   // changes are offered too
	Form  Form
	// Offer names the plain functions that are offered, with the names that they get;
	// an empty one is as it is. All are offered where it is empty.
	Offer map[string]string
	// Unasked makes deletes and changes of many rows without asking whoever uses the
	// assistant. Else a client that cannot ask is refused.
	Unasked bool

	Rows    int           // the most rows of an answer; 100
	Bytes   int           // the most bytes of an answer; 200 kB
	Timeout time.Duration // that a call may take; 30 seconds
	Calls   int           // in a minute, for each caller; 240

	// Header is sent with each request, for a caller who cannot send its own.
	Header http.Header
	// DryRun answers a request, and takes back what it stored; nil where that cannot be
	// done.
	DryRun func(w http.ResponseWriter, r *http.Request)
	// Caller names who sends a request, for the log; nil where nobody is told apart.
	Caller func(r *http.Request) string
	Log    *slog.Logger
	// Diagrams are pictures of the schema, by the names of their files: .svg, or .mmd for
	// Mermaid.
	Diagrams map[string]func() string
	// Add adds more to a server, such as prompts.
	Add func(server *mcp.Server)
}

// Assist offers the functions of a service.
type Assist struct {
	api     http.Handler
	options Options
	limit   limiter

	mu    sync.Mutex
	known map[string]*document // by ETag; the documents of callers
	order []string
}

// New offers the functions of a service.
func New(api http.Handler, o Options) *Assist {
	if o.Rows <= 0 {
		o.Rows = 100
	}
	if o.Bytes <= 0 {
		o.Bytes = 200_000
	}
	if o.Timeout <= 0 {
		o.Timeout = 30 * time.Second
	}
	if o.Calls <= 0 {
		o.Calls = 240
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	return &Assist{api: api, options: o, limit: limiter{most: o.Calls, seen: map[string]*minute{}}, known: map[string]*document{}}
}

// caller is who makes calls: the credentials of a request.
type caller struct{ header http.Header }

// credentials are the headers that say who somebody is.
var credentials = []string{"Authorization", "X-Api-Key"}

// passed are those and the ones by which a trace goes on.
var passed = append([]string{"Traceparent", "Tracestate"}, credentials...)

func (a *Assist) callerOf(header http.Header) caller {
	c := caller{http.Header{}}
	for _, from := range []http.Header{a.options.Header, header} {
		for _, name := range passed {
			if values := from.Values(name); len(values) > 0 {
				c.header[name] = values
			}
		}
	}
	return c
}

// name tells callers apart, for the limit of calls.
func (c caller) name() string {
	var b strings.Builder
	for _, name := range credentials {
		b.WriteString(c.header.Get(name) + "\n")
	}
	return b.String()
}

// ask makes a request to the service in the process.
func (a *Assist) ask(ctx context.Context, c caller, serve func(http.ResponseWriter, *http.Request), method, target string, header http.Header, body []byte) (*recorder, error) {
	req, err := http.NewRequestWithContext(ctx, method, "http://localhost"+target, bytes.NewReader(body))
	if err != nil {
		return nil, fmt.Errorf("asking the service: %w", err)
	}
	req.RequestURI = req.URL.RequestURI()
	req.RemoteAddr = "127.0.0.1:1"
	for _, h := range []http.Header{c.header, header} {
		for name, values := range h {
			req.Header[name] = values
		}
	}
	w := &recorder{header: http.Header{}, most: a.options.Bytes}
	if strings.HasSuffix(target, "/openapi.json") {
		w.most = 1 << 26
	}
	serve(w, req)
	if w.status == 0 {
		w.status = http.StatusOK
	}
	return w, nil
}

// recorder keeps an answer, as far as it is not too long.
type recorder struct {
	header http.Header
	status int
	body   bytes.Buffer
	most   int
	cut    bool
}

func (w *recorder) Header() http.Header { return w.header }
func (w *recorder) WriteHeader(status int) {
	if w.status == 0 {
		w.status = status
	}
}

var errTooLong = errors.New("the answer is too long")

func (w *recorder) Write(b []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	if w.body.Len()+len(b) > w.most {
		w.cut = true
		return 0, errTooLong
	}
	return w.body.Write(b)
}

// Refused is the answer of a service that does not know who asks, or does not let them.
type Refused struct {
	Status    int
	Challenge string // WWW-Authenticate
	Detail    string
}

// Error is the detail.
func (r *Refused) Error() string { return r.Detail }

// document is the document that a caller sees.
func (a *Assist) document(ctx context.Context, c caller) (*document, error) {
	w, err := a.ask(ctx, c, a.api.ServeHTTP, http.MethodGet, "/openapi.json", nil, nil)
	if err != nil {
		return nil, err
	}
	if w.status != http.StatusOK {
		return nil, &Refused{w.status, w.header.Get("WWW-Authenticate"), detailOf(w.body.Bytes(), w.status)}
	}
	tag := w.header.Get("ETag")
	if tag == "" { // documents are told apart by it
		tag = fmt.Sprintf("%x", sha256.Sum256(w.body.Bytes()))
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if d, ok := a.known[tag]; ok {
		return d, nil
	}
	d, err := readDocument(bytes.Clone(w.body.Bytes()), tag, a.options.Base)
	if err != nil {
		return nil, err
	}
	const most = 32 // roles have few documents
	if a.order = append(a.order, tag); len(a.order) > most {
		delete(a.known, a.order[0])
		a.order = a.order[1:]
	}
	a.known[tag] = d
	return d, nil
}

func detailOf(text []byte, status int) string {
	var p struct{ Detail string }
	if json.Unmarshal(text, &p) != nil || p.Detail == "" {
		return fmt.Sprintf("the service answered %d", status)
	}
	return p.Detail
}

// Server is a server of the protocol for a caller, with the functions that it may use.
func (a *Assist) Server(ctx context.Context, header http.Header) (*mcp.Server, error) {
	s, _, err := a.server(ctx, a.callerOf(header))
	return s, err
}

func (a *Assist) server(ctx context.Context, c caller) (*mcp.Server, *document, error) {
	d, err := a.document(ctx, c)
	if err != nil {
		return nil, nil, err
	}
	title := a.options.Title
	if title == "" {
		title = d.title
	}
	server := mcp.NewServer(&mcp.Implementation{Name: title, Title: "The data of " + title, Version: "1"}, &mcp.ServerOptions{
		Instructions: "Functions on the data of " + title + ". Find rows by list functions with columns, filter or q; count and sum by summarize functions. Ask for few properties and rows. " + origin,
		PageSize:     200, Capabilities: &mcp.ServerCapabilities{},
		SetCacheable: func(_ context.Context, _ mcp.Request, c *mcp.Cacheable) { c.CacheScope = "private" }, // roles see different functions
	})
	a.fill(server, d)
	if a.options.Add != nil {
		a.options.Add(server)
	}
	return server, d, nil
}

// fill gives a server its functions and resources.
func (a *Assist) fill(server *mcp.Server, d *document) {
	for _, t := range toolsOf(d, a.options) {
		server.AddTool(&t.Tool, a.handler(t))
	}
	a.addResources(server, d)
}

// refresh gives a server the functions of another document, which tells its clients.
func (a *Assist) refresh(server *mcp.Server, before, now *document) {
	next := toolsOf(now, a.options)
	var gone []string
	for _, t := range toolsOf(before, a.options) {
		if !slices.ContainsFunc(next, func(n tool) bool { return n.Name == t.Name }) {
			gone = append(gone, t.Name)
		}
	}
	server.RemoveTools(gone...)
	a.fill(server, now)
}

// handler answers calls of a function. What goes wrong is told in the result, so that an
// assistant can do better.
func (a *Assist) handler(t tool) mcp.ToolHandler {
	return func(ctx context.Context, req *mcp.CallToolRequest) (*mcp.CallToolResult, error) {
		start := time.Now()
		var header http.Header
		if req.Extra != nil {
			header = req.Extra.Header
		}
		c := a.callerOf(header)
		result, status := a.run(ctx, c, t, req)
		a.options.Log.InfoContext(ctx, "function called", "function", t.Name, "caller", a.who(ctx, c), "status", status, "ms", time.Since(start).Milliseconds(), "trace", c.header.Get("Traceparent"))
		return result, nil
	}
}

// who names a caller.
func (a *Assist) who(ctx context.Context, c caller) string {
	if a.options.Caller == nil {
		return ""
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://localhost/", nil)
	if err != nil {
		return ""
	}
	r.Header = c.header
	return a.options.Caller(r)
}

func (a *Assist) run(ctx context.Context, c caller, t tool, req *mcp.CallToolRequest) (*mcp.CallToolResult, int) {
	if !a.limit.take(c.name(), time.Now()) {
		return failed("too many calls in a minute; wait a moment, and ask for more rows at once", nil), http.StatusTooManyRequests
	}
	args, err := readArguments(req.Params.Arguments)
	var want *request
	if err == nil {
		err = known(t, args)
	}
	if err == nil {
		want, err = t.call(args)
	}
	if err == nil && *args.fault != nil {
		err = *args.fault
	}
	if err != nil {
		return failed(err.Error(), nil), http.StatusBadRequest
	}
	if want.answer != nil {
		return succeeded(want.answer), http.StatusOK
	}
	if want.ask != "" && !want.dry && !a.options.Unasked {
		if result := a.confirmed(req, want.ask); result != nil {
			return result, http.StatusForbidden
		}
	}
	ctx, cancel := context.WithTimeout(ctx, a.options.Timeout)
	defer cancel()
	defer progress(ctx, req)()
	return a.send(ctx, c, t, want)
}

// confirmed asks whoever uses the assistant whether something may be done. It returns the
// result to give in place of doing it, or nil.
func (a *Assist) confirmed(req *mcp.CallToolRequest, question string) *mcp.CallToolResult {
	const id = "confirm"
	if answer, ok := req.Params.InputResponses[id].(*mcp.ElicitResult); ok {
		if answer.Action == "accept" && answer.Content["confirm"] == true {
			return nil
		}
		return failed("whoever uses the assistant did not agree; nothing was done", nil)
	}
	if able := req.ClientCapabilities(); able == nil || able.Elicitation == nil {
		return failed("this must be agreed to by whoever uses the assistant, and their program cannot ask them; nothing was done. dry_run shows what would be done", nil)
	}
	return &mcp.CallToolResult{InputRequests: mcp.InputRequestMap{id: &mcp.ElicitParams{
		Message: question,
		RequestedSchema: object{"type": "object", "required": []string{"confirm"}, "properties": object{
			"confirm": object{"type": "boolean", "title": "Do it"},
		}},
	}}}
}

// progress tells once a second that a call goes on, if the client wants to know. What it
// returns ends that.
func progress(ctx context.Context, req *mcp.CallToolRequest) (stop func()) {
	token := req.Params.GetProgressToken()
	if token == nil || req.Session == nil {
		return func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for n := 1; ; n++ {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				_ = req.Session.NotifyProgress(ctx, &mcp.ProgressNotificationParams{ProgressToken: token, Progress: float64(n), Message: fmt.Sprintf("%d seconds", n)})
			}
		}
	}()
	return func() {
		cancel()
		<-done
	}
}

// send makes the request of a call, and returns what comes back.
func (a *Assist) send(ctx context.Context, c caller, t tool, want *request) (*mcp.CallToolResult, int) {
	target := a.options.Base + "/" + want.path
	if want.query != nil && len(want.query.values) > 0 {
		target += "?" + want.query.values.Encode()
	}
	serve := a.api.ServeHTTP
	if want.dry {
		if serve = a.options.DryRun; serve == nil {
			return failed("there is no dry run here, and nothing was done; leave dry_run out to make the change", nil), http.StatusNotImplemented
		}
	}
	header := http.Header{"Accept": {"application/json"}}
	if want.body != nil {
		header.Set("Content-Type", "application/json")
	}
	w, err := a.ask(ctx, c, serve, want.method, target, header, want.body)
	switch {
	case err != nil:
		return failed(err.Error(), nil), http.StatusBadRequest
	case w.cut:
		return failed(fmt.Sprintf("the answer has more than %d bytes; ask for fewer rows by limit, or for fewer properties", a.options.Bytes), nil), http.StatusRequestEntityTooLarge
	case ctx.Err() != nil:
		return failed(fmt.Sprintf("the call took longer than %s; ask for less, or choose rows by a column that has an index", a.options.Timeout), nil), http.StatusGatewayTimeout
	case w.status >= http.StatusBadRequest:
		return problem(w), w.status
	}
	return a.answer(t, want, w), w.status
}

// answer is the result of a call that did what it was to do.
func (a *Assist) answer(t tool, want *request, w *recorder) *mcp.CallToolResult {
	content := object{}
	var body any
	dec := json.NewDecoder(bytes.NewReader(w.body.Bytes()))
	dec.UseNumber()
	if err := dec.Decode(&body); err == nil {
		content["origin"] = origin
		row, _ := body.(object)
		items, isPage := row["items"]
		count, isCount := row["count"]
		switch {
		case isPage:
			content["items"] = items
			for _, name := range []string{"next", "matched"} {
				if v, ok := row[name]; ok {
					content[name] = v
				}
			}
		case isCount && len(row) == 1:
			content = object{"done": true, "count": count}
		default:
			content["row"] = body
		}
	} else {
		content["done"] = true
	}
	if want.dry {
		content["dry_run"] = true
		if content["done"] == true {
			content["done"] = false
		}
	}
	return succeeded(content)
}

func succeeded(content object) *mcp.CallToolResult {
	text, err := json.Marshal(content)
	if err != nil {
		return failed("the answer cannot be written", nil)
	}
	return &mcp.CallToolResult{Content: []mcp.Content{&mcp.TextContent{Text: string(text)}}, StructuredContent: content}
}

// failed is the result of a call that went wrong.
func failed(text string, faults []fault) *mcp.CallToolResult {
	for _, f := range faults {
		text += "\n- " + strings.TrimPrefix(f.Pointer, "#/") + ": " + f.Detail
	}
	return &mcp.CallToolResult{IsError: true, Content: []mcp.Content{&mcp.TextContent{Text: text}}}
}

// fault is what is wrong with one argument.
type fault struct{ Pointer, Detail string }

// problem is the result of a call that the service refused (RFC 9457).
func problem(w *recorder) *mcp.CallToolResult {
	var p struct {
		Detail string
		Errors []fault
	}
	_ = json.Unmarshal(w.body.Bytes(), &p)
	text := detailOf(w.body.Bytes(), w.status)
	switch w.status {
	case http.StatusUnprocessableEntity:
		text += ". Send the call again with these corrected:"
	case http.StatusNotFound:
		text += ". Find the row by a list function first."
	case http.StatusConflict:
		text += ". Nothing was stored."
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		text += ". Try again in a moment."
	}
	return failed(strings.Replace(text, "..", ".", 1), p.Errors)
}

// limiter bounds how many calls a caller makes in a minute.
type limiter struct {
	mu   sync.Mutex
	most int
	seen map[string]*minute
}

type minute struct {
	from time.Time
	n    int
}

func (l *limiter) take(name string, at time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	const callers = 10_000
	if len(l.seen) > callers {
		clear(l.seen)
	}
	m := l.seen[name]
	if m == nil || at.Sub(m.from) > time.Minute {
		m = &minute{from: at}
		l.seen[name] = m
	}
	m.n++
	return m.n <= l.most
}

// addResources gives a server the schema to read: the document, and a page on each table.
func (a *Assist) addResources(server *mcp.Server, d *document) {
	server.AddResource(&mcp.Resource{URI: "schema:///openapi.json", Name: "openapi.json", Title: "The interface of the service", MIMEType: "application/json"}, textResource("application/json", func() []byte { return d.text }))
	for name, draw := range a.options.Diagrams {
		media := drawings[path.Ext(name)]
		server.AddResource(&mcp.Resource{URI: "schema:///" + name, Name: name, Title: "A picture of the schema", MIMEType: media}, textResource(media, func() []byte { return []byte(draw()) }))
	}
	for _, r := range d.resources {
		uri := "schema:///tables/" + r.path
		server.AddResource(&mcp.Resource{URI: uri, Name: r.path, Title: "The columns of " + r.words(), MIMEType: "application/json", Description: strings.Trim(told(r.comment), `"`)}, textResource("application/json", func() []byte {
			text, _ := json.MarshalIndent(r.description(a.options), "", "  ")
			return text
		}))
	}
}

// drawings are the media types of diagrams.
var drawings = map[string]string{".svg": "image/svg+xml", ".mmd": "text/vnd.mermaid"}

func textResource(media string, text func() []byte) mcp.ResourceHandler {
	return func(_ context.Context, req *mcp.ReadResourceRequest) (*mcp.ReadResourceResult, error) {
		return &mcp.ReadResourceResult{Contents: []*mcp.ResourceContents{{URI: req.Params.URI, MIMEType: media, Text: string(text())}}}, nil
	}
}

// Run serves one client over a transport, such as standard input and output, until it
// leaves. Every now and then it looks whether the schema is another one, and tells the
// client.
func (a *Assist) Run(ctx context.Context, t mcp.Transport, look time.Duration) error {
	c := a.callerOf(nil)
	server, d, err := a.server(ctx, c)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go a.follow(ctx, server, c, d, look)
	if err := server.Run(ctx, t); err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, context.Canceled) {
		return fmt.Errorf("serving functions: %w", err)
	}
	return nil
}

// follow looks now and then whether the schema is another one, and gives the server the
// functions of that, until ctx ends.
func (a *Assist) follow(ctx context.Context, server *mcp.Server, c caller, d *document, look time.Duration) {
	tick := time.NewTicker(look)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		now, err := a.document(ctx, c)
		if err != nil || now.etag == d.etag {
			continue
		}
		a.refresh(server, d, now)
		d = now
	}
}
