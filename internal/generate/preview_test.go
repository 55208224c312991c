package generate_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/generate"
	"widegate/internal/preview"
	"widegate/internal/project"
)

// newPreview previews the database of a project.
func newPreview(t *testing.T, folder string, writes bool) *httptest.Server {
	t.Helper()
	p, err := project.Load(filepath.Join(folder, "widegate.yaml"))
	require.NoError(t, err)
	c, m, err := generate.Understand(t.Context(), p, generate.Source(p))
	require.NoError(t, err)
	s, err := preview.Open(t.Context(), generate.Source(p), c, m, preview.Options{Writes: writes, Title: "beekeeping"})
	require.NoError(t, err)
	server := httptest.NewServer(s)
	t.Cleanup(func() {
		server.Close()
		require.NoError(t, s.Close())
	})
	return server
}

// same sends a request to both services, and wants the same answer.
func same(t *testing.T, ours, theirs, method, path, body string, headers ...string) string {
	t.Helper()
	var texts [2]string
	var answers [2]*http.Response
	for i, base := range []string{ours, theirs} {
		req, err := http.NewRequest(method, base+path, strings.NewReader(body))
		require.NoError(t, err)
		if body != "" {
			req.Header.Set("Content-Type", "application/json")
		}
		for k := 0; k < len(headers); k += 2 {
			req.Header.Set(headers[k], headers[k+1])
		}
		res, err := http.DefaultTransport.RoundTrip(req)
		require.NoError(t, err)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		res.Header.Del("Date")
		texts[i], answers[i] = string(text), res
	}
	assert.Equal(t, answers[0].StatusCode, answers[1].StatusCode, "%s %s: %s | %s", method, path, texts[0], texts[1])
	assert.Equal(t, answers[0].Header, answers[1].Header, "%s %s", method, path)
	assert.Equal(t, texts[0], texts[1], "%s %s", method, path)
	return texts[0]
}

// testPreview sends the same requests to the generated service and to the preview
// of its database, and compares what comes back byte for byte.
func testPreview(t *testing.T, s *service, other string) {
	assert.Equal(t, s.get("/openapi.json").text, same(t, s.base, other, "GET", "/openapi.json", ""))
	compareAll(t, s, other)
	for _, path := range []string{
		"/api/hives?filter=apiary.name%20LIKE%20'N%25'&sortby=-weight_kg&with=apiary,queen,inspections(limit:2)&count=true", "/api/hives?filter=frames%20%3E", "/api/hives?temperament=grumpy", "/api/hives/0", "/api/hives/x",
		"/api/hives?f=csv", "/api/hives?f=xml&limit=3", "/api/inspections?limit=none&f=ndjson", "/api/hives/summary?by=temperament&measure=count,avg(weight_kg)", "/api/inspection-photos/1/photo", "/api/v1/boxes?limit=2", "/api/queries/best-apiaries?since=2020-01-01", "/api/queries/search-hives?most=3&sort=heaviest&temperament=calm", "/api/queries/search-hives?most=3", "/api/queries/hives-of-keepers?keepers=1&keepers=2&keepers=3", "/api/queries/hives-of-keepers",
		"/api/queries/last-inspection?hive_id=1", "/api/queries/last-inspection?hive_id=99999", "/api/queries/last-inspection?hive_id=x", "/api/queries/best-apiaries?since=2020-01-01&f=ndjson", "/api/apiary-yields", "/nothing",
	} {
		same(t, s.base, other, "GET", path, "")
	}
	for _, c := range []struct{ method, path, body string }{
		{"PATCH", "/api/hives/1", `{"frames":12}`}, {"PATCH", "/api/hives/1", `{"frames":99,"x":1}`}, {"PUT", "/api/hives/2", `{"apiary_id":1,"name":"Two"}`}, {"POST", "/api/hives", `{"apiary_id":1,"name":"Two"}`}, {"POST", "/api/hives", `{"apiary_id":999,"name":"New"}`},
		{"POST", "/api/hives", "{"}, {"DELETE", "/api/apiaries/1", ""}, {"PUT", "/api/apiaries/1/forages/2", ""}, {"PATCH", "/api/hives?apiary_id=2", `{"is_active":false}`}, {"DELETE", "/api/hives", ""}, {"POST", "/api/hives/1/inspections", `{}`}, {"POST", "/api/batch", `{"calls":[]}`}, {"POST", "/api/queries/close-hives", `{"apiary_id":2}`}, {"POST", "/api/queries/close-hives", `{}`},
	} {
		same(t, s.base, other, c.method, c.path, c.body)
	}
}

// withRecords have composite values, which are texts in the preview.
var withRecords = []string{"/api/every-types", "/api/everythings", "/api/many-records"}

// compareAll reads each collection of the document and what its first rows are
// related to, from both.
func compareAll(t *testing.T, s *service, other string) {
	t.Helper()
	doc := s.read()
	for _, path := range doc.collections() {
		if slices.Contains(withRecords, path) {
			continue
		}
		text := same(t, s.base, other, "GET", path+"?limit=3", "")
		same(t, s.base, other, "GET", path+"/summary?measure=count", "")
		same(t, s.base, other, "GET", path+"?limit=1000&f=ndjson", "")
		for link := range doc.Paths {
			rest, below := strings.CutPrefix(link, path+"/{key}")
			if !below || strings.Contains(rest, "{") || !strings.Contains(text, `"id":1,`) {
				continue
			}
			same(t, s.base, other, "GET", path+"/1"+rest, "")
		}
	}
}

// testPreviewOf compares both on a schema that has everything.
func testPreviewOf(t *testing.T, s *service, folder, engine string) {
	p := newPreview(t, folder, true)
	compareAll(t, s, p.URL)
	for _, c := range map[string][][3]string{
		dialects.Postgres: {{"GET", "/api/routines/add-up?a=2&b=3"}, {"POST", "/api/routines/add-up", `{"a":2,"b":3}`}, {"GET", "/api/routines/list-hives?lowest=0"}, {"POST", "/api/routines/do-nothing", `{"n":7}`}, {"GET", "/api/routines/add-up?a=2147483647&b=1"}},
		dialects.MySQL:    {{"GET", "/api/routines/add-up?a=2&b=3.5"}, {"POST", "/api/routines/swap", `{"a":4,"c":"xyz"}`}, {"POST", "/api/routines/nothing"}},
	}[engine] {
		same(t, s.base, p.URL, c[0], c[1], c[2])
	}
}

// TestPreviewOnlyReads refuses to store anything unless it was asked to.
func TestPreviewOnlyReads(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	p := newPreview(t, folder, false)
	for _, c := range []struct{ method, path string }{{"POST", "/api/hives"}, {"PATCH", "/api/hives/1"}, {"DELETE", "/api/hives/1"}, {"PUT", "/api/hives/1"}, {"POST", "/api/batch"}, {"POST", "//api/batch"}, {"POST", "/desk/../api/hives"}, {"POST", "/desk/new/hives"}, {"POST", "/desk/remove/hives/1"}} {
		req, err := http.NewRequest(c.method, p.URL+c.path, strings.NewReader(`{}`))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultTransport.RoundTrip(req)
		require.NoError(t, err)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		assert.Contains(t, []int{403, 307, 405}, res.StatusCode, "%s %s: %s", c.method, c.path, text)
	}
}
