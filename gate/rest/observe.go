package rest

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"log/slog"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// traceKey finds the trace that a request is part of.
type traceKey struct{}

// TraceOf is the id of the trace that the request of a context is part of: that
// of its traceparent header (W3C Trace Context), or one of its own.
func TraceOf(ctx context.Context) string {
	id, _ := ctx.Value(traceKey{}).(string)
	return id
}

var traceparent = regexp.MustCompile(`^[0-9a-f]{2}-([0-9a-f]{32})-[0-9a-f]{16}-[0-9a-f]{2}`)

const noTrace = "00000000000000000000000000000000"

// withTrace is the context of a request with the id of its trace.
func withTrace(r *http.Request) context.Context {
	id := ""
	if m := traceparent.FindStringSubmatch(r.Header.Get("Traceparent")); m != nil && m[1] != noTrace {
		id = m[1]
	} else {
		var random [16]byte
		_, _ = rand.Read(random[:]) // which does not fail
		id = hex.EncodeToString(random[:])
	}
	return context.WithValue(r.Context(), traceKey{}, id)
}

// logError logs what only the operator should know, with the trace that the
// caller is told.
func logError(ctx context.Context, level slog.Level, text string, err error) {
	slog.Log(ctx, level, text, "error", err, "trace", TraceOf(ctx))
}

// bounds are the upper ends of the classes of durations, in seconds.
var bounds = []float64{0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10}

// metrics count requests, by route and not by path, so that nobody can make
// very many of them.
type metrics struct {
	inFlight atomic.Int64
	refused  atomic.Int64
	routes   sync.Map // of routeKey, *routeMetrics
}

type routeKey struct {
	route  string
	status int
}

type routeMetrics struct {
	classes [14]atomic.Int64 // one a bound, and one for what is above all
	nanos   atomic.Int64
}

func (m *metrics) add(route string, status int, took time.Duration) {
	if route == "" {
		route = "none"
	}
	key := routeKey{route, status}
	found, ok := m.routes.Load(key)
	if !ok {
		found, _ = m.routes.LoadOrStore(key, &routeMetrics{})
	}
	r := found.(*routeMetrics)
	class, _ := slices.BinarySearch(bounds, took.Seconds())
	r.classes[class].Add(1)
	r.nanos.Add(int64(took))
}

// write writes the metrics in the text form of OpenMetrics 1.0.
func (m *metrics) write(b *bytes.Buffer) {
	fmt.Fprintf(b, "# TYPE http_server_active_requests gauge\n# HELP http_server_active_requests Requests that are being answered.\nhttp_server_active_requests %d\n", m.inFlight.Load())
	fmt.Fprintf(b, "# TYPE http_server_refused_requests counter\n# HELP http_server_refused_requests Requests refused because too many were being answered.\nhttp_server_refused_requests_total %d\n", m.refused.Load())
	b.WriteString("# TYPE http_server_request_duration_seconds histogram\n# UNIT http_server_request_duration_seconds seconds\n# HELP http_server_request_duration_seconds How long requests took, by route and status.\n")
	var keys []routeKey
	m.routes.Range(func(k, _ any) bool {
		keys = append(keys, k.(routeKey))
		return true
	})
	slices.SortFunc(keys, func(a, b routeKey) int {
		if c := strings.Compare(a.route, b.route); c != 0 {
			return c
		}
		return a.status - b.status
	})
	for _, k := range keys {
		found, _ := m.routes.Load(k)
		found.(*routeMetrics).write(b, k)
	}
	b.WriteString("# EOF\n")
}

func (r *routeMetrics) write(b *bytes.Buffer, k routeKey) {
	method, path, _ := strings.Cut(k.route, " ")
	if path == "" {
		method, path = "", method
	}
	labels := fmt.Sprintf("method=%s,route=%s,status=\"%d\"", label(method), label(path), k.status)
	count := int64(0)
	for i := range r.classes {
		count += r.classes[i].Load()
		le := "+Inf"
		if i < len(bounds) {
			le = strconv.FormatFloat(bounds[i], 'g', -1, 64)
		}
		fmt.Fprintf(b, "http_server_request_duration_seconds_bucket{%s,le=%q} %d\n", labels, le, count)
	}
	fmt.Fprintf(b, "http_server_request_duration_seconds_count{%s} %d\n", labels, count)
	fmt.Fprintf(b, "http_server_request_duration_seconds_sum{%s} %g\n", labels, time.Duration(r.nanos.Load()).Seconds())
}

var labelEscaper = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`)

func label(s string) string { return `"` + labelEscaper.Replace(s) + `"` }

func (a *API) serveMetrics(w http.ResponseWriter, r *http.Request) {
	if a.config.Document == ToNobody {
		NewProblem(http.StatusNotFound, "this service does not show its metrics").send(w, r)
		return
	}
	if a.config.Document != ToAnybody && !a.knows(w, r) {
		return
	}
	var b bytes.Buffer
	a.metrics.write(&b)
	send(w, http.StatusOK, "application/openmetrics-text; version=1.0.0; charset=utf-8", b.Bytes())
}

// knows reports whether a request brings good credentials, where the service
// asks for some, and answers it where it does not.
func (a *API) knows(w http.ResponseWriter, r *http.Request) bool {
	r, err := a.identify(r)
	if err == nil && a.config.Identify != nil && IdentityOf(r.Context()) == nil {
		err = a.config.unknown("to read this")
	}
	if err != nil {
		a.problemOf(r.Context(), nil, err).send(w, r)
	}
	return err == nil
}
