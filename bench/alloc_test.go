package bench

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/bench/api"
)

// inside are requests that the generated service answers without a network
// between, and how many allocations each may make: those that were counted, and a
// twentieth more. Of lists the drivers make the most.
var inside = []struct {
	name, method, target string
	most                 map[string]float64
}{
	{"GET one", "GET", "/api/deliveries/7", map[string]float64{"postgres": 47, "mysql": 66, "sqlite": 38}},
	{"list of 100", "GET", "/api/deliveries?limit=100&filter=id>=7", map[string]float64{"postgres": 312, "mysql": 1560, "sqlite": 350}},
	{"100 parents, 8 children", "GET", "/api/deliveries?limit=100&with=samples&filter=id>=7", map[string]float64{"postgres": 580, "mysql": 4970, "sqlite": 1440}},
	{"POST one", "POST", "/api/deliveries", map[string]float64{"postgres": 152, "mysql": 188, "sqlite": 163}},
}

// discard is a response that nobody reads.
type discard struct{ header http.Header }

func (d *discard) Header() http.Header                { return d.header }
func (d *discard) Write(p []byte) (int, error)        { return len(p), nil }
func (d *discard) WriteHeader(int)                    {}
func (d *discard) SetReadDeadline(_ time.Time) error  { return nil }
func (d *discard) SetWriteDeadline(_ time.Time) error { return nil }

// asked makes a request that can be served again and again.
func asked(method, target string) (serve func(http.Handler)) {
	body := bytes.NewReader([]byte(bodyOf(1)))
	r := httptest.NewRequest(method, target, nil)
	if method == "POST" {
		r.Header.Set("Content-Type", "application/json")
		r.ContentLength = body.Size()
	}
	w := &discard{http.Header{}}
	return func(h http.Handler) {
		clear(w.header)
		if method == "POST" {
			body.Seek(0, io.SeekStart)
			r.Body = io.NopCloser(body)
		}
		h.ServeHTTP(w, r)
	}
}

func serveInside(t testing.TB, engine string) http.Handler {
	s := open(t, engine)
	fill(t, &s, 2000)
	service, err := api.New(s.db)
	require.NoError(t, err)
	return service
}

// TestAllocations is the short form of the benchmark: allocations are exact, where
// times are not.
func TestAllocations(t *testing.T) {
	for _, engine := range engines {
		service := serveInside(t, engine)
		for _, r := range inside {
			serve := asked(r.method, r.target)
			for range 20 {
				serve(service) // plans and statements are kept from now on
			}
			n := testing.AllocsPerRun(100, func() { serve(service) })
			t.Logf("%s, %s: %.0f", engine, r.name, n)
			assert.LessOrEqual(t, n, r.most[engine], "%s, %s", engine, r.name)
		}
	}
}

// BenchmarkInside measures the service alone: what a request costs but for HTTP.
func BenchmarkInside(b *testing.B) {
	for _, engine := range engines {
		service := serveInside(b, engine)
		for _, r := range inside {
			b.Run(engine+"/"+r.name, func(b *testing.B) {
				b.ReportAllocs()
				serve := asked(r.method, r.target)
				for b.Loop() {
					serve(service)
				}
			})
		}
	}
}
