package rest_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/rest"
)

func ask(api http.Handler, method, target string, headers ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, target, nil)
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	return w
}

func TestTracesAndMetrics(t *testing.T) {
	api := newAPI(t, rest.Config{})
	const trace = "4bf92f3577b34da6a3ce929d0e0e4736"
	w := ask(api, "GET", "/api/boom", "Traceparent", "00-"+trace+"-00f067aa0ba902b7-01")
	assert.Contains(t, w.Body.String(), `"trace":"`+trace+`"`)
	for _, odd := range []string{"", "nonsense", "00-00000000000000000000000000000000-00f067aa0ba902b7-01", strings.Repeat("a", 5000)} {
		assert.Regexp(t, `"trace":"[0-9a-f]{32}"`, ask(api, "GET", "/api/boom", "Traceparent", odd).Body.String())
	}
	ask(api, "GET", "/api/hives/1")
	ask(api, "GET", "/api/hives/1")
	ask(api, "GET", "/api/hives/99")
	ask(api, "GET", "/nowhere/at/all")
	w = ask(api, "GET", "/metrics")
	require.Equal(t, 200, w.Code)
	assert.Contains(t, w.Header().Get("Content-Type"), "application/openmetrics-text")
	for _, line := range []string{
		"# TYPE http_server_active_requests gauge", "http_server_active_requests 1",
		`http_server_request_duration_seconds_count{method="GET",route="/api/hives/{key}",status="200"} 2`,
		`http_server_request_duration_seconds_count{method="GET",route="/api/hives/{key}",status="404"} 1`,
		`http_server_request_duration_seconds_count{method="",route="none",status="404"} 1`,
		`status="500",le="+Inf"} 5`,
	} {
		assert.Contains(t, w.Body.String(), line)
	}
	assert.True(t, strings.HasSuffix(w.Body.String(), "# EOF\n"))
	assert.NotContains(t, w.Body.String(), "nowhere", "paths that nobody serves make no metrics")
}

func TestTooManyRequests(t *testing.T) {
	entered, leave := make(chan struct{}), make(chan struct{})
	shape := rest.NewShape("hives", &hives)
	api, err := rest.New(rest.Config{Base: "/api", Limits: rest.Limits{Requests: 1}}, rest.Mount(shape, []rest.Route{
		rest.On("GET /hives", func(w http.ResponseWriter, _ *http.Request) error {
			close(entered)
			<-leave
			return nil
		}),
	}))
	require.NoError(t, err)
	done := make(chan struct{})
	go func() {
		ask(api, "GET", "/api/hives")
		close(done)
	}()
	<-entered
	w := ask(api, "GET", "/api/hives")
	assert.Equal(t, 503, w.Code)
	assert.Equal(t, "1", w.Header().Get("Retry-After"))
	assert.Equal(t, 200, ask(api, "GET", "/health/live").Code, "health is told always")
	close(leave)
	<-done
	assert.Contains(t, ask(api, "GET", "/metrics").Body.String(), "http_server_refused_requests_total 1")
}

func TestOrigins(t *testing.T) {
	api := newAPI(t, rest.Config{Origins: []string{"https://bees.example"}})
	w := ask(api, "GET", "/api/hives", "Origin", "https://bees.example")
	assert.Equal(t, "https://bees.example", w.Header().Get("Access-Control-Allow-Origin"))
	assert.Empty(t, w.Header().Get("Access-Control-Allow-Credentials"))
	w = ask(api, "OPTIONS", "/api/hives/1", "Origin", "https://bees.example", "Access-Control-Request-Method", "PATCH")
	assert.Equal(t, 204, w.Code)
	assert.Contains(t, w.Header().Get("Access-Control-Allow-Methods"), "PATCH")
	for _, origin := range []string{"https://evil.example", "null", "https://bees.example.evil.example", "http://bees.example"} {
		w = ask(api, "OPTIONS", "/api/hives/1", "Origin", origin, "Access-Control-Request-Method", "PATCH")
		assert.Empty(t, w.Header().Get("Access-Control-Allow-Origin"), origin)
		assert.Equal(t, "Origin", w.Header().Get("Vary"))
	}
	w = ask(newAPI(t, rest.Config{}), "GET", "/api/hives", "Origin", "https://bees.example")
	assert.Empty(t, w.Header().Get("Access-Control-Allow-Origin"), "off until origins are listed")
}

// waiting is a database whose statements with a bound take until they are ended.
type waiting struct{ gate.DB }

func (w *waiting) Query(ctx context.Context, text string, args []any) (gate.Rows, error) {
	if strings.Contains(text, " LIMIT ") {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return w.DB.Query(ctx, text, args)
}

func TestStatementsAreCut(t *testing.T) {
	api := newAPI(t, rest.Config{DB: &waiting{}, Limits: rest.Limits{Statement: time.Millisecond}})
	assert.Equal(t, 504, ask(api, "GET", "/api/hives").Code)
	assert.Equal(t, 200, ask(api, "GET", "/api/hives?limit=none&f=ndjson").Code, "exports take their time")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	r := httptest.NewRequestWithContext(ctx, "GET", "/api/hives", nil)
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	assert.Equal(t, 408, w.Code)
}
