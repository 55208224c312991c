package bench

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"

	"widegate/bench/api"
)

// inside are requests that the generated service answers without a network
// between.
var inside = []struct{ name, method, target string }{
	{"GET one", "GET", "/api/deliveries/7"},
	{"list of 100", "GET", "/api/deliveries?limit=100&filter=id>=7"},
	{"100 parents, 8 children", "GET", "/api/deliveries?limit=100&with=samples&filter=id>=7"},
	{"POST one", "POST", "/api/deliveries"},
}

// discard is a response that nobody reads.
type discard struct{ header http.Header }

func (d *discard) Header() http.Header         { return d.header }
func (d *discard) Write(p []byte) (int, error) { return len(p), nil }
func (d *discard) WriteHeader(int)             {}

// BenchmarkInside measures the service alone: what a request costs but for HTTP.
func BenchmarkInside(b *testing.B) {
	for _, engine := range engines {
		s := open(b, engine)
		fill(b, &s, 2000)
		service, err := api.New(s.db)
		require.NoError(b, err)
		for _, r := range inside {
			b.Run(engine+"/"+r.name, func(b *testing.B) {
				b.ReportAllocs()
				body := []byte(bodyOf(1))
				for b.Loop() {
					var in *bytes.Reader
					req := httptest.NewRequest(r.method, r.target, nil)
					if r.method == "POST" {
						in = bytes.NewReader(body)
						req = httptest.NewRequest(r.method, r.target, in)
						req.Header.Set("Content-Type", "application/json")
					}
					service.ServeHTTP(&discard{http.Header{}}, req)
				}
			})
		}
	}
}
